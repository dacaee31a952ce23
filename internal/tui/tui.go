// Package tui is the application: one frame around the legs of the work, each
// leg a view with its keys beside it. Views draw from figures that were added up
// when the data changed.
package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/mattn/go-shellwords"

	"fernrelay/core/catalog"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/project"
)

// view is one leg of the work.
type view interface {
	// name is the leg's name, figure the one number that matters there.
	name() string
	figure() (text string, alarm bool)
	// press takes a key; do is what follows from it.
	press(msg tea.KeyPressMsg) action
	// click takes a mouse click, in the view's own cells.
	click(x, y int)
	draw(c canvas)
	keys() []key.Binding
}

// action is what a view asks the application to do. The zero value asks nothing.
type action struct {
	run      []catalog.Test
	planning *planning // how to run them, where that is planned
	plan     bool      // to plan anew, as other things are wanted
	hunt     []catalog.Test
	verify   bool // only try once more what is known of them
	search   bool // for tests to hunt
	edit     place
	pick     string // a new pick, where setPick
	undo     bool
	cancel   bool
	copied   string
	hunted   string  // the victim whose hunt is to be shown
	cmd      tea.Cmd // what is to be worked out beside the interface
	say      string  // what there is to tell, as why there is nothing to do
	sheet    *sheet

	setPick bool
}

type place struct {
	file string // relative to the project
	line int
}

// The legs that the application goes to by itself.
const (
	legWatch  = 2
	legHunt   = 3
	legLedger = 4
)

// The least size of a terminal.
const (
	leastWidth  = 80
	leastHeight = 24
)

// App is the Bubble Tea model of the application.
type App struct {
	ctx           context.Context
	session       *session
	legs          []view
	leg           int
	split         *splitView
	watch         *watch
	hunt          *huntView
	ledger        *ledgerView
	line          pickLine
	help          bool
	width, height int
	dark          bool
	profile       colorprofile.Profile
	revision      string
	message       string   // of what went wrong last
	broken        string   // what keeps the project from being read again, until it is mended
	sheet         *sheet   // nil where nothing is asked
	changes       []change // to be made of the project, one after the other
	changing      bool
	files         []string       // that changed and have not been looked at yet
	waiting       []catalog.Test // to be hunted once the run that ended is kept
	ticking       bool
	quits         int            // how often it was asked to end
	jobs          sync.WaitGroup // runs and hunts
}

// New makes the application on an open project.
func New(ctx context.Context, r *app.App) (*App, error) {
	s := &session{app: r}
	var err error
	if s.picked, err = evaluate(r.Tests, ""); err != nil {
		return nil, err
	}
	s.planner.want = splitting{together: r.Together(), shards: min(r.Workers(), maxShards)}
	first := s.planner.ask(s, false)().(plannedMsg)
	s.planner.answered, s.planner.have = first.asked, first.planning
	a := &App{ctx: ctx, session: s, dark: true, profile: colorprofile.TrueColor, line: newPickLine()}
	a.watch = &watch{session: s}
	a.hunt = &huntView{session: s}
	a.split = &splitView{session: s}
	a.ledger = newLedgerView(s)
	a.legs = []view{newSurvey(s), a.split, a.watch, a.hunt, a.ledger}
	s.theme = newTheme(nil, a.dark, a.profile)
	a.message = noteWords(r.Notes)
	return a, nil
}

// Run shows the application until it is quit.
func Run(ctx context.Context, r *app.App) error {
	return show(ctx, r, func(*App) {})
}

// Follow shows the application on the runs that other processes do in the project.
func Follow(ctx context.Context, r *app.App) error {
	return show(ctx, r, func(a *App) { a.watch.follows, a.leg = true, legWatch })
}

func show(ctx context.Context, r *app.App, prepare func(a *App)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a, err := New(ctx, r)
	if err != nil {
		return err
	}
	prepare(a)
	p := tea.NewProgram(a, tea.WithContext(ctx), tea.WithFPS(30))
	go func() {
		if err := project.Watch(ctx, r.Project.Dir, func(files []string) { p.Send(filesMsg(files)) }); err != nil {
			p.Send(watchedMsg{err})
		}
	}()
	_, err = p.Run()
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		err = ctx.Err()
	}
	a.stop()
	return err
}

// stop ends what still runs and waits for it, so that no process is left.
func (a *App) stop() {
	a.cancelAll()
	ended := make(chan struct{})
	go func() {
		a.jobs.Wait()
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(stopPatience):
	}
}

// stopPatience is how long runs and hunts may take to end once they are cancelled.
const stopPatience = 5 * time.Second

// job is a command that the application waits for before it ends.
func (a *App) job(cmd tea.Cmd) tea.Cmd {
	a.jobs.Add(1)
	return func() tea.Msg {
		defer a.jobs.Done()
		return cmd()
	}
}

type (
	tickMsg     time.Time
	revisionMsg string
	editedMsg   struct{ err error }
	sayMsg      string // what there is to tell
	drawnMsg    struct {
		sheet *sheet
		file  string
		err   error
	}
	filterMsg   filter
	lookMsg     struct{}
	followedMsg struct {
		run  *liveRun
		wait tea.Cmd
	}
	unfollowedMsg struct{ err error }
	touchedMsg    struct{ run *liveRun } // files changed that touch what it runs
	rerunMsg      struct {               // what changed files touch
		request app.Request
		err     error
	}
	filesMsg   []string // that changed, by their absolute paths
	watchedMsg struct{ err error }
	changedMsg struct {
		app   *app.App
		asked change
		err   error
	}
)

// Init asks the terminal for its background and git for the revision.
func (a *App) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, a.session.planner.advise(), a.look(), a.recallHunts(), func() tea.Msg { return revisionMsg(project.Revision(a.ctx, a.session.app.Project.Dir)) })
}

// Update takes a message.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.width, a.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		a.dark = msg.IsDark()
		a.session.theme = newTheme(msg.Color, a.dark, a.profile)
	case tea.ColorProfileMsg:
		a.profile = msg.Profile
		a.session.theme = newTheme(a.session.theme.background, a.dark, a.profile)
	case tea.MouseWheelMsg:
		return a, a.wheel(msg.Mouse())
	case tea.MouseClickMsg:
		a.click(msg.Mouse())
		return a, a.visit()
	case tea.KeyPressMsg:
		return a, a.press(msg)
	case tea.PasteMsg:
		switch {
		case a.sheet != nil:
			return a, a.sheet.paste(msg)
		case a.line.editing:
			return a, a.line.update(msg, a.session)
		}
	case sayMsg:
		a.message = string(msg)
	case editedMsg:
		a.complain(msg.err)
	case drawnMsg:
		a.drawn(msg)
	case filterMsg:
		a.sheet = nil
		a.watch.setFilter(filter(msg))
	case pickedMsg:
		if a.line.take(msg, a.session) {
			return a, tea.Batch(a.session.planner.ask(a.session, false), a.ledger.arrange())
		}
	case plannedMsg:
		cmd := a.session.planner.take(msg)
		a.split.planned()
		return a, cmd
	case advisedMsg:
		cmd := a.session.planner.advised(msg)
		a.split.planned()
		return a, cmd
	case ledgerMsg:
		return a, msg(a.ledger)
	default:
		return a, tea.Batch(a.updateWork(msg), a.updateProject(msg))
	}
	return a, nil
}

func (a *App) complain(err error) {
	if err != nil {
		a.message = err.Error()
	}
}

// drawn takes what came of a drawing.
func (a *App) drawn(msg drawnMsg) {
	switch {
	case msg.err != nil:
		msg.sheet.wrong = msg.err.Error()
	case a.sheet == msg.sheet:
		a.sheet = nil
		fallthrough
	default:
		a.message = "written: " + plain.Line(msg.file)
	}
}

// The keys that work in every view.
var (
	keyQuit  = key.NewBinding(key.WithKeys("q", "ctrl+c"), key.WithHelp("q", "quit"))
	keyLegs  = key.NewBinding(key.WithKeys("1", "2", "3", "4", "5"), key.WithHelp("1-5", "legs"))
	keyPick  = key.NewBinding(key.WithKeys("/"), key.WithHelp("/", "pick"))
	keyHelp  = key.NewBinding(key.WithKeys("?"), key.WithHelp("?", "keys"))
	keyPanel = key.NewBinding(key.WithKeys("tab"), key.WithHelp("tab", "panel"))
)

func (a *App) press(msg tea.KeyPressMsg) tea.Cmd {
	if msg.String() == "ctrl+c" {
		return a.quit()
	}
	if a.sheet != nil {
		cmd, closed := a.sheet.press(msg)
		if closed {
			a.sheet = nil
		}
		return cmd
	}
	if a.line.editing {
		return a.line.update(msg, a.session)
	}
	a.message = ""
	if a.help {
		a.help = false
		return nil
	}
	switch {
	case key.Matches(msg, keyQuit):
		return a.quit()
	case key.Matches(msg, keyHelp):
		a.help = true
		return nil
	case key.Matches(msg, keyPick):
		return a.line.edit(a.session)
	case key.Matches(msg, keyLegs):
		a.leg = int(msg.String()[0] - '1')
		return a.visit()
	}
	return a.do(a.legs[a.leg].press(msg))
}

// visit reads what a leg shows that is not read before it is looked at.
func (a *App) visit() tea.Cmd {
	if a.leg == legLedger {
		return a.ledger.visit()
	}
	return nil
}

// quit ends the application once what runs has come to its end and is kept; asked
// again it ends what runs, and a third time it leaves at once.
func (a *App) quit() tea.Cmd {
	foreign := a.session.run != nil && a.session.run.cancel == nil
	a.quits++
	if !a.working() || a.quits > 2 || foreign {
		return tea.Quit
	}
	if run := a.session.run; a.quits == 1 && a.running() && !run.stopping {
		a.message = "what runs comes to its end and is kept; q again stops it"
		run.stop()
		return nil
	}
	a.message = "stopping what runs, keeping what it has; q again leaves at once"
	a.cancelAll()
	return nil
}

// do does what a view asks for.
func (a *App) do(act action) tea.Cmd {
	s := a.session
	a.message = act.say
	switch {
	case act.plan:
		return s.planner.ask(s, true)
	case act.setPick:
		return a.line.set(act.pick, s)
	case act.undo:
		return a.line.undo(s)
	case act.sheet != nil:
		a.sheet = act.sheet
		return a.sheet.open()
	case act.cancel:
		a.cancelAll()
	case act.cmd != nil:
		return act.cmd
	case act.hunted != "":
		a.leg = legHunt
		a.hunt.show(act.hunted)
	case act.copied != "":
		a.message = "copied: " + plain.Line(act.copied)
		return tea.SetClipboard(act.copied)
	case len(act.run) > 0:
		return a.startRun(act.run, act.planning)
	case len(act.hunt) > 0:
		return a.startHunt(act.hunt, act.verify)
	case act.search:
		return a.startSearch()
	case act.edit.file != "":
		return a.editor(act.edit)
	}
	return nil
}

// editor opens a place in the user's editor.
func (a *App) editor(at place) tea.Cmd {
	command := os.Getenv("VISUAL")
	if command == "" {
		command = os.Getenv("EDITOR")
	}
	words, err := shellwords.Parse(command)
	if err != nil || len(words) == 0 {
		a.message = fmt.Sprintf("%s:%d: set EDITOR to the command of your editor to open it from here", at.file, at.line)
		return nil
	}
	file, err := a.session.app.Project.SourcePath(at.file)
	if err != nil {
		a.message = err.Error()
		return nil
	}
	words = append(words, fmt.Sprint("+", at.line), file)
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Dir = a.session.app.Project.Dir
	return tea.ExecProcess(cmd, func(err error) tea.Msg { return editedMsg{err} })
}

func (a *App) wheel(m tea.Mouse) tea.Cmd {
	if a.sheet != nil {
		return nil
	}
	code := tea.KeyDown
	if m.Button == tea.MouseWheelUp {
		code = tea.KeyUp
	}
	return a.do(a.legs[a.leg].press(tea.KeyPressMsg{Code: code}))
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
	a.legs[a.leg].click(m.X, m.Y-topRows)
}
