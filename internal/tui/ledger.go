package tui

import (
	"errors"
	"maps"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/history"
	"fernrelay/core/pick"
	"fernrelay/core/run"
	"fernrelay/internal/draw"
	"fernrelay/internal/wording"
)

// ledgerView shows what the runs say together: tests against runs, the causes of the chosen run, where the time
// goes, and the facts about the test under the cursor. In place of the tests it shows a run's report, or how a run
// differs from the one before it.
type ledgerView struct {
	session *session
	keyMap  ledgerKeyMap
	all     []*run.Record // every run, the oldest first
	past    *history.Past // the runs around the chosen one; nil before it was read
	reads   int           // how often it was requested
	wrong   error         // what kept it from being read

	by string // one of history.PastOrders: the order that is wanted
	listing
	sorts int // how often another listing was requested

	at, top int       // the test under the cursor, and the first that is shown
	run     int       // the chosen run, by its place among all
	cells   cellPlace // where they are, for the mouse
	panel   bool
	chosen  chosenRun
	card    *history.Card // of the test under the cursor; nil until it is known
	report  *runReport    // shown instead of the tests; nil if the tests are shown
}

// cellPlace is the place of the cells of some runs of the past.
type cellPlace struct{ x, first, shown, rows int }

// chosenRun is the run under the cursor.
type chosenRun struct {
	record *run.Record
	run    *run.Run
	causes []history.KnownCause
}

// ledgerKeyMap has the keys of the view.
type ledgerKeyMap struct{ panel, order, open, compare, back, hunt, edit, tests, runs key.Binding }

func newLedgerKeyMap() ledgerKeyMap {
	return ledgerKeyMap{
		panel:   keyPanel,
		order:   key.NewBinding(key.WithKeys("o"), key.WithHelp("o", "order")),
		open:    key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "run's report")),
		compare: key.NewBinding(key.WithKeys("="), key.WithHelp("=", "against the one before")),
		back:    key.NewBinding(key.WithKeys("esc", "backspace"), key.WithHelp("esc", "back")),
		hunt:    key.NewBinding(key.WithKeys("H"), key.WithHelp("H", "hunt")),
		edit:    key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "editor")),
		tests:   key.NewBinding(key.WithHelp("↑↓", "tests")),
		runs:    key.NewBinding(key.WithHelp("←→", "runs")),
	}
}

func newLedgerView(s *session) *ledgerView {
	return &ledgerView{session: s, keyMap: newLedgerKeyMap(), by: history.ByTrouble}
}

func (v *ledgerView) see(s *session) tea.Cmd {
	old := v.session
	v.session = s
	switch {
	case !maps.Equal(pick.CrossingOf(s.picked.expr), pick.CrossingOf(old.picked.expr)):
		return v.readAgain() // other runs count
	case s.picked.weave != old.picked.weave:
		return v.arrange()
	}
	return nil
}

// fit decides which tests and runs are shown.
func (v *ledgerView) fit(width, height int) tea.Cmd {
	v.cells = cellPlace{}
	if v.past == nil || len(v.past.Runs) == 0 {
		return nil
	}
	if width >= ledgerBoth {
		width -= ledgerPanel + 4
	} else if v.panel {
		return nil
	}
	if v.report != nil {
		v.report.fit(height)
		return nil
	}
	v.at = max(0, min(v.at, len(v.order)-1))
	rows := testRows(height)
	v.top = follow(v.top, v.at, rows, len(v.order))
	if len(v.order) == 0 {
		return nil
	}
	groups, names := v.columns(width)
	first, shown := v.shownRuns((width - groups - names - besideCells + 1) * cellsInPart / (cellsInPart + 1))
	v.cells = cellPlace{groups + names + beforeCells, first, shown, min(rows, len(v.order)-v.top)}
	return nil
}

// testRows returns how many tests are shown in some rows.
func testRows(height int) int {
	rows := height - testsTop - 2
	if rows > chartRows+6 {
		rows -= chartRows + 1
	}
	return rows
}

func (v *ledgerView) name() string { return "Ledger" }

func (v *ledgerView) figure() (string, bool) {
	if v.session.app.Runs == 0 {
		return "–", false
	}
	return wording.Plural(v.session.app.Runs, "run"), false
}

func (v *ledgerView) keys() []key.Binding {
	k := v.keyMap
	if v.report != nil {
		return []key.Binding{k.back, k.panel, key.NewBinding(key.WithHelp("↑↓", "rows")), key.NewBinding(key.WithHelp("enter", "unfold, fold")), k.hunt, k.edit, k.compare, keyDraw}
	}
	order := k.order
	order.SetHelp("o", "order: "+v.by)
	return []key.Binding{k.panel, order, k.tests, k.runs, k.open, k.compare, k.hunt, k.edit, keyDraw}
}

// current is the test under the cursor, by its place in the past.
func (v *ledgerView) current() (test int, ok bool) {
	if v.past == nil || len(v.order) == 0 {
		return 0, false
	}
	return v.order[max(0, min(v.at, len(v.order)-1))], true
}

func (v *ledgerView) press(msg tea.KeyPressMsg) tea.Msg {
	switch {
	case key.Matches(msg, v.keyMap.panel):
		v.panel = !v.panel
	case key.Matches(msg, v.keyMap.compare):
		return v.compare()
	case v.report != nil && key.Matches(msg, keyDraw):
		return drawTimeline(v.session.app.Project.Name, v.report.causes.record.Number, v.report.causes.run)
	case v.report != nil:
		return v.report.press(v, msg)
	case key.Matches(msg, v.keyMap.order):
		v.by = history.PastOrders[(slices.Index(history.PastOrders, v.by)+1)%len(history.PastOrders)]
		return background(v.arrange())
	case key.Matches(msg, v.keyMap.open):
		return v.open()
	case key.Matches(msg, keyDraw):
		return v.draws()
	case key.Matches(msg, v.keyMap.hunt):
		return v.hunt(v.currentID())
	case key.Matches(msg, v.keyMap.edit):
		return editTestMsg(v.currentID())
	case msg.String() == "left" || msg.String() == "h":
		return v.move(-1)
	case msg.String() == "right" || msg.String() == "l":
		return v.move(1)
	default:
		v.at = moved(v.at, msg.String(), len(v.order))
		return background(v.know())
	}
	return nil
}

func (v *ledgerView) currentID() string {
	if test, ok := v.current(); ok {
		return v.past.History.IDs[test]
	}
	return ""
}

// move goes to another run, and reads others at the edge of those that are known.
func (v *ledgerView) move(step int) tea.Msg {
	if len(v.all) == 0 {
		return nil
	}
	before := v.run
	v.run = max(0, min(v.run+step, len(v.all)-1))
	if v.run == before {
		return nil
	}
	if column := v.column(); column >= 0 && (column > 0 || v.run == 0) {
		return background(v.choose(nil))
	}
	return background(tea.Batch(v.read(), v.choose(nil)))
}

// column returns the place of the chosen run in the past; -1 if the past does not have it.
func (v *ledgerView) column() int {
	if v.past == nil || len(v.all) == 0 {
		return -1
	}
	number := v.all[v.run].Number
	return slices.IndexFunc(v.past.Runs, func(k *run.Record) bool { return k.Number == number })
}

// open opens the report of the chosen run.
func (v *ledgerView) open() tea.Msg {
	if len(v.all) == 0 {
		return sayMsg("no runs yet: there is nothing to report")
	}
	file := v.session.picked.Catalog.FileOf
	return background(v.choose(func(of chosenRun) (*runReport, error) { return newRunReport(of, file), nil }))
}

// compare shows how the chosen run differs from the one before it.
func (v *ledgerView) compare() tea.Msg {
	if len(v.all) == 0 {
		return sayMsg("no runs yet: there is nothing to compare")
	}
	r := v.session.app
	return background(v.choose(func(after chosenRun) (*runReport, error) {
		before, earlier, err := r.Ledger().Before(after.record)
		if errors.Is(err, run.ErrNoRecord) {
			return nil, errors.New("this is the first run: there is no earlier run to compare it with")
		}
		if err != nil {
			return nil, err
		}
		c, err := r.Ledger().Compare(earlier, after.run, after.record)
		if err != nil {
			return nil, err
		}
		return newComparison(after, before, c), nil
	}))
}

// hunt goes to the hunt of a test that was hunted, or hunts it.
func (v *ledgerView) hunt(id string) tea.Msg {
	if id == "" {
		return sayMsg("no test is under the cursor: there is nothing to hunt")
	}
	return huntTestMsg(id)
}

func (v *ledgerView) click(x, y int) {
	if v.report != nil {
		v.report.at = max(0, min(v.report.top+y-reportTop, len(v.report.rows)-1))
		return
	}
	if y < testsTop || y >= testsTop+v.cells.rows {
		return
	}
	v.at = v.top + y - testsTop
	for i, k := range v.past.Runs[v.cells.first : v.cells.first+v.cells.shown] {
		if v.cells.x+cellColumn(i) == x {
			v.run = max(0, slices.IndexFunc(v.all, func(other *run.Record) bool { return other.Number == k.Number }))
		}
	}
}

// visit reads what the view shows and has not read yet.
func (v *ledgerView) visit() tea.Cmd {
	switch {
	case v.reads == 0:
		return v.read()
	case v.past == nil:
		return nil
	}
	return tea.Batch(v.know(), v.choose(nil))
}

// draws asks for a chart of the view's past, as the command draw makes it.
func (v *ledgerView) draws() tea.Msg {
	if v.past == nil || len(v.past.Runs) == 0 {
		return sayMsg("no runs yet: there is nothing to draw")
	}
	past, order, name := v.past, v.order, v.session.app.Project.Name
	hints := []string{"tests against runs", "the slowest tests", "work and wall time, run by run"}
	var charts []chart
	for i, c := range draw.PastCharts {
		charts = append(charts, chart{c, hints[i], func() (draw.Drawing, error) { return draw.Past(c, name, past, order) }})
	}
	return drawTo("Draw what the runs say", charts...)
}
