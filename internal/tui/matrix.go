package tui

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/draw"
	"fernrelay/internal/project"
	"fernrelay/internal/report"
)

// matrixView shows the crossings of the matrix: first what explains their failures, then a track per crossing on one time axis,
// then what the crossing under the cursor consists of.
type matrixView struct {
	session   *session
	keyMap    matrixKeyMap
	rows      []*matrixRow // in the matrix's order
	then      matrix.Then
	explained app.Explained
	live      *liveMatrix // the run that goes on, or that was the last; nil before the first of this session
	now       time.Time   // of the latest frame
	begins    []float64   // by row: seconds after the first crossing
	end       float64     // of the time axis, in seconds, without what is expected
	read      bool        // the latest results of the ledger were asked for
	order     []int       // the rows as they are shown
	at, top   int         // of order
	inside    bool        // the cursor is in the explanations
	explainAt int
	listing   *app.ExplainedRow // whose tests are listed; nil for none
	testAt    int
	testTop   int
	firstRow  int // at which the tracks begin, for clicks
	rowHeight int
}

// matrixRow is a crossing.
type matrixRow struct {
	matrix.Result
	expected app.CrossingForecast
	past     []run.Outcome // of its latest runs, the oldest first
	live     *liveRun      // nil before it runs in this session
	seen     int           // results of live that bins have
	bins     bins
	from, to float64 // at which it is expected to run, in seconds on the axis; 0 for what is not known
}

type matrixKeyMap struct{ all, one, watch, panel, hunt, decide, cancel, copy, move key.Binding }

func newMatrixKeyMap() matrixKeyMap {
	return matrixKeyMap{
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

// startMatrixMsg asks to run crossings.
type startMatrixMsg struct{ crossings []matrix.Crossing }

// watchCrossingMsg asks to show a crossing's run in Watch.
type watchCrossingMsg struct{ live *liveRun }

// huntCrossingMsg asks to hunt a test in a crossing.
type huntCrossingMsg struct {
	id       string
	crossing *matrix.Crossing
}

func newMatrixView(s *session) *matrixView {
	v := &matrixView{session: s, keyMap: newMatrixKeyMap()}
	v.reset()
	return v
}

// reset makes the rows of the project's matrix, and keeps what is known of crossings that it still has.
func (v *matrixView) reset() {
	before := map[string]*matrixRow{}
	for _, row := range v.rows {
		before[row.Key()] = row
	}
	v.rows = nil
	m := v.matrix()
	if m == nil {
		return
	}
	results := matrix.NewResults(m.Matrix, m.Crossings, m.Then)
	v.then = cmp.Or(v.then, results.Then)
	for _, one := range results.Results {
		row := before[one.Key()]
		if row == nil {
			row = &matrixRow{Result: *one}
		}
		row.Crossing = one.Crossing
		v.rows = append(v.rows, row)
	}
	v.place()
}

func (v *matrixView) see(s *session) tea.Cmd {
	changed := v.session.app.Project != s.app.Project
	if v.session = s; changed {
		v.reset()
	}
	return nil
}

func (v *matrixView) name() string { return "Matrix" }

func (v *matrixView) figure() (string, bool) {
	if len(v.rows) == 0 {
		return "–", false
	}
	passed, must := v.results().Counts()
	bad := slices.ContainsFunc(v.rows, func(r *matrixRow) bool { return r.State == matrix.Ended && r.Bad() })
	return fmt.Sprintf("%d of %d", passed, must), bad
}

func (v *matrixView) keys() []key.Binding {
	k := v.keyMap
	if v.inside || v.listing != nil {
		tests := key.NewBinding(key.WithHelp("enter", "its tests"))
		return []key.Binding{tests, k.hunt, k.decide, k.all, k.cancel, k.panel, keyDraw}
	}
	return []key.Binding{k.all, k.one, k.watch, k.panel, k.hunt, k.cancel, k.copy, keyDraw, k.move}
}

// matrix returns the project's matrix, nil if it has none.
func (v *matrixView) matrix() *project.Matrix { return v.session.app.Project.Matrix }

// results returns the results as they are shown.
func (v *matrixView) results() *matrix.Results {
	r := &matrix.Results{Matrix: v.matrix().Matrix, Then: v.then}
	for _, row := range v.rows {
		r.Results = append(r.Results, &row.Result)
	}
	return r
}

func (v *matrixView) row(key string) *matrixRow {
	if at := slices.IndexFunc(v.rows, func(r *matrixRow) bool { return r.Key() == key }); at >= 0 {
		return v.rows[at]
	}
	return nil
}

// current returns the crossing under the cursor, nil if there is none.
func (v *matrixView) current() *matrixRow {
	if v.at >= len(v.order) {
		return nil
	}
	return v.rows[v.order[v.at]]
}

// noMatrix says how to add a matrix.
const noMatrix = "the project has no matrix: [matrix.vary] in fern.toml says what varies, as in store = [\"memory\", \"redis\"]"

func (v *matrixView) press(msg tea.KeyPressMsg) tea.Msg {
	if len(v.rows) == 0 {
		return sayMsg(noMatrix)
	}
	if v.listing != nil {
		return v.pressTests(msg)
	}
	switch {
	case key.Matches(msg, v.keyMap.panel):
		if len(v.explained.Rows) == 0 {
			return sayMsg("no test fails in some crossings only: there is nothing to explain")
		}
		v.inside = !v.inside
	case key.Matches(msg, v.keyMap.all):
		return startMatrixMsg{v.matrix().Crossings}
	case key.Matches(msg, v.keyMap.cancel):
		return v.stop()
	case key.Matches(msg, keyDraw):
		return v.drawIt()
	case v.inside:
		return v.pressExplained(msg)
	default:
		return v.pressCrossing(msg)
	}
	return nil
}

func (v *matrixView) pressCrossing(msg tea.KeyPressMsg) tea.Msg {
	row := v.current()
	switch {
	case row == nil:
	case key.Matches(msg, v.keyMap.one) && row.State == matrix.LeftOut:
		return sayMsg(row.Why)
	case key.Matches(msg, v.keyMap.one):
		return startMatrixMsg{[]matrix.Crossing{*row.Crossing}}
	case key.Matches(msg, v.keyMap.watch) && row.live == nil:
		return sayMsg("this crossing has not run in this session: enter runs it")
	case key.Matches(msg, v.keyMap.watch):
		return watchCrossingMsg{row.live}
	case key.Matches(msg, v.keyMap.copy):
		return copyMsg("fern-relay matrix run -C " + report.Quote(v.session.app.Project.Dir) + " --at " + report.Quote(row.Key()))
	case key.Matches(msg, v.keyMap.hunt):
		return v.huntFirst(row)
	default:
		v.at = moved(v.at, msg.String(), len(v.order))
	}
	return nil
}

// huntFirst hunts the first test that failed in a crossing.
func (v *matrixView) huntFirst(row *matrixRow) tea.Msg {
	if row.Run != nil {
		if bad := row.Run.Troubled(); len(bad) > 0 {
			return huntCrossingMsg{bad[0].ID, row.Crossing}
		}
	}
	return sayMsg("no test failed in this crossing: there is nothing to hunt")
}

func (v *matrixView) pressExplained(msg tea.KeyPressMsg) tea.Msg {
	row := &v.explained.Rows[v.explainAt]
	switch {
	case key.Matches(msg, v.keyMap.one):
		v.listing, v.testAt, v.testTop = row, 0, 0
	case key.Matches(msg, v.keyMap.hunt):
		return v.huntOf(row.Tests[0])
	case key.Matches(msg, v.keyMap.decide):
		return v.decide(row)
	case msg.String() == "esc":
		v.inside = false
	default:
		v.explainAt = moved(v.explainAt, msg.String(), len(v.explained.Rows))
	}
	return nil
}

// decide runs the crossing that would decide between an explanation and another.
func (v *matrixView) decide(row *app.ExplainedRow) tea.Msg {
	for _, rival := range row.Rivals {
		if some := v.matrix().At(rival.Decide); rival.Decide != nil && len(some) > 0 {
			return startMatrixMsg{some[:1]}
		}
	}
	return sayMsg("no other crossing would change this explanation")
}

// pressTests takes a key while the tests of an explanation are listed.
func (v *matrixView) pressTests(msg tea.KeyPressMsg) tea.Msg {
	id := v.listing.Tests[v.testAt]
	switch {
	case msg.String() == "esc", key.Matches(msg, v.keyMap.one, v.keyMap.panel):
		v.listing = nil
	case key.Matches(msg, v.keyMap.hunt):
		return v.huntOf(id)
	case msg.String() == "e":
		return editTestMsg(id)
	default:
		v.testAt = moved(v.testAt, msg.String(), len(v.listing.Tests))
	}
	return nil
}

// huntOf hunts a test in the first crossing in which it failed.
func (v *matrixView) huntOf(id string) tea.Msg {
	for _, row := range v.rows {
		if row.Run == nil {
			continue
		}
		if r := row.Run.Result(id); r != nil && r.Outcome.Bad() {
			return huntCrossingMsg{id, row.Crossing}
		}
	}
	return sayMsg("the test is running again")
}

func (v *matrixView) stop() tea.Msg {
	switch {
	case v.live == nil || v.live.ended:
		return sayMsg("no crossing runs")
	case v.live.stopping:
		v.live.cancel()
		return nil
	}
	v.live.finish()
	return sayMsg("finishing the running tests and starting no more; x again stops at once")
}

func (v *matrixView) drawIt() tea.Msg {
	if v.live != nil && !v.live.ended {
		return sayMsg("d draws the crossings once they have ended")
	}
	results, title := v.results(), v.session.app.Project.Name
	explained := matrix.Explained{Flaky: v.explained.Flaky, Unexplained: v.explained.Unexplained}
	for _, row := range v.explained.Rows {
		explained.Explanations = append(explained.Explanations, row.Explanation)
	}
	return drawTo("Draw the matrix", chart{"matrix", "what explains the failures, and the crossings on one time axis", func() (draw.Drawing, error) {
		return draw.Matrix(title, results, explained), nil
	}})
}

func (v *matrixView) click(_, y int) {
	if v.listing != nil || v.rowHeight == 0 || y < v.firstRow {
		return
	}
	v.inside = false
	v.at = max(0, min(v.top+(y-v.firstRow)/v.rowHeight, len(v.order)-1))
}

// fit lays the crossings out.
func (v *matrixView) fit(width, height int) tea.Cmd {
	if len(v.rows) == 0 {
		return nil
	}
	v.explainAt = max(0, min(v.explainAt, len(v.explained.Rows)-1))
	v.inside = v.inside && len(v.explained.Rows) > 0
	p := v.places(width, height)
	v.firstRow, v.rowHeight = p.tracks, p.rowHeight
	v.arrange(p.shown)
	v.at = max(0, min(v.at, len(v.order)-1))
	v.top = follow(v.top, v.at, p.shown, len(v.order))
	if v.listing != nil {
		v.testTop = follow(v.testTop, v.testAt, p.testsShown, len(v.listing.Tests))
	}
	return nil
}

// arrange orders the crossings: as in fern.toml, or if there is no room for all, those that failed first.
func (v *matrixView) arrange(shown int) {
	under := v.current()
	v.order = v.order[:0]
	for i := range v.rows {
		v.order = append(v.order, i)
	}
	if len(v.rows) > shown {
		slices.SortStableFunc(v.order, func(a, b int) int { return cmp.Compare(v.rows[a].rank(), v.rows[b].rank()) })
	}
	for at, i := range v.order {
		if v.rows[i] == under {
			v.at = at
		}
	}
}

// rank orders crossings by how much they want to be looked at.
func (r *matrixRow) rank() int {
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

// testsOf returns the tests with some IDs that the project has.
func testsOf(c *catalog.Catalog, ids ...string) (tests []catalog.Test) {
	for _, id := range ids {
		if t, ok := c.Lookup(id); ok {
			tests = append(tests, *t)
		}
	}
	return tests
}
