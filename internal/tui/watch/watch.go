package watch

import (
	"fmt"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/fleet"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// View shows a run: a track per worker on one time axis, the results as they arrive, and the facts about the one
// under the cursor.
type View struct {
	leg.Base
	session  *leg.Session
	keyMap   keyMap
	Run      *progress.Run // nil before the first
	Idle     string        // what a run of the pick would be, in words
	Filter   Filter
	List     []*run.Result // what the filter holds, the oldest first
	taken    int           // how many of the run's results the filter has seen
	at       int           // of the list, 0 is the newest
	seen     int           // how many there were when at was set
	top      int
	detail   bool            // on a narrow screen, the detail covers the list
	unfolded bool            // all steps are shown
	listTop  int             // the row at which the list begins, for clicks
	source   leg.Source      // around the place of the failure under the cursor
	behind   []*progress.Run // that go on, and are not shown
	OnChange bool            // changed files run what they touch
	Follows  bool            // the runs of other processes are shown
	Fleet    *FleetRun       // the run of many machines that is shown; nil for none
}

// What a filter may show.
const (
	showBad       = "failures"
	ShowFailed    = "failed"
	showErrored   = "errored"
	showTimedOut  = "timed-out"
	showRecovered = "passed, bad before"
	showOdd       = "flaky, owed, surprise"
	showSkipped   = "skipped, lost"
	ShowAll       = "done"
)

// keyMap has the keys of the view.
type keyMap struct{ panel, edit, again, all, hunt, cancel, move, filter, narrow, hold, onChange, unfold key.Binding }

func newKeyMap() keyMap {
	return keyMap{
		panel:    leg.KeyPanel,
		edit:     key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "editor")),
		again:    key.NewBinding(key.WithKeys("r"), key.WithHelp("r", "run again")),
		all:      key.NewBinding(key.WithKeys("R"), key.WithHelp("R", "all failed")),
		hunt:     key.NewBinding(key.WithKeys("h"), key.WithHelp("h", "hunt")),
		cancel:   key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "end it")),
		move:     key.NewBinding(key.WithHelp("↑↓", "results")),
		filter:   key.NewBinding(key.WithKeys("f"), key.WithHelp("f", "filter")),
		narrow:   key.NewBinding(key.WithKeys("F"), key.WithHelp("F", "by group, text")),
		hold:     key.NewBinding(key.WithKeys("space"), key.WithHelp("space", "hold")),
		onChange: key.NewBinding(key.WithKeys("c"), key.WithHelp("c", "on change")),
		unfold:   key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "steps")),
	}
}

// Reset begins again with another run; the filter stays.
func (v *View) Reset() {
	v.List, v.taken, v.at, v.top, v.seen, v.unfolded = nil, 0, 0, 0, 0, false
}

// New returns the leg.
func New(s *leg.Session) *View {
	return &View{session: s, keyMap: newKeyMap(), Filter: Filter{Show: showBad}}
}

func (v *View) See(s *leg.Session) tea.Cmd {
	v.session = s
	return nil
}

func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case FilterMsg:
		v.SetFilter(Filter(msg))
	case leg.SourceReadMsg:
		v.source.Take(msg)
	}
	return nil
}

// Show shows another run. The one before is still followed, out of sight, if it goes on: it is kept once it is followed to its end.
func (v *View) Show(r *progress.Run) {
	if v.Run != nil && v.Run != r && isBusy(v.Run) {
		v.behind = append(v.behind, v.Run)
	}
	v.Run = r
	v.Reset()
}

// places has the places of the parts of the view.
type places struct {
	tracks    int     // that are shown
	rows, air int     // of each
	below     int     // the first row of the list and the detail
	machines  []block // of a fleet run
	fleetRows int     // that they take
	more      int     // machines that there is no room for
	half      int     // columns of the list
}

func (v View) places(width, height int) places {
	p := places{rows: 2, air: 1, half: width}
	switch n := len(v.Run.Tracks); {
	case height < 4+3*n+14:
		p.rows, p.air = 1, 0
	case n > 6:
		p.rows, p.air = 1, 1
	}
	p.tracks = min(len(v.Run.Tracks), max(2, (height-12)/(p.rows+p.air)))
	tracks := p.tracks * (p.rows + p.air)
	if v.Run.Fleet != nil {
		p.machines, p.fleetRows, p.more = blocksOf(v.Run, max(4, height-14))
		tracks = p.fleetRows
		if height > tracks+20 {
			tracks++ // air above the first
		}
	}
	p.below = 2 + tracks + 3
	if width >= screen.WideScreen {
		p.half = width * 9 / 20
	}
	return p
}

// resultsShown returns how many results are listed in a number of rows.
func resultsShown(height int) int { return max(1, (height-2)/resultRows) }

// Fit lists what has landed and reads the source of the failure under the cursor.
func (v *View) Fit(width, height int) tea.Cmd {
	if v.Run == nil {
		return nil
	}
	v.catchUp()
	p := v.places(width, height)
	v.listTop = p.below + 2
	v.top = screen.Follow(v.top, v.at, resultsShown(height-p.below), len(v.List))
	r := v.Current()
	if r == nil {
		return nil
	}
	return v.source.Read(v.session.App.Project, leg.Place{File: r.File, Line: r.Line}, r.Line-2, r.Line+1)
}

func (v *View) Name() string { return "Watch" }

func (v *View) Figure() (string, bool) {
	run := v.Run
	if run == nil {
		return "–", false
	}
	progress := fmt.Sprintf("%d/%d", run.Run.Done(), run.Total)
	if len(run.Bad) > 0 {
		return fmt.Sprintf("▲%d %s", len(run.Bad), progress), true
	}
	return progress, false
}

func (v *View) Keys() []key.Binding {
	k := v.keyMap
	return []key.Binding{k.hunt, k.move, k.edit, k.again, k.all, k.cancel, k.hold, k.filter, k.narrow, k.unfold, k.onChange, k.panel, leg.KeyDraw}
}

func (v *View) Press(msg tea.KeyPressMsg) tea.Msg {
	run := v.Run
	switch {
	case key.Matches(msg, v.keyMap.onChange):
		v.OnChange = !v.OnChange
		if v.OnChange {
			return leg.SayMsg("on change: saving a file runs the picked tests that it touches; c ends that")
		}
		return leg.SayMsg("on change is off")
	case key.Matches(msg, v.keyMap.panel):
		v.detail = !v.detail
	case run == nil && key.Matches(msg, v.keyMap.again):
		return v.session.RunPick()
	case run == nil && key.Matches(msg, v.keyMap.all):
		return leg.Background(rerunLatest(v.session.App))
	}
	if run == nil {
		if key.Matches(msg, v.keyMap.hunt, v.keyMap.edit, v.keyMap.cancel, v.keyMap.hold, v.keyMap.filter, v.keyMap.narrow, v.keyMap.unfold, leg.KeyDraw) {
			return leg.SayMsg("nothing has run in this session: r runs the pick, R what failed in the latest run")
		}
		return nil
	}
	v.catchUp()
	switch {
	case key.Matches(msg, v.keyMap.cancel):
		return v.stop(run)
	case key.Matches(msg, v.keyMap.hold):
		return v.hold(run)
	case key.Matches(msg, v.keyMap.filter):
		v.SetFilter(Filter{Show: nextShow(run, v.Filter.Show), Group: v.Filter.Group, Text: v.Filter.Text})
		return nil
	case key.Matches(msg, v.keyMap.narrow):
		return leg.OpenSheetMsg{Sheet: v.filterSheet()}
	case key.Matches(msg, leg.KeyDraw) && !run.Ended:
		return leg.SayMsg("d draws the run once it has ended")
	case key.Matches(msg, leg.KeyDraw):
		return leg.DrawRun(v.session.App.Project.Name, run.Number, run.Run)
	case key.Matches(msg, v.keyMap.all) && len(run.Bad) == 0:
		return leg.SayMsg("no test of this run failed: there is nothing to run again")
	case key.Matches(msg, v.keyMap.all):
		return leg.StartRunMsg{Tests: v.tests(run.Bad), Needs: true}
	}
	return v.pressResult(msg, v.Current())
}

// pressResult takes a key for the result under the cursor, nil for none.
func (v *View) pressResult(msg tea.KeyPressMsg, r *run.Result) tea.Msg {
	switch {
	case r != nil:
	case key.Matches(msg, v.keyMap.again):
		return v.session.RunPick()
	case key.Matches(msg, v.keyMap.hunt) && len(v.Run.Recovered) > 0:
		return leg.StartHuntMsg{Victims: v.tests(v.Run.Recovered)}
	case key.Matches(msg, v.keyMap.hunt, v.keyMap.edit, v.keyMap.unfold):
		return leg.SayMsg("no result is under the cursor: f lists others")
	default:
		return nil
	}
	one := v.tests([]*run.Result{r})
	switch {
	case key.Matches(msg, v.keyMap.hunt):
		return leg.StartHuntMsg{Victims: one}
	case key.Matches(msg, v.keyMap.again):
		return leg.StartRunMsg{Tests: one, Needs: true}
	case key.Matches(msg, v.keyMap.edit):
		return leg.EditFileMsg{File: r.File, Line: r.Line}
	case key.Matches(msg, v.keyMap.unfold):
		v.unfolded = !v.unfolded
		return nil
	}
	v.at = screen.Moved(v.at, msg.String(), len(v.List))
	return nil
}

// rerunLatest runs again what failed in the latest run of the ledger.
func rerunLatest(r *app.App) tea.Cmd {
	return func() tea.Msg {
		victims, err := r.Victims()
		switch {
		case err != nil:
			return leg.SayMsg(err.Error())
		case len(victims) == 0:
			return leg.SayMsg("nothing failed in the latest run: there is nothing to run again")
		}
		return leg.StartRunMsg{Tests: victims, Needs: true}
	}
}

func (v *View) stop(run *progress.Run) tea.Msg {
	switch {
	case run.Ended:
		return leg.SayMsg("the run has ended")
	case run.Cancel == nil:
		return leg.SayMsg("this run belongs to another process: end it there")
	}
	run.Stop()
	if run.Stopping {
		return leg.SayMsg("finishing the running tests and starting no more; x again stops at once")
	}
	return nil
}

func (v *View) hold(run *progress.Run) tea.Msg {
	switch {
	case run.Ended:
		return leg.SayMsg("the run has ended")
	case run.Cancel == nil:
		return leg.SayMsg("this run belongs to another process")
	}
	run.Hold()
	if run.Held {
		return leg.SayMsg("held: workers finish their batches and take no more; space lets them continue")
	}
	return leg.SayMsg("workers take batches again")
}

// newest returns the result at a place of the list, counted from the newest.
func (v *View) newest(at int) *run.Result { return v.List[len(v.List)-1-at] }

// tests returns the tests of results.
func (v *View) tests(results []*run.Result) []catalog.Test {
	var tests []catalog.Test
	for _, r := range results {
		if t, ok := v.session.Picked.Catalog.Lookup(r.ID); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}

// Current returns the result under the cursor, nil if nothing is listed.
func (v *View) Current() *run.Result {
	if v.Run == nil || len(v.List) == 0 {
		return nil
	}
	return v.newest(v.at)
}

func (v *View) Click(_, y int) {
	if y >= v.listTop && len(v.List) > 0 {
		v.at = min(v.top+(y-v.listTop)/resultRows, len(v.List)-1)
	}
}

func (v View) Draw(c screen.Canvas) {
	run := v.Run
	if run == nil {
		v.drawIdle(c)
		return
	}
	v.drawCounts(c, run)
	p := v.places(c.Width, c.Height)
	tracks := c.Sub(0, 2, c.Width, p.below-3)
	if run.Fleet != nil {
		v.drawMachines(tracks, run, p)
	} else {
		v.drawTracks(tracks, run, p)
	}
	if p.half == c.Width && v.detail {
		v.drawDetail(c.Sub(2, p.below, c.Width-4, c.Height-p.below))
		return
	}
	v.drawResults(c.Sub(0, p.below, p.half, c.Height-p.below), run)
	if p.half < c.Width {
		v.drawDetail(c.Sub(p.half+2, p.below, c.Width-p.half-3, c.Height-p.below))
	}
}

func (v View) drawIdle(c screen.Canvas) {
	t := c.Theme
	words := "Nothing runs yet."
	if v.Fleet != nil {
		words = fmt.Sprintf("Waiting for the fleet run %s at the station %s.", plain.Line(v.Fleet.ID), plain.Line(fleet.Redact(v.Fleet.Station.URL)))
	} else if v.Follows {
		words = "Nothing runs in this project. A run that begins in another terminal shows here."
	}
	c.Text(2, 1, screen.Style{Colour: t.Ink, Bold: true}, words)
	c.Text(2, 3, screen.Style{Colour: t.Fog}, v.Idle)
}
