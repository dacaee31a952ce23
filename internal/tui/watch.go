package tui

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// watch shows a run: a track a worker on one time axis, the results as they land,
// and what there is to know of the one under the cursor.
type watch struct {
	session  *session
	filter   filter
	list     []*run.Result // what the filter holds, the oldest first
	taken    int           // how many of the run's results the filter has seen
	at       int           // of the list, 0 is the newest
	seen     int           // how many there were when at was set
	top      int
	detail   bool // on a narrow screen, the detail lies over the list
	unfolded bool // all steps are shown
	listTop  int  // row where the list begins, for clicks
	source   source
	onChange bool // changed files run what they touch
	follows  bool // the runs of other processes are shown
}

// filter says which results are listed.
type filter struct{ show, group, text string }

// What a filter may show.
const (
	showFailed  = "failed"
	showOdd     = "unstable, owed, surprise"
	showSkipped = "skipped, lost"
	showAll     = "done"
)

var shows = []string{showFailed, showOdd, showSkipped, showAll}

func (f filter) holds(r *run.Result) bool {
	shown := true
	switch f.show {
	case showFailed:
		shown = r.Outcome.Bad()
	case showOdd:
		shown = r.Unstable || r.Outcome == run.Owed || r.Outcome == run.Surprise
	case showSkipped:
		shown = r.Outcome == run.Skipped || r.Outcome == run.Lost
	}
	if !shown || f.group == "" && f.text == "" {
		return shown
	}
	group, _ := groupAndName(r.ID)
	return strings.Contains(group, f.group) && (strings.Contains(r.ID, f.text) || strings.Contains(r.Message, f.text))
}

// words tells what is listed.
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

var watchKeys = struct {
	panel, edit, again, all, hunt, cancel, move, filter, narrow, hold, onChange, unfold key.Binding
}{
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

// reset begins anew with another run; what is filtered stays.
func (v *watch) reset() {
	v.list, v.taken, v.at, v.top, v.seen, v.unfolded = nil, 0, 0, 0, 0, false
	if v.filter.show == "" {
		v.filter.show = showFailed
	}
}

// setFilter lists other results of the run.
func (v *watch) setFilter(f filter) {
	v.filter = f
	v.reset()
}

// catchUp lists what has landed since.
func (v *watch) catchUp() {
	run := v.session.run
	for ; v.taken < len(run.results); v.taken++ {
		if r := run.results[v.taken]; v.filter.holds(r) {
			v.list = append(v.list, r)
		}
	}
	if v.at > 0 { // stay on the one that is looked at while others land above it
		v.at += len(v.list) - v.seen
	}
	v.seen = len(v.list)
	v.at = max(0, min(v.at, len(v.list)-1))
}

func (v *watch) name() string { return "Watch" }

func (v *watch) figure() (string, bool) {
	run := v.session.run
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
	k := watchKeys
	return []key.Binding{k.hunt, k.move, k.edit, k.again, k.all, k.cancel, k.hold, k.filter, k.narrow, k.unfold, k.onChange, k.panel}
}

func (v *watch) press(msg tea.KeyPressMsg) action {
	run := v.session.run
	switch {
	case key.Matches(msg, watchKeys.onChange):
		v.onChange = !v.onChange
		if v.onChange {
			return action{say: "on change: saving a file runs the picked tests that it touches; c ends that"}
		}
		return action{say: "changed files run nothing any more"}
	case key.Matches(msg, watchKeys.panel):
		v.detail = !v.detail
	case run == nil && key.Matches(msg, watchKeys.again):
		return v.session.runPick()
	}
	if run == nil {
		return action{}
	}
	v.catchUp()
	switch {
	case key.Matches(msg, watchKeys.cancel):
		return v.stop(run)
	case key.Matches(msg, watchKeys.hold):
		return v.hold(run)
	case key.Matches(msg, watchKeys.filter):
		next := (slices.Index(shows, v.filter.show) + 1) % len(shows)
		v.setFilter(filter{show: shows[next], group: v.filter.group, text: v.filter.text})
		return action{}
	case key.Matches(msg, watchKeys.narrow):
		return action{sheet: v.filterSheet()}
	case key.Matches(msg, watchKeys.all) && len(run.bad) > 0:
		return action{run: v.session.app.WithNeeds(v.tests(run.bad))}
	}
	return v.pressResult(msg, v.current())
}

// pressResult takes a key that goes by the result under the cursor, nil for none.
func (v *watch) pressResult(msg tea.KeyPressMsg, r *run.Result) action {
	if r == nil {
		if key.Matches(msg, watchKeys.again) {
			return v.session.runPick()
		}
		return action{}
	}
	one := v.tests([]*run.Result{r})
	switch {
	case key.Matches(msg, watchKeys.hunt):
		return action{hunt: one}
	case key.Matches(msg, watchKeys.again):
		return action{run: v.session.app.WithNeeds(one)}
	case key.Matches(msg, watchKeys.edit):
		return action{edit: place{r.File, r.Line}}
	case key.Matches(msg, watchKeys.unfold):
		v.unfolded = !v.unfolded
		return action{}
	}
	v.at = moved(v.at, msg.String(), len(v.list))
	return action{}
}

func (v *watch) stop(run *liveRun) action {
	switch {
	case run.ended:
		return action{}
	case run.cancel == nil:
		return action{say: "this run belongs to another process: end it there"}
	}
	run.stop()
	if run.stopping {
		return action{say: "what runs comes to its end, nothing new begins; x again stops at once"}
	}
	return action{}
}

func (v *watch) hold(run *liveRun) action {
	switch {
	case run.ended:
		return action{}
	case run.cancel == nil:
		return action{say: "this run belongs to another process"}
	}
	run.hold()
	if run.held {
		return action{say: "held: workers go on with what they have taken and take nothing new; space lets them go on"}
	}
	return action{say: "workers take what comes next"}
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

// newest gives the result that stands so many places behind the newest of the list.
func (v *watch) newest(at int) *run.Result { return v.list[len(v.list)-1-at] }

// tests gives the tests of results.
func (v *watch) tests(results []*run.Result) []catalog.Test {
	var tests []catalog.Test
	for _, r := range results {
		if t, ok := v.session.picked.Catalog.Lookup(r.ID); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}

// current gives the result under the cursor, nil where nothing is listed.
func (v *watch) current() *run.Result {
	if v.session.run == nil || len(v.list) == 0 {
		return nil
	}
	return v.newest(v.at)
}

func (v *watch) click(_, y int) {
	if y >= v.listTop && len(v.list) > 0 {
		v.at = min(v.top+(y-v.listTop)/resultRows, len(v.list)-1)
	}
}

func (v *watch) draw(c canvas) {
	run := v.session.run
	if run == nil {
		v.drawIdle(c)
		return
	}
	v.catchUp()
	v.drawCounts(c, run)
	rows, air := 2, 1
	switch {
	case c.height < 4+3*len(run.tracks)+14:
		rows, air = 1, 0
	case len(run.tracks) > 6:
		rows, air = 1, 1
	}
	shown := min(len(run.tracks), max(2, (c.height-12)/(rows+air)))
	v.drawTracks(c.sub(0, 2, c.width, shown*(rows+air)+2), run, shown, rows, air)
	y := 2 + shown*(rows+air) + 3
	half := c.width * 9 / 20
	if c.width < wideScreen {
		half = c.width
	}
	if half == c.width && v.detail {
		v.drawDetail(c.sub(2, y, c.width-4, c.height-y))
		return
	}
	v.drawResults(c.sub(0, y, half, c.height-y), run)
	v.listTop = y + 2
	if half < c.width {
		v.drawDetail(c.sub(half+2, y, c.width-half-3, c.height-y))
	}
}

func (v *watch) drawIdle(c canvas) {
	t := c.theme
	words := "Nothing runs yet."
	if v.follows {
		words = "No run goes on in this project. One that begins in another terminal shows here."
	}
	c.text(2, 1, style{t.ink, true}, words)
	c.text(2, 3, style{colour: t.fog}, fmt.Sprintf("r runs the pick: %d tests on %s, about %s",
		len(v.session.picked.tests), wording.Plural(v.session.workers(), "worker"), history.Clock(v.session.plan().Finish)))
}
