// Package tui is the full-screen application: one frame around the legs of the work.
//
//	err := tui.Run(ctx, project)
//
// Each leg is a [leg.Leg] in a folder of its own, and a line in [New]. A leg changes only when it takes a message; what it wants from
// the rest of the application it asks for with a message, which is handled here in one place. Drawing changes nothing and reads no file:
// everything that takes time or touches the disk is a tea.Cmd. What goes on beside the interface is put into inboxes, which Update
// empties before each frame.
package tui

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/progress"
	"fernrelay/internal/project"
	huntleg "fernrelay/internal/tui/hunt"
	ledgerleg "fernrelay/internal/tui/ledger"
	"fernrelay/internal/tui/leg"
	matrixleg "fernrelay/internal/tui/matrix"
	"fernrelay/internal/tui/screen"
	splitleg "fernrelay/internal/tui/split"
	surveyleg "fernrelay/internal/tui/survey"
	watchleg "fernrelay/internal/tui/watch"
	"fernrelay/internal/wording"
)

// The legs, by their places.
const (
	legSurvey = iota
	legSplit
	legWatch
	legHunt
	legLedger
	legMatrix
)

// The least size of a terminal.
const (
	leastWidth  = 80
	leastHeight = 24
)

// App is the Bubble Tea model of the application.
type App struct {
	ctx           context.Context
	session       *leg.Session
	legs          []leg.Leg
	leg           int
	split         *splitleg.View
	watch         *watchleg.View
	hunt          *huntleg.View
	ledger        *ledgerleg.View
	matrix        *matrixleg.View
	line          pickLine
	help          bool
	helpPage      int
	width, height int
	cells         uv.Buffer // of the frame
	now           time.Time // of the latest message
	dark          bool
	profile       colorprofile.Profile
	revision      string
	message       string        // about what went wrong last
	broken        string        // what keeps the project from being read again, until it is mended
	sheet         *screen.Sheet // nil if there is none
	changes       []leg.Change  // of the project, to be made one after the other
	changing      bool
	files         []string       // that changed and have not been looked at yet
	waiting       []catalog.Test // to be hunted once the run that ended is kept
	preparing     bool           // a run is being prepared
	ticking       bool
	quits         int            // how often it was asked to end
	asked         bool           // whether to end what runs
	copying       string         // what the terminal has not confirmed that it copied
	hints         bool           // it is known which legs were used before
	used          []string       // the names of these legs, and of those used since
	jobs          sync.WaitGroup // runs and hunts
}

// New returns the application on an open project.
func New(ctx context.Context, r *app.App) (*App, error) {
	s := &leg.Session{App: r, Theme: screen.NewTheme(nil, true, colorprofile.TrueColor)}
	var err error
	if s.Picked, err = leg.Evaluate(r.Tests, firstPick(r), nil); err != nil {
		return nil, err
	}
	a := &App{ctx: ctx, session: s, dark: true, profile: colorprofile.TrueColor, now: time.Now(), line: newPickLine()}
	a.split, a.watch, a.hunt, a.ledger, a.matrix = splitleg.New(s), watchleg.New(s), huntleg.New(s), ledgerleg.New(s), matrixleg.New(s)
	a.legs = []leg.Leg{surveyleg.New(s), a.split, a.watch, a.hunt, a.ledger, a.matrix}
	a.message = noteWords(r.Notes)
	return a, nil
}

// firstPick returns the pick to begin with: in a folder of the project, its tests if it has any.
func firstPick(r *app.App) string {
	if r.Project.Below == "" {
		return ""
	}
	text := pick.Field("in", r.Project.Below)
	if tests, err := r.Pick(text); err != nil || len(tests) == 0 {
		return ""
	}
	return text
}

// share replaces the session by a changed one.
func (a *App) share(change func(s *leg.Session)) tea.Cmd {
	s := *a.session
	change(&s)
	a.session = &s
	var cmds []tea.Cmd
	for _, leg := range a.legs {
		cmds = append(cmds, leg.See(&s))
	}
	return tea.Batch(cmds...)
}

type (
	tickMsg     time.Time
	revisionMsg string
	editedMsg   struct{ err error }
	lookMsg     struct{}
	touchedMsg  struct{ run *progress.Run } // files changed that touch what it runs
	runReadyMsg struct {
		request app.Request
		live    *progress.Run
		err     error
	}
	filesMsg   []string // that changed, by their absolute paths
	watchedMsg struct{ err error }
	changedMsg struct {
		app   *app.App
		asked leg.Change
		err   error
	}
)

// Init asks the terminal for its background and git for the revision.
func (a *App) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, a.split.Planner.Advise(), a.look(), a.hunt.Recall(), recallHints, func() tea.Msg { return revisionMsg(project.Revision(a.ctx, a.session.App.Project.Dir)) })
}

// Update takes a message, and lays out what is shown.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	a.now = time.Now()
	return a, tea.Batch(a.take(msg), a.fit())
}

// fit lays out the leg that is shown.
func (a *App) fit() tea.Cmd {
	if a.width < leastWidth || a.height < leastHeight {
		return nil
	}
	if a.line.editing {
		a.line.input.SetWidth(a.pickRoom() - 1) // it scrolls if the pick is longer
	}
	if a.sheet != nil {
		a.sheet.Fit(a.width)
	}
	if a.watch.Run == nil {
		a.watch.Idle = a.idleWords()
	}
	return a.legs[a.leg].Fit(a.width, a.height-topRows-bottomRows)
}

// idleWords says what a run of the pick would be.
func (a *App) idleWords() string {
	return fmt.Sprintf("r runs the pick: %d tests on %s, about %s",
		len(a.session.Picked.Selected), wording.Plural(a.split.Workers(), "worker"), history.Clock(a.split.Plan().Finish))
}

// take takes a message.
func (a *App) take(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.width, a.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		a.dark = msg.IsDark()
		return a.share(func(s *leg.Session) { s.Theme = screen.NewTheme(msg.Color, a.dark, a.profile) })
	case tea.ColorProfileMsg:
		a.profile = msg.Profile
		return a.share(func(s *leg.Session) { s.Theme = screen.NewTheme(s.Theme.Background, a.dark, a.profile) })
	case tea.MouseWheelMsg:
		return a.wheel(msg.Mouse())
	case tea.MouseClickMsg:
		a.click(msg.Mouse())
		return a.legs[a.leg].Visit()
	case tea.KeyPressMsg:
		return a.press(msg)
	case tea.PasteMsg:
		switch {
		case a.sheet != nil:
			return a.sheet.Paste(msg)
		case a.line.editing:
			return a.line.update(msg, a.session)
		}
	case editedMsg:
		a.complain(msg.err)
	case hintsMsg:
		a.hints, a.used = true, msg.used
	case leg.DrawnMsg:
		a.drawn(msg)
	case pickedMsg:
		if figures, ok := a.line.take(msg); ok {
			return a.share(func(s *leg.Session) {
				if s.Picked = figures; !figures.Fixed {
					s.Begun = nil
				}
			})
		}
	default:
		cmds := []tea.Cmd{a.takeAsk(msg), a.takeWork(msg), a.takeProject(msg)}
		for _, leg := range a.legs {
			cmds = append(cmds, leg.Update(msg))
		}
		return tea.Batch(cmds...)
	}
	return nil
}

// takeAsk does what a view asks for.
func (a *App) takeAsk(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case leg.Background:
		return tea.Cmd(msg)
	case leg.SayMsg:
		a.message = string(msg)
	case leg.SetPickMsg:
		return a.line.set(string(msg), a.session)
	case leg.UndoPickMsg:
		return a.line.undo(a.session)
	case leg.OpenSheetMsg:
		a.sheet = msg.Sheet
		return a.sheet.Open()
	case watchleg.FilterMsg:
		a.sheet = nil
	case leg.CloseSheetMsg:
		if a.sheet == msg.Sheet {
			a.sheet = nil
		}
	case leg.CancelMsg:
		a.cancelAll()
	case leg.CopyMsg:
		return a.copy(string(msg))
	case tea.ClipboardMsg:
		a.confirm(msg.Content)
	case uncopiedMsg:
		return a.uncopied(string(msg))
	case leg.StartRunMsg:
		return a.startRun(msg)
	case matrixleg.StartMsg:
		return a.startMatrix(msg)
	case matrixleg.WatchCrossingMsg:
		a.watchCrossing(msg.Live)
	case matrixleg.HuntCrossingMsg:
		return a.huntCrossing(msg)
	case leg.StartHuntMsg:
		return a.startHunt(msg)
	case leg.HuntTestMsg:
		return a.huntTest(string(msg))
	case leg.StartSearchMsg:
		return a.startSearch()
	case huntleg.MendMsg:
		return a.mend(msg)
	case leg.GoToMsg:
		a.leg = slices.IndexFunc(a.legs, func(l leg.Leg) bool { return l.Name() == string(msg) })
	case leg.EditFileMsg:
		return a.editor(leg.Place(msg))
	case leg.EditTestMsg:
		t, ok := a.session.Picked.Catalog.Lookup(string(msg))
		if !ok {
			a.message = "the project no longer has this test"
			return nil
		}
		return a.editor(leg.Place{File: t.File, Line: t.Line})
	case editorReadyMsg:
		return tea.ExecProcess(msg.cmd, func(err error) tea.Msg { return editedMsg{err} })
	}
	return nil
}

func (a *App) complain(err error) {
	if err != nil {
		a.message = err.Error()
	}
}

// drawn takes the result of a drawing.
func (a *App) drawn(msg leg.DrawnMsg) {
	switch {
	case msg.Err != nil:
		msg.Sheet.Wrong = msg.Err.Error()
	case a.sheet == msg.Sheet:
		a.sheet = nil
		fallthrough
	default:
		a.message = "written: " + plain.Line(msg.File)
	}
}

// The keys that work in every view.
var (
	keyQuit = key.NewBinding(key.WithKeys("q", "ctrl+c"), key.WithHelp("q", "quit"))
	keyPick = key.NewBinding(key.WithKeys("/"), key.WithHelp("/", "pick"))
	keyHelp = key.NewBinding(key.WithKeys("?"), key.WithHelp("?", "keys"))
)

func (a *App) press(msg tea.KeyPressMsg) tea.Cmd {
	if msg.String() == "ctrl+c" {
		return a.quit()
	}
	if a.sheet != nil {
		cmd, closed := a.sheet.Press(msg)
		if closed {
			a.sheet = nil
		}
		return cmd
	}
	if a.line.editing {
		return a.line.update(msg, a.session)
	}
	a.message = ""
	asked := a.asked
	a.asked = false
	if a.help {
		a.pressHelp(msg.String())
		return nil
	}
	switch {
	case key.Matches(msg, keyQuit):
		if words := a.unfinishedWork(); words != "" && !asked && a.quits == 0 {
			a.asked, a.message = true, words+": q again ends it, any other key lets it go on"
			return nil
		}
		return a.quit()
	case key.Matches(msg, keyHelp):
		a.help = true
		return nil
	case key.Matches(msg, keyPick):
		return a.line.edit(a.session)
	}
	if n, err := strconv.Atoi(msg.String()); err == nil && n >= 1 && n <= len(a.legs) {
		a.leg = n - 1
		return a.legs[a.leg].Visit()
	}
	used := a.useLeg(msg.String())
	return tea.Batch(used, a.take(a.legs[a.leg].Press(msg)))
}

// unfinishedWork says what would not come to its end if the application ended now, "" for nothing.
func (a *App) unfinishedWork() string {
	run := a.watch.Going()
	switch {
	case !a.working() || run != nil && run.Cancel == nil:
		return ""
	case run != nil:
		return fmt.Sprintf("a run is going, and %s would be lost", wording.Plural(run.Total-run.Run.Done(), "test"))
	case a.preparing:
		return "a run is being prepared"
	case a.matrix.Busy():
		return "crossings are running"
	}
	return "a hunt is going"
}

// quit ends the application once what runs has come to its end and is kept; asked
// again it ends what runs, and a third time it leaves at once.
func (a *App) quit() tea.Cmd {
	run := a.watch.Going()
	foreign := run != nil && run.Cancel == nil
	a.quits++
	if !a.working() || a.quits > 2 || foreign || a.preparing {
		return tea.Quit
	}
	if a.quits == 1 && run != nil && !run.Stopping {
		a.message = "finishing the running tests; q again stops them"
		run.Stop()
		return nil
	}
	a.message = "stopping, and keeping what there is; q again quits at once"
	a.cancelAll()
	return nil
}

func (a *App) wheel(m tea.Mouse) tea.Cmd {
	if a.sheet != nil {
		return nil
	}
	code := tea.KeyDown
	if m.Button == tea.MouseWheelUp {
		code = tea.KeyUp
	}
	return a.take(a.legs[a.leg].Press(tea.KeyPressMsg{Code: code}))
}

func (a *App) click(m tea.Mouse) {
	if a.sheet != nil {
		return
	}
	if m.Y == relayRow {
		if leg := a.legAt(m.X); leg >= 0 {
			a.leg = leg
		}
		return
	}
	a.legs[a.leg].Click(m.X, m.Y-topRows)
}
