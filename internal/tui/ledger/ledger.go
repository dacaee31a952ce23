package ledger

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
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

// View shows what the runs say together: tests against runs, the causes of the chosen run, where the time
// goes, and the facts about the test under the cursor. In place of the tests it shows a run's report, or how a run
// differs from the one before it.
type View struct {
	leg.Base
	session *leg.Session
	keyMap  keyMap
	All     []*run.Record // every run, the oldest first
	Past    *history.Past // the runs around the chosen one; nil before it was read
	reads   int           // how often it was requested
	wrong   error         // what kept it from being read

	By string // one of history.PastOrders: the order that is wanted
	Listing
	sorts int // how often another listing was requested

	At, top int       // the test under the cursor, and the first that is shown
	Run     int       // the chosen run, by its place among all
	Cells   cellPlace // where they are, for the mouse
	panel   bool
	Chosen  ChosenRun
	Card    *history.Card // of the test under the cursor; nil until it is known
	Report  *runReport    // shown instead of the tests; nil if the tests are shown
}

// cellPlace is the place of the cells of some runs of the past.
type cellPlace struct{ X, first, shown, Rows int }

// ChosenRun is the run under the cursor.
type ChosenRun struct {
	Record *run.Record
	Run    *run.Run
	Causes []history.KnownCause
}

// keyMap has the keys of the view.
type keyMap struct{ panel, order, open, compare, back, hunt, edit, tests, runs key.Binding }

func newKeyMap() keyMap {
	return keyMap{
		panel:   leg.KeyPanel,
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

// New returns the leg.
func New(s *leg.Session) *View {
	return &View{session: s, keyMap: newKeyMap(), By: history.ByTrouble}
}

func (v *View) See(s *leg.Session) tea.Cmd {
	old := v.session
	v.session = s
	switch {
	case !maps.Equal(pick.CrossingOf(s.Picked.Expr), pick.CrossingOf(old.Picked.Expr)):
		return v.ReadAgain() // other runs count
	case s.Picked.Weave != old.Picked.Weave:
		return v.arrange()
	}
	return nil
}

// Fit decides which tests and runs are shown.
func (v *View) Fit(width, height int) tea.Cmd {
	v.Cells = cellPlace{}
	if v.Past == nil || len(v.Past.Runs) == 0 {
		return nil
	}
	if width >= ledgerBoth {
		width -= ledgerPanel + 4
	} else if v.panel {
		return nil
	}
	if v.Report != nil {
		v.Report.fit(height)
		return nil
	}
	v.At = max(0, min(v.At, len(v.Order)-1))
	rows := testRows(height)
	v.top = screen.Follow(v.top, v.At, rows, len(v.Order))
	if len(v.Order) == 0 {
		return nil
	}
	groups, names := v.columns(width)
	first, shown := v.shownRuns((width - groups - names - besideCells + 1) * cellsInPart / (cellsInPart + 1))
	v.Cells = cellPlace{groups + names + beforeCells, first, shown, min(rows, len(v.Order)-v.top)}
	return nil
}

// testRows returns how many tests are shown in some rows.
func testRows(height int) int {
	rows := height - TestsTop - 2
	if rows > chartRows+6 {
		rows -= chartRows + 1
	}
	return rows
}

func (v *View) Name() string { return "Ledger" }

func (v *View) Figure() (string, bool) {
	if v.session.App.Runs == 0 {
		return "–", false
	}
	return wording.Plural(v.session.App.Runs, "run"), false
}

func (v *View) Keys() []key.Binding {
	k := v.keyMap
	if v.Report != nil {
		return []key.Binding{k.back, k.panel, key.NewBinding(key.WithHelp("↑↓", "rows")), key.NewBinding(key.WithHelp("enter", "unfold, fold")), k.hunt, k.edit, k.compare, leg.KeyDraw}
	}
	order := k.order
	order.SetHelp("o", "order: "+v.By)
	return []key.Binding{k.panel, order, k.tests, k.runs, k.open, k.compare, k.hunt, k.edit, leg.KeyDraw}
}

// current is the test under the cursor, by its place in the past.
func (v *View) current() (test int, ok bool) {
	if v.Past == nil || len(v.Order) == 0 {
		return 0, false
	}
	return v.Order[max(0, min(v.At, len(v.Order)-1))], true
}

func (v *View) Press(msg tea.KeyPressMsg) tea.Msg {
	switch {
	case key.Matches(msg, v.keyMap.panel):
		v.panel = !v.panel
	case key.Matches(msg, v.keyMap.compare):
		return v.compare()
	case v.Report != nil && key.Matches(msg, leg.KeyDraw):
		return leg.DrawRun(v.session.App.Project.Name, v.Report.Causes.Record.Number, v.Report.Causes.Run)
	case v.Report != nil:
		return v.Report.press(v, msg)
	case key.Matches(msg, v.keyMap.order):
		v.By = history.PastOrders[(slices.Index(history.PastOrders, v.By)+1)%len(history.PastOrders)]
		return leg.Background(v.arrange())
	case key.Matches(msg, v.keyMap.open):
		return v.open()
	case key.Matches(msg, leg.KeyDraw):
		return v.draws()
	case key.Matches(msg, v.keyMap.hunt):
		return v.hunt(v.CurrentID())
	case key.Matches(msg, v.keyMap.edit):
		return leg.EditTestMsg(v.CurrentID())
	case msg.String() == "left" || msg.String() == "h":
		return v.move(-1)
	case msg.String() == "right" || msg.String() == "l":
		return v.move(1)
	default:
		v.At = screen.Moved(v.At, msg.String(), len(v.Order))
		return leg.Background(v.know())
	}
	return nil
}

// CurrentID returns the ID of the test under the cursor, "" for none.
func (v *View) CurrentID() string {
	if test, ok := v.current(); ok {
		return v.Past.History.IDs[test]
	}
	return ""
}

// move goes to another run, and reads others at the edge of those that are known.
func (v *View) move(step int) tea.Msg {
	if len(v.All) == 0 {
		return nil
	}
	before := v.Run
	v.Run = max(0, min(v.Run+step, len(v.All)-1))
	if v.Run == before {
		return nil
	}
	if column := v.Column(); column >= 0 && (column > 0 || v.Run == 0) {
		return leg.Background(v.choose(nil))
	}
	return leg.Background(tea.Batch(v.read(), v.choose(nil)))
}

// DrawColumn returns the place of the chosen run in the past; -1 if the past does not have it.
func (v *View) Column() int {
	if v.Past == nil || len(v.All) == 0 {
		return -1
	}
	number := v.All[v.Run].Number
	return slices.IndexFunc(v.Past.Runs, func(k *run.Record) bool { return k.Number == number })
}

// open opens the report of the chosen run.
func (v *View) open() tea.Msg {
	if len(v.All) == 0 {
		return leg.SayMsg("no runs yet: there is nothing to report")
	}
	file := v.session.Picked.Catalog.FileOf
	return leg.Background(v.choose(func(of ChosenRun) (*runReport, error) { return newRunReport(of, file), nil }))
}

// compare shows how the chosen run differs from the one before it.
func (v *View) compare() tea.Msg {
	if len(v.All) == 0 {
		return leg.SayMsg("no runs yet: there is nothing to compare")
	}
	r := v.session.App
	return leg.Background(v.choose(func(after ChosenRun) (*runReport, error) {
		before, earlier, err := r.Ledger().Before(after.Record)
		if errors.Is(err, run.ErrNoRecord) {
			return nil, errors.New("this is the first run: there is no earlier run to compare it with")
		}
		if err != nil {
			return nil, err
		}
		c, err := r.Ledger().Compare(earlier, after.Run, after.Record)
		if err != nil {
			return nil, err
		}
		return NewComparison(after, before, c), nil
	}))
}

// hunt goes to the hunt of a test that was hunted, or hunts it.
func (v *View) hunt(id string) tea.Msg {
	if id == "" {
		return leg.SayMsg("no test is under the cursor: there is nothing to hunt")
	}
	return leg.HuntTestMsg(id)
}

func (v *View) Click(x, y int) {
	if v.Report != nil {
		v.Report.At = max(0, min(v.Report.top+y-reportTop, len(v.Report.Rows)-1))
		return
	}
	if y < TestsTop || y >= TestsTop+v.Cells.Rows {
		return
	}
	v.At = v.top + y - TestsTop
	for i, k := range v.Past.Runs[v.Cells.first : v.Cells.first+v.Cells.shown] {
		if v.Cells.X+cellColumn(i) == x {
			v.Run = max(0, slices.IndexFunc(v.All, func(other *run.Record) bool { return other.Number == k.Number }))
		}
	}
}

// Visit reads what the view shows and has not read yet.
func (v *View) Visit() tea.Cmd {
	switch {
	case v.reads == 0:
		return v.read()
	case v.Past == nil:
		return nil
	}
	return tea.Batch(v.know(), v.choose(nil))
}

// draws asks for a chart of the view's past.
func (v *View) draws() tea.Msg {
	if v.Past == nil || len(v.Past.Runs) == 0 {
		return leg.SayMsg("no runs yet: there is nothing to draw")
	}
	return leg.DrawTo("Draw what the runs say", draw.Data{Title: v.session.App.Project.Name, Past: v.Past, Tests: v.Order}, draw.OfPast)
}
