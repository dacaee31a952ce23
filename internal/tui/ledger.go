package tui

import (
	"errors"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/draw"
	"fernrelay/internal/wording"
)

// ledgerView shows what the runs say together: tests against runs, the causes of the chosen run,
// where the time goes, and what is known of the test under the cursor. In the place of the tests
// it shows a run's report, or how a run differs from the one before it.
type ledgerView struct {
	session *session
	all     []*run.Record // every run, the oldest first
	past    *history.Past // the runs around the chosen one; nil before it was read
	reads   int           // how often it was asked for
	wrong   error         // what kept it from being read

	by string // one of history.PastOrders: the order that is wanted
	listing
	sorts int // how often another listing was asked for

	at, top int       // the test under the cursor, and the first that is shown
	run     int       // the chosen run, by its place among all
	cells   cellPlace // where they were drawn, for the mouse
	panel   bool
	chosen  chosenRun
	card    *history.Card // of the test under the cursor; nil until it is known
	report  *runReport    // in the place of the tests; nil where they are shown
}

// cellPlace is where the cells of some runs of the past stand, in so many rows.
type cellPlace struct{ x, first, shown, rows int }

// chosenRun is what is known of the run under the cursor.
type chosenRun struct {
	kept   *run.Record
	run    *run.Run
	causes []history.KnownCause
}

// ledgerMsg changes the view with what was worked out beside the interface.
type ledgerMsg func(v *ledgerView) tea.Cmd

var ledgerKeys = struct {
	panel, order, open, compare, back, hunt, edit, draw, tests, runs key.Binding
}{
	panel:   keyPanel,
	order:   key.NewBinding(key.WithKeys("o"), key.WithHelp("o", "order")),
	open:    key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "run's report")),
	compare: key.NewBinding(key.WithKeys("="), key.WithHelp("=", "against the one before")),
	back:    key.NewBinding(key.WithKeys("esc", "backspace"), key.WithHelp("esc", "back")),
	hunt:    key.NewBinding(key.WithKeys("H"), key.WithHelp("H", "hunt")),
	edit:    key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "editor")),
	draw:    key.NewBinding(key.WithKeys("d"), key.WithHelp("d", "draw")),
	tests:   key.NewBinding(key.WithHelp("↑↓", "tests")),
	runs:    key.NewBinding(key.WithHelp("←→", "runs")),
}

func newLedgerView(s *session) *ledgerView { return &ledgerView{session: s, by: history.ByTrouble} }

func (v *ledgerView) name() string { return "Ledger" }

func (v *ledgerView) figure() (string, bool) {
	if v.session.app.Runs == 0 {
		return "–", false
	}
	return wording.Plural(v.session.app.Runs, "run"), false
}

func (v *ledgerView) keys() []key.Binding {
	k := ledgerKeys
	if v.report != nil {
		return []key.Binding{k.back, k.panel, key.NewBinding(key.WithHelp("↑↓", "rows")), key.NewBinding(key.WithHelp("enter", "unfold, fold")), k.hunt, k.edit, k.compare}
	}
	order := k.order
	order.SetHelp("o", "order: "+v.by)
	return []key.Binding{k.panel, order, k.tests, k.runs, k.open, k.compare, k.hunt, k.edit, k.draw}
}

// read reads what the runs say, those around the chosen one; the latest where it is the latest.
func (v *ledgerView) read() tea.Cmd {
	v.reads++
	number, r, picked, by := v.reads, v.session.app, v.session.picked, v.by
	var upTo, chosen *run.Record
	if len(v.all) > 0 && v.run < len(v.all)-1 {
		chosen, upTo = v.all[v.run], v.all[min(len(v.all)-1, v.run+history.PastRuns/2)]
	}
	return func() tea.Msg {
		all, err := r.Ledger().List()
		var past *history.Past
		var list listing
		if err == nil {
			past, err = r.Ledger().Past(history.PastRuns, upTo)
		}
		if err == nil {
			list = newListing(past, by, picked)
		}
		return ledgerMsg(func(v *ledgerView) tea.Cmd {
			if number != v.reads {
				return nil // another was asked for since
			}
			if v.wrong = err; err != nil {
				return nil
			}
			v.all, v.run = all, len(all)-1
			if chosen != nil {
				v.run = max(0, slices.IndexFunc(all, func(k *run.Record) bool { return k.Number == chosen.Number }))
			}
			return v.take(past, list)
		})
	}
}

// readAgain reads again what was read, as after a run.
func (v *ledgerView) readAgain() tea.Cmd {
	if v.reads == 0 {
		return nil
	}
	return v.read()
}

// take takes a past with its tests, keeps the cursor on its test, and asks for what follows.
func (v *ledgerView) take(past *history.Past, list listing) tea.Cmd {
	under := v.currentID()
	v.past, v.listing, v.card = past, list, nil
	v.at = max(0, slices.IndexFunc(list.order, func(test int) bool { return past.History.IDs[test] == under }))
	changes := func() tea.Msg {
		changed := past.WithChanges()
		return ledgerMsg(func(v *ledgerView) tea.Cmd {
			if v.past != past {
				return nil
			}
			v.past = changed
			if v.by == history.ByChange {
				return v.arrange()
			}
			return nil
		})
	}
	again := func() tea.Msg { return nil }
	if list.orderedBy != v.by || list.picked != v.session.picked.text {
		again = v.arrange() // others are wanted by now
	}
	return tea.Batch(again, v.choose(nil), v.know(), changes)
}

// listing is which tests of a past are listed, in their order.
type listing struct {
	orderedBy, picked string
	order             []int // by their places in the past
	troubled          int   // how many were ever bad, where they stand first

	groupWidth, nameWidth int // of the widest
}

// newListing lists the tests that a pick holds; what the project has no more is listed where
// everything is picked.
func newListing(past *history.Past, by string, picked figures) listing {
	var held func(id string) bool
	if picked.text != "" {
		held = func(id string) bool {
			i, ok := picked.Catalog.Index(id)
			return ok && picked.held.Has(i)
		}
	}
	l := listing{orderedBy: by, picked: picked.text, order: past.Order(by, held)}
	for _, test := range l.order {
		group, name := groupAndName(past.History.IDs[test])
		l.groupWidth, l.nameWidth = widest(l.groupWidth, group), widest(l.nameWidth, name)
	}
	for by == history.ByTrouble && l.troubled < len(l.order) && past.Figures[l.order[l.troubled]].Bad > 0 {
		l.troubled++
	}
	return l
}

// widest is the greater of a width and that of a text, which is never more than its bytes.
func widest(cells int, text string) int {
	if len(text) <= cells {
		return cells
	}
	return max(cells, width(text))
}

// arrange lists the tests that are picked by now, in the order that is wanted by now.
func (v *ledgerView) arrange() tea.Cmd {
	if v.past == nil {
		return nil
	}
	v.sorts++
	number, past, by, picked := v.sorts, v.past, v.by, v.session.picked
	return func() tea.Msg {
		list := newListing(past, by, picked)
		return ledgerMsg(func(v *ledgerView) tea.Cmd {
			if number != v.sorts || v.past.History != past.History {
				return nil
			}
			v.listing, v.at, v.top = list, 0, 0
			return v.know()
		})
	}
}

// choose reads the chosen run, and where a report of it is asked for shows that in the place of the
// tests.
func (v *ledgerView) choose(report func(of chosenRun) (*runReport, error)) tea.Cmd {
	if len(v.all) == 0 {
		return nil
	}
	kept, of, r := v.all[v.run], v.chosen, v.session.app
	return func() tea.Msg {
		var err error
		if of.kept == nil || of.kept.Number != kept.Number {
			of, err = readRun(r, kept)
		}
		if err != nil {
			return ledgerMsg(func(v *ledgerView) tea.Cmd { v.wrong = err; return nil })
		}
		var rep *runReport
		if report != nil {
			rep, err = report(of)
		}
		if err != nil {
			return sayMsg(err.Error())
		}
		return ledgerMsg(func(v *ledgerView) tea.Cmd {
			if v.run >= len(v.all) || v.all[v.run].Number != kept.Number {
				return nil // another is chosen since
			}
			v.chosen = of
			if rep != nil {
				v.report = rep
			}
			return nil
		})
	}
}

func readRun(r *app.App, kept *run.Record) (of chosenRun, err error) {
	of.kept = kept
	if of.run, err = r.Ledger().Results(kept); err == nil {
		of.causes, err = r.Ledger().Causes(of.run)
	}
	return of, err
}

// know asks what is known of the test under the cursor.
func (v *ledgerView) know() tea.Cmd {
	test, ok := v.current()
	if !ok || v.card != nil && v.card.ID == v.past.History.IDs[test] {
		return nil
	}
	past, r := v.past, v.session.app
	return func() tea.Msg {
		card, err := r.Ledger().Card(past, test)
		return ledgerMsg(func(v *ledgerView) tea.Cmd {
			if now, ok := v.current(); err == nil && ok && v.past.History.IDs[now] == card.ID {
				v.card = card
			}
			return nil
		})
	}
}

// current is the test under the cursor, by its place in the past.
func (v *ledgerView) current() (test int, ok bool) {
	if v.past == nil || len(v.order) == 0 {
		return 0, false
	}
	v.at = max(0, min(v.at, len(v.order)-1))
	return v.order[v.at], true
}

func (v *ledgerView) press(msg tea.KeyPressMsg) action {
	switch {
	case key.Matches(msg, ledgerKeys.panel):
		v.panel = !v.panel
	case key.Matches(msg, ledgerKeys.compare):
		return v.compare()
	case v.report != nil:
		return v.report.press(v, msg)
	case key.Matches(msg, ledgerKeys.order):
		v.by = history.PastOrders[(slices.Index(history.PastOrders, v.by)+1)%len(history.PastOrders)]
		return action{cmd: v.arrange()}
	case key.Matches(msg, ledgerKeys.open):
		return v.open()
	case key.Matches(msg, ledgerKeys.draw):
		return v.draws()
	case key.Matches(msg, ledgerKeys.hunt):
		return v.hunt(v.currentID())
	case key.Matches(msg, ledgerKeys.edit):
		return v.edit(v.currentID())
	case msg.String() == "left" || msg.String() == "h":
		return v.move(-1)
	case msg.String() == "right" || msg.String() == "l":
		return v.move(1)
	default:
		v.at = moved(v.at, msg.String(), len(v.order))
		return action{cmd: v.know()}
	}
	return action{}
}

func (v *ledgerView) currentID() string {
	if test, ok := v.current(); ok {
		return v.past.History.IDs[test]
	}
	return ""
}

// move goes to another run, and reads others where it comes to the edge of those that are known.
func (v *ledgerView) move(step int) action {
	if len(v.all) == 0 {
		return action{}
	}
	before := v.run
	v.run = max(0, min(v.run+step, len(v.all)-1))
	if v.run == before {
		return action{}
	}
	if column := v.column(); column >= 0 && (column > 0 || v.run == 0) {
		return action{cmd: v.choose(nil)}
	}
	return action{cmd: tea.Batch(v.read(), v.choose(nil))}
}

// column is the place of the chosen run in the past; -1 where it is not there.
func (v *ledgerView) column() int {
	if v.past == nil || len(v.all) == 0 {
		return -1
	}
	number := v.all[v.run].Number
	return slices.IndexFunc(v.past.Runs, func(k *run.Record) bool { return k.Number == number })
}

// open opens the report of the chosen run.
func (v *ledgerView) open() action {
	if len(v.all) == 0 {
		return action{say: "no run is kept yet: there is nothing to report"}
	}
	return action{cmd: v.choose(func(of chosenRun) (*runReport, error) { return newRunReport(of), nil })}
}

// compare shows how the chosen run differs from the one before it.
func (v *ledgerView) compare() action {
	if len(v.all) == 0 {
		return action{say: "no run is kept yet: there is nothing to compare"}
	}
	r := v.session.app
	return action{cmd: v.choose(func(after chosenRun) (*runReport, error) {
		before, earlier, err := r.Ledger().Before(after.kept)
		if errors.Is(err, run.ErrNoRecord) {
			return nil, errors.New("this is the first run: there is none to compare it with")
		}
		if err != nil {
			return nil, err
		}
		c, err := r.Ledger().Compare(earlier, after.run, after.kept)
		return newComparison(after, before, c), err
	})}
}

// hunt goes to the hunt of a test that was hunted, or hunts it.
func (v *ledgerView) hunt(id string) action {
	if id == "" {
		return action{}
	}
	if slices.ContainsFunc(v.session.hunts, func(h *liveHunt) bool { return h.victim.ID == id }) {
		return action{hunted: id}
	}
	t, ok := v.session.picked.Catalog.Lookup(id)
	if !ok {
		return action{say: "the project does not have " + plain.Line(id) + " any more: it cannot be hunted"}
	}
	return action{hunt: []catalog.Test{*t}}
}

func (v *ledgerView) edit(id string) action {
	t, ok := v.session.picked.Catalog.Lookup(id)
	if !ok {
		return action{say: "the project does not have this test any more"}
	}
	return action{edit: place{t.File, t.Line}}
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

// visit asks for what is not known yet of what is looked at.
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
func (v *ledgerView) draws() action {
	if v.past == nil || len(v.past.Runs) == 0 {
		return action{say: "no run is kept yet: there is nothing to draw"}
	}
	past, order, r := v.past, v.order, v.session.app
	return action{sheet: &sheet{
		title: "Draw what the runs say",
		rows: []sheetRow{
			{label: "chart", choices: draw.PastCharts, hints: []string{"tests against runs", "the slowest tests", "work and wall time, run by run"}},
			newText("file", "", "a file ending in .svg or .pdf"),
		},
		done: func(sh *sheet) tea.Cmd {
			chart, file := sh.choice("chart"), sh.choice("file")
			return func() tea.Msg {
				drawing, err := draw.Past(chart, r.Project.Name, past, order)
				if err == nil {
					err = draw.WriteFile(file, drawing)
				}
				return drawnMsg{sh, file, err}
			}
		},
	}}
}
