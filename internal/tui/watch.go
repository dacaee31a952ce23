package tui

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/fleet"
)

// watch shows a run: a track per worker on one time axis, the results as they arrive, and the facts about the one
// under the cursor.
type watch struct {
	session  *session
	keyMap   watchKeyMap
	run      *liveRun // nil before the first
	idle     string   // what a run of the pick would be, in words
	filter   filter
	list     []*run.Result // what the filter holds, the oldest first
	taken    int           // how many of the run's results the filter has seen
	at       int           // of the list, 0 is the newest
	seen     int           // how many there were when at was set
	top      int
	detail   bool      // on a narrow screen, the detail covers the list
	unfolded bool      // all steps are shown
	listTop  int       // the row at which the list begins, for clicks
	source   source    // around the place of the failure under the cursor
	onChange bool      // changed files run what they touch
	follows  bool      // the runs of other processes are shown
	fleet    *fleetRun // the run of many machines that is shown; nil for none
}

// filter says which results are listed.
type filter struct{ show, group, text string }

// filterMsg asks for another filter.
type filterMsg filter

// What a filter may show.
const (
	showBad       = "failures"
	showFailed    = "failed"
	showErrored   = "errored"
	showTimedOut  = "timed-out"
	showRecovered = "passed, bad before"
	showOdd       = "flaky, owed, surprise"
	showSkipped   = "skipped, lost"
	showAll       = "done"
)

var shows = []string{showBad, showFailed, showErrored, showTimedOut, showRecovered, showOdd, showSkipped, showAll}

// holds reports whether a result of a run is listed.
func (f filter) holds(r *run.Result, live *liveRun) bool {
	shown := true
	switch f.show {
	case showBad:
		shown = r.Outcome.Bad()
	case showFailed, showErrored, showTimedOut:
		shown = string(r.Outcome) == f.show
	case showRecovered:
		shown = live.isRecovered(r)
	case showOdd:
		shown = r.Flaky || r.Outcome == run.Owed || r.Outcome == run.Surprise
	case showSkipped:
		shown = r.Outcome == run.Skipped || r.Outcome == run.Lost
	}
	if !shown || f.group == "" && f.text == "" {
		return shown
	}
	group, _ := groupAndName(r.ID)
	return strings.Contains(group, f.group) && (strings.Contains(r.ID, f.text) || strings.Contains(r.Message, f.text))
}

// nextShow returns what to show after something else: the next that has results, or the failures.
func nextShow(l *liveRun, show string) string {
	counts := l.run.Counts
	results := map[string]int{showBad: 1, showFailed: counts[run.Failed], showErrored: counts[run.Errored], showTimedOut: counts[run.TimedOut],
		showRecovered: len(l.recovered), showOdd: l.flaky + counts[run.Owed] + counts[run.Surprise], showSkipped: counts[run.Skipped] + counts[run.Lost], showAll: 1}
	if len(l.bad) == counts[run.Failed] {
		results[showFailed] = 0 // they are the failures
	}
	for at := slices.Index(shows, show) + 1; ; at++ {
		if next := shows[at%len(shows)]; results[next] > 0 {
			return next
		}
	}
}

// words says which results are listed.
func (f filter) words() string {
	words := f.show
	if f.group != "" {
		words += " in " + f.group
	}
	if f.text != "" {
		words += fmt.Sprintf(" with %q", f.text)
	}
	return words
}

// watchKeyMap has the keys of the view.
type watchKeyMap struct{ panel, edit, again, all, hunt, cancel, move, filter, narrow, hold, onChange, unfold key.Binding }

func newWatchKeyMap() watchKeyMap {
	return watchKeyMap{
		panel:    keyPanel,
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

// reset begins again with another run; the filter stays.
func (v *watch) reset() {
	v.list, v.taken, v.at, v.top, v.seen, v.unfolded = nil, 0, 0, 0, 0, false
}

// setFilter lists other results of the run.
func (v *watch) setFilter(f filter) {
	v.filter = f
	v.reset()
}

// catchUp lists what has landed since.
func (v *watch) catchUp() {
	run := v.run
	for ; v.taken < len(run.results); v.taken++ {
		if r := run.results[v.taken]; v.filter.holds(r, run) {
			v.list = append(v.list, r)
		}
	}
	if v.at > 0 { // stay on the one that is looked at while others land above it
		v.at += len(v.list) - v.seen
	}
	v.seen = len(v.list)
	v.at = max(0, min(v.at, len(v.list)-1))
}

// none says that there are no results of a run.
func (f filter) none(live *liveRun) string {
	yet := " yet"
	if live.ended {
		yet = ""
	}
	switch n := len(live.recovered); {
	case f != (filter{show: showBad}):
		return "no results" + yet + ": " + f.words()
	case n == 1:
		return "no failures" + yet + "; one test failed before and passes now: h hunts it"
	case n > 1:
		return fmt.Sprintf("no failures%s; %d tests failed before and pass now: h hunts them", yet, n)
	}
	return "no failures" + yet
}

func newWatch(s *session) *watch {
	return &watch{session: s, keyMap: newWatchKeyMap(), filter: filter{show: showBad}}
}

func (v *watch) see(s *session) tea.Cmd {
	v.session = s
	return nil
}

func (v *watch) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case filterMsg:
		v.setFilter(filter(msg))
	case sourceReadMsg:
		v.source.take(msg)
	}
	return nil
}

// show shows another run.
func (v *watch) show(r *liveRun) {
	v.run = r
	v.reset()
}

// watchPlaces has the places of the parts of the view.
type watchPlaces struct {
	tracks    int     // that are shown
	rows, air int     // of each
	below     int     // the first row of the list and the detail
	machines  []block // of a fleet run
	fleetRows int     // that they take
	more      int     // machines that there is no room for
	half      int     // columns of the list
}

func (v watch) places(width, height int) watchPlaces {
	p := watchPlaces{rows: 2, air: 1, half: width}
	switch n := len(v.run.tracks); {
	case height < 4+3*n+14:
		p.rows, p.air = 1, 0
	case n > 6:
		p.rows, p.air = 1, 1
	}
	p.tracks = min(len(v.run.tracks), max(2, (height-12)/(p.rows+p.air)))
	tracks := p.tracks * (p.rows + p.air)
	if v.run.fleet != nil {
		p.machines, p.fleetRows, p.more = blocksOf(v.run, max(4, height-14))
		tracks = p.fleetRows
		if height > tracks+20 {
			tracks++ // air above the first
		}
	}
	p.below = 2 + tracks + 3
	if width >= wideScreen {
		p.half = width * 9 / 20
	}
	return p
}

// resultsShown returns how many results are listed in a number of rows.
func resultsShown(height int) int { return max(1, (height-2)/resultRows) }

// fit lists what has landed and reads the source of the failure under the cursor.
func (v *watch) fit(width, height int) tea.Cmd {
	if v.run == nil {
		return nil
	}
	v.catchUp()
	p := v.places(width, height)
	v.listTop = p.below + 2
	v.top = follow(v.top, v.at, resultsShown(height-p.below), len(v.list))
	r := v.current()
	if r == nil {
		return nil
	}
	return v.source.read(v.session.app.Project, place{r.File, r.Line}, r.Line-2, r.Line+1)
}

func (v *watch) name() string { return "Watch" }

func (v *watch) figure() (string, bool) {
	run := v.run
	if run == nil {
		return "–", false
	}
	progress := fmt.Sprintf("%d/%d", run.run.Done(), run.total)
	if len(run.bad) > 0 {
		return fmt.Sprintf("▲%d %s", len(run.bad), progress), true
	}
	return progress, false
}

func (v *watch) keys() []key.Binding {
	k := v.keyMap
	return []key.Binding{k.hunt, k.move, k.edit, k.again, k.all, k.cancel, k.hold, k.filter, k.narrow, k.unfold, k.onChange, k.panel, keyDraw}
}

func (v *watch) press(msg tea.KeyPressMsg) tea.Msg {
	run := v.run
	switch {
	case key.Matches(msg, v.keyMap.onChange):
		v.onChange = !v.onChange
		if v.onChange {
			return sayMsg("on change: saving a file runs the picked tests that it touches; c ends that")
		}
		return sayMsg("on change is off")
	case key.Matches(msg, v.keyMap.panel):
		v.detail = !v.detail
	case run == nil && key.Matches(msg, v.keyMap.again):
		return v.session.runPick()
	case run == nil && key.Matches(msg, v.keyMap.all):
		return background(rerunLatest(v.session.app))
	}
	if run == nil {
		if key.Matches(msg, v.keyMap.hunt, v.keyMap.edit, v.keyMap.cancel, v.keyMap.hold, v.keyMap.filter, v.keyMap.narrow, v.keyMap.unfold, keyDraw) {
			return sayMsg("nothing has run in this session: r runs the pick, R what failed in the latest run")
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
		v.setFilter(filter{show: nextShow(run, v.filter.show), group: v.filter.group, text: v.filter.text})
		return nil
	case key.Matches(msg, v.keyMap.narrow):
		return openSheetMsg{v.filterSheet()}
	case key.Matches(msg, keyDraw) && !run.ended:
		return sayMsg("d draws the run once it has ended")
	case key.Matches(msg, keyDraw):
		return drawTimeline(v.session.app.Project.Name, run.number, run.run)
	case key.Matches(msg, v.keyMap.all) && len(run.bad) == 0:
		return sayMsg("no test of this run failed: there is nothing to run again")
	case key.Matches(msg, v.keyMap.all):
		return startRunMsg{tests: v.tests(run.bad), needs: true}
	}
	return v.pressResult(msg, v.current())
}

// pressResult takes a key for the result under the cursor, nil for none.
func (v *watch) pressResult(msg tea.KeyPressMsg, r *run.Result) tea.Msg {
	switch {
	case r != nil:
	case key.Matches(msg, v.keyMap.again):
		return v.session.runPick()
	case key.Matches(msg, v.keyMap.hunt) && len(v.run.recovered) > 0:
		return startHuntMsg{victims: v.tests(v.run.recovered)}
	case key.Matches(msg, v.keyMap.hunt, v.keyMap.edit, v.keyMap.unfold):
		return sayMsg("no result is under the cursor: f lists others")
	default:
		return nil
	}
	one := v.tests([]*run.Result{r})
	switch {
	case key.Matches(msg, v.keyMap.hunt):
		return startHuntMsg{victims: one}
	case key.Matches(msg, v.keyMap.again):
		return startRunMsg{tests: one, needs: true}
	case key.Matches(msg, v.keyMap.edit):
		return editFileMsg{r.File, r.Line}
	case key.Matches(msg, v.keyMap.unfold):
		v.unfolded = !v.unfolded
		return nil
	}
	v.at = moved(v.at, msg.String(), len(v.list))
	return nil
}

// rerunLatest runs again what failed in the latest run of the ledger.
func rerunLatest(r *app.App) tea.Cmd {
	return func() tea.Msg {
		victims, err := r.Victims()
		switch {
		case err != nil:
			return sayMsg(err.Error())
		case len(victims) == 0:
			return sayMsg("nothing failed in the latest run: there is nothing to run again")
		}
		return startRunMsg{tests: victims, needs: true}
	}
}

func (v *watch) stop(run *liveRun) tea.Msg {
	switch {
	case run.ended:
		return sayMsg("the run has ended")
	case run.cancel == nil:
		return sayMsg("this run belongs to another process: end it there")
	}
	run.stop()
	if run.stopping {
		return sayMsg("finishing the running tests and starting no more; x again stops at once")
	}
	return nil
}

func (v *watch) hold(run *liveRun) tea.Msg {
	switch {
	case run.ended:
		return sayMsg("the run has ended")
	case run.cancel == nil:
		return sayMsg("this run belongs to another process")
	}
	run.hold()
	if run.held {
		return sayMsg("held: workers finish their batches and take no more; space lets them continue")
	}
	return sayMsg("workers take batches again")
}

// filterSheet asks for a part of the groups and of the texts that are listed.
func (v *watch) filterSheet() *sheet {
	return &sheet{
		title: "List only results of some groups, or with a text",
		rows: []sheetRow{newText("group", v.filter.group, "a part of its name; empty for any"),
			newText("text", v.filter.text, "a part of the test's name or of its message; empty for any")},
		done: func(sh *sheet) tea.Cmd {
			f := filter{show: v.filter.show, group: strings.TrimSpace(sh.choice("group")), text: strings.TrimSpace(sh.choice("text"))}
			return func() tea.Msg { return filterMsg(f) }
		},
	}
}

// newest returns the result at a place of the list, counted from the newest.
func (v *watch) newest(at int) *run.Result { return v.list[len(v.list)-1-at] }

// tests returns the tests of results.
func (v *watch) tests(results []*run.Result) []catalog.Test {
	var tests []catalog.Test
	for _, r := range results {
		if t, ok := v.session.picked.Catalog.Lookup(r.ID); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}

// current returns the result under the cursor, nil if nothing is listed.
func (v *watch) current() *run.Result {
	if v.run == nil || len(v.list) == 0 {
		return nil
	}
	return v.newest(v.at)
}

func (v *watch) click(_, y int) {
	if y >= v.listTop && len(v.list) > 0 {
		v.at = min(v.top+(y-v.listTop)/resultRows, len(v.list)-1)
	}
}

func (v watch) draw(c canvas) {
	run := v.run
	if run == nil {
		v.drawIdle(c)
		return
	}
	v.drawCounts(c, run)
	p := v.places(c.width, c.height)
	tracks := c.sub(0, 2, c.width, p.below-3)
	if run.fleet != nil {
		v.drawMachines(tracks, run, p)
	} else {
		v.drawTracks(tracks, run, p)
	}
	if p.half == c.width && v.detail {
		v.drawDetail(c.sub(2, p.below, c.width-4, c.height-p.below))
		return
	}
	v.drawResults(c.sub(0, p.below, p.half, c.height-p.below), run)
	if p.half < c.width {
		v.drawDetail(c.sub(p.half+2, p.below, c.width-p.half-3, c.height-p.below))
	}
}

func (v watch) drawIdle(c canvas) {
	t := c.theme
	words := "Nothing runs yet."
	if v.fleet != nil {
		words = fmt.Sprintf("Waiting for the fleet run %s at the station %s.", plain.Line(v.fleet.id), plain.Line(fleet.Redact(v.fleet.station.URL)))
	} else if v.follows {
		words = "Nothing runs in this project. A run that begins in another terminal shows here."
	}
	c.text(2, 1, style{t.ink, true}, words)
	c.text(2, 3, style{colour: t.fog}, v.idle)
}
