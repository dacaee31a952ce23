package matrix

import (
	"cmp"
	"fmt"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/draw"
	"fernrelay/internal/progress"
	"fernrelay/internal/project"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// View shows the crossings of the matrix: first what explains their failures, then a track per crossing on one time axis,
// then what the crossing under the cursor consists of.
type View struct {
	leg.Base
	session *leg.Session
	keyMap  keyMap
	progress.Crossings
	forecasts map[string]app.CrossingForecast // by the key of the crossing
	Then      matrix.Then
	Explained app.Explained
	Live      *Live // the run that goes on, or that was the last; nil before the first of this session
	read      bool  // the latest results of the ledger were asked for
	Order     []int // the rows as they are shown
	at, top   int   // of order
	Inside    bool  // the cursor is in the explanations
	explainAt int
	listing   *app.ExplainedRow // whose tests are listed; nil for none
	testAt    int
	testTop   int
	firstRow  int // at which the tracks begin, for clicks
	rowHeight int
}

type keyMap struct{ all, one, watch, panel, hunt, decide, cancel, copy, move key.Binding }

func newKeyMap() keyMap {
	return keyMap{
		all:    key.NewBinding(key.WithKeys("r"), key.WithHelp("r", "run all")),
		one:    key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "run this one")),
		watch:  key.NewBinding(key.WithKeys("w"), key.WithHelp("w", "open in Watch")),
		panel:  key.NewBinding(key.WithKeys("tab"), key.WithHelp("tab", "explanations")),
		hunt:   key.NewBinding(key.WithKeys("H"), key.WithHelp("H", "hunt")),
		decide: key.NewBinding(key.WithKeys("D"), key.WithHelp("D", "run what decides")),
		cancel: key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "end it")),
		copy:   key.NewBinding(key.WithKeys("c"), key.WithHelp("c", "copy command")),
		move:   key.NewBinding(key.WithHelp("↑↓", "crossings")),
	}
}

// StartMsg asks to run crossings.
type StartMsg struct{ Crossings []matrix.Crossing }

// WatchCrossingMsg asks to show a crossing's run in Watch.
type WatchCrossingMsg struct{ Live *progress.Run }

// HuntCrossingMsg asks to hunt a test in a crossing.
type HuntCrossingMsg struct {
	ID       string
	Crossing *matrix.Crossing
}

// New returns the leg.
func New(s *leg.Session) *View {
	v := &View{session: s, keyMap: newKeyMap()}
	v.Reset()
	return v
}

// Reset makes the rows of the project's matrix, and keeps what is known of crossings that it still has.
func (v *View) Reset() {
	before := map[string]*progress.Crossing{}
	for _, row := range v.Rows {
		before[row.Key()] = row
	}
	v.Rows = nil
	m := v.matrix()
	if m == nil {
		return
	}
	results := matrix.NewResults(m.Matrix, m.Crossings, m.Then)
	v.Then = cmp.Or(v.Then, results.Then)
	for _, one := range results.Results {
		row := before[one.Key()]
		if row == nil {
			row = &progress.Crossing{Result: *one}
		}
		row.Crossing = one.Crossing
		v.Rows = append(v.Rows, row)
	}
	if !v.Busy() {
		v.AtOnce = m.AtOnce
	}
	v.Follow(v.Now)
}

func (v *View) See(s *leg.Session) tea.Cmd {
	changed := v.session.App.Project != s.App.Project
	if v.session = s; changed {
		v.Reset()
	}
	return nil
}

func (v *View) Name() string { return "Matrix" }

func (v *View) Figure() (string, bool) {
	if len(v.Rows) == 0 {
		return "–", false
	}
	passed, must := v.results().Counts()
	bad := slices.ContainsFunc(v.Rows, func(r *progress.Crossing) bool { return r.State == matrix.Ended && r.Bad() })
	return fmt.Sprintf("%d of %d", passed, must), bad
}

func (v *View) Keys() []key.Binding {
	k := v.keyMap
	if v.Inside || v.listing != nil {
		tests := key.NewBinding(key.WithHelp("enter", "its tests"))
		return []key.Binding{tests, k.hunt, k.decide, k.all, k.cancel, k.panel, leg.KeyDraw}
	}
	return []key.Binding{k.all, k.one, k.watch, k.panel, k.hunt, k.cancel, k.copy, leg.KeyDraw, k.move}
}

// Matrix returns the project's matrix, nil if it has none.
func (v *View) matrix() *project.Matrix { return v.session.App.Project.Matrix }

// results returns the results as they are shown.
func (v *View) results() *matrix.Results {
	return &matrix.Results{Matrix: v.matrix().Matrix, Then: v.Then, Results: v.Crossings.Results()}
}

// current returns the crossing under the cursor, nil if there is none.
func (v *View) current() *progress.Crossing {
	if v.at >= len(v.Order) {
		return nil
	}
	return v.Rows[v.Order[v.at]]
}

// noMatrix says how to add a matrix.
const noMatrix = "the project has no matrix: [matrix.vary] in fern.toml says what varies, as in store = [\"memory\", \"redis\"]"

func (v *View) Press(msg tea.KeyPressMsg) tea.Msg {
	if len(v.Rows) == 0 {
		return leg.SayMsg(noMatrix)
	}
	if v.listing != nil {
		return v.pressTests(msg)
	}
	switch {
	case key.Matches(msg, v.keyMap.panel):
		if len(v.Explained.Rows) == 0 {
			return leg.SayMsg("no test fails in some crossings only: there is nothing to explain")
		}
		v.Inside = !v.Inside
	case key.Matches(msg, v.keyMap.all):
		return StartMsg{v.matrix().Crossings}
	case key.Matches(msg, v.keyMap.cancel):
		return v.stop()
	case key.Matches(msg, leg.KeyDraw):
		return v.drawIt()
	case v.Inside:
		return v.pressExplained(msg)
	default:
		return v.pressCrossing(msg)
	}
	return nil
}

func (v *View) pressCrossing(msg tea.KeyPressMsg) tea.Msg {
	row := v.current()
	switch {
	case row == nil:
	case key.Matches(msg, v.keyMap.one) && row.State == matrix.LeftOut:
		return leg.SayMsg(row.Why)
	case key.Matches(msg, v.keyMap.one):
		return StartMsg{[]matrix.Crossing{*row.Crossing}}
	case key.Matches(msg, v.keyMap.watch) && row.Live == nil:
		return leg.SayMsg("this crossing has not run in this session: enter runs it")
	case key.Matches(msg, v.keyMap.watch):
		return WatchCrossingMsg{row.Live}
	case key.Matches(msg, v.keyMap.copy):
		return leg.CopyMsg("fern-relay matrix run -C " + report.Quote(v.session.App.Project.Dir) + " --at " + report.Quote(row.Key()))
	case key.Matches(msg, v.keyMap.hunt):
		return v.huntFirst(row)
	default:
		v.at = screen.Moved(v.at, msg.String(), len(v.Order))
	}
	return nil
}

// huntFirst hunts the first test that failed in a crossing.
func (v *View) huntFirst(row *progress.Crossing) tea.Msg {
	if row.Run != nil {
		if bad := row.Run.Troubled(); len(bad) > 0 {
			return HuntCrossingMsg{bad[0].ID, row.Crossing}
		}
	}
	return leg.SayMsg("no test failed in this crossing: there is nothing to hunt")
}

func (v *View) pressExplained(msg tea.KeyPressMsg) tea.Msg {
	row := &v.Explained.Rows[v.explainAt]
	switch {
	case key.Matches(msg, v.keyMap.one):
		v.listing, v.testAt, v.testTop = row, 0, 0
	case key.Matches(msg, v.keyMap.hunt):
		return v.huntOf(row.Tests[0])
	case key.Matches(msg, v.keyMap.decide):
		return v.decide(row)
	case msg.String() == "esc":
		v.Inside = false
	default:
		v.explainAt = screen.Moved(v.explainAt, msg.String(), len(v.Explained.Rows))
	}
	return nil
}

// decide runs the crossing that would decide between an explanation and another.
func (v *View) decide(row *app.ExplainedRow) tea.Msg {
	for _, rival := range row.Rivals {
		if some := v.matrix().At(rival.Decide); rival.Decide != nil && len(some) > 0 {
			return StartMsg{some[:1]}
		}
	}
	return leg.SayMsg("no other crossing would change this explanation")
}

// pressTests takes a key while the tests of an explanation are listed.
func (v *View) pressTests(msg tea.KeyPressMsg) tea.Msg {
	id := v.listing.Tests[v.testAt]
	switch {
	case msg.String() == "esc", key.Matches(msg, v.keyMap.one, v.keyMap.panel):
		v.listing = nil
	case key.Matches(msg, v.keyMap.hunt):
		return v.huntOf(id)
	case msg.String() == "e":
		return leg.EditTestMsg(id)
	default:
		v.testAt = screen.Moved(v.testAt, msg.String(), len(v.listing.Tests))
	}
	return nil
}

// huntOf hunts a test in the first crossing in which it failed.
func (v *View) huntOf(id string) tea.Msg {
	for _, row := range v.Rows {
		if row.Run == nil {
			continue
		}
		if r := row.Run.Result(id); r != nil && r.Outcome.Bad() {
			return HuntCrossingMsg{id, row.Crossing}
		}
	}
	return leg.SayMsg("the test is running again")
}

func (v *View) stop() tea.Msg {
	switch {
	case v.Live == nil || v.Live.Ended:
		return leg.SayMsg("no crossing runs")
	case v.Stopping:
		v.Live.Cancel()
		return nil
	}
	v.Stopping = true
	v.Live.Finishing() // lets the running tests end, and starts no more
	return leg.SayMsg("finishing the running tests and starting no more; x again stops at once")
}

func (v *View) drawIt() tea.Msg {
	if v.Live != nil && !v.Live.Ended {
		return leg.SayMsg("d draws the crossings once they have ended")
	}
	results, title := v.results(), v.session.App.Project.Name
	explained := matrix.Explained{Flaky: v.Explained.Flaky, Unexplained: v.Explained.Unexplained}
	for _, row := range v.Explained.Rows {
		explained.Explanations = append(explained.Explanations, row.Explanation)
	}
	return leg.DrawTo("Draw the matrix", draw.Data{Title: title, Matrix: results, Explained: explained}, draw.OfMatrix)
}

func (v *View) Click(_, y int) {
	if v.listing != nil || v.rowHeight == 0 || y < v.firstRow {
		return
	}
	v.Inside = false
	v.at = max(0, min(v.top+(y-v.firstRow)/v.rowHeight, len(v.Order)-1))
}

// Fit lays the crossings out.
func (v *View) Fit(width, height int) tea.Cmd {
	if len(v.Rows) == 0 {
		return nil
	}
	v.explainAt = max(0, min(v.explainAt, len(v.Explained.Rows)-1))
	v.Inside = v.Inside && len(v.Explained.Rows) > 0
	p := v.places(width, height)
	v.firstRow, v.rowHeight = p.tracks, p.rowHeight
	v.arrange(p.shown)
	v.at = max(0, min(v.at, len(v.Order)-1))
	v.top = screen.Follow(v.top, v.at, p.shown, len(v.Order))
	if v.listing != nil {
		v.testTop = screen.Follow(v.testTop, v.testAt, p.testsShown, len(v.listing.Tests))
	}
	return nil
}

// arrange orders the crossings: as in fern.toml, or if there is no room for all, those that failed first.
func (v *View) arrange(shown int) {
	under := v.current()
	v.Order = v.Order[:0]
	for i := range v.Rows {
		v.Order = append(v.Order, i)
	}
	if len(v.Rows) > shown {
		slices.SortStableFunc(v.Order, func(a, b int) int { return cmp.Compare(rank(v.Rows[a]), rank(v.Rows[b])) })
	}
	for at, i := range v.Order {
		if v.Rows[i] == under {
			v.at = at
		}
	}
}

// rank orders crossings by how much they want to be looked at.
func rank(r *progress.Crossing) int {
	switch {
	case r.State == matrix.LeftOut:
		return 4
	case r.State == matrix.Running:
		return 1
	case r.State == matrix.Waiting:
		return 2
	case r.Outcome == run.Passed:
		return 3
	}
	return 0
}

// TestsOf returns the tests with some IDs that the project has.
func TestsOf(c *catalog.Catalog, ids ...string) (tests []catalog.Test) {
	for _, id := range ids {
		if t, ok := c.Lookup(id); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}
