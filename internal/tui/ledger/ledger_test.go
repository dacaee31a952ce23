package ledger

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/ledger/ledgertest"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
	"fernrelay/internal/wording"
)

// drive opens the leg on a project whose ledger has a number of runs of a number of tests.
func drive(t *testing.T, tests, runs int) (*legtest.Driver, *View) {
	t.Helper()
	r, err := app.Open(t.Context(), ledgertest.Project(t, tests, runs), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	var v *View
	d := legtest.New(t, r, func(s *leg.Session) leg.Leg {
		v = New(s)
		return v
	})
	return d, v
}

// TestCellsAreThePast compares every cell that the leg draws with the ledger, while the cursor and the size change at
// random: a row is a test, a column is a run.
func TestCellsAreThePast(t *testing.T) {
	d, v := drive(t, 400, 90)
	random := rand.New(rand.NewPCG(3, 4))
	cells := 0
	for range 120 {
		d.Width, d.Height = 80+random.IntN(170), 20+random.IntN(50)
		d.Press(strings.Repeat(string([]rune("jkhlo")[random.IntN(5)]), 1+random.IntN(12)))
		screen := strings.Split(d.Screen(), "\n")
		if v.Cells.shown == 0 {
			t.Fatalf("%d×%d cells show no run", d.Width, d.Height)
		}
		for i := range v.Cells.Rows {
			test := v.Order[v.top+i]
			row := []rune(screen[TestsTop+i])
			for n, cell := range v.Past.History.Past(test)[v.Cells.first : v.Cells.first+v.Cells.shown] {
				x := v.Cells.X + cellColumn(n)
				if got := strings.TrimSpace(string(row[x : x+1])); got != strings.TrimSpace(cell.Outcome().Shape()) {
					t.Fatalf("%d×%d cells: test %d of run %d is drawn as %q, and its outcome is %q:\n%s", d.Width, d.Height, test, n, got, cell.Outcome(), strings.Join(screen, "\n"))
				}
				cells++
			}
			if words := wording.Percent(v.Past.Figures[test].Rate); !strings.Contains(string(row), words) {
				t.Errorf("the row %q does not have the rate %s", string(row), words)
			}
		}
		if at := v.Column(); at < v.Cells.first || at >= v.Cells.first+v.Cells.shown {
			t.Errorf("the chosen run is column %d of those from %d on, of which %d are shown", at, v.Cells.first, v.Cells.shown)
		}
	}
	if cells < 50000 {
		t.Errorf("only %d cells were compared", cells)
	}
}

// TestOrdersOfTests goes through the orders. Each lists all tests as the past orders them, and begins at the top.
func TestOrdersOfTests(t *testing.T) {
	d, v := drive(t, 200, 30)
	for range history.PastOrders {
		d.Press("jjj")
		d.Press("o")
		if want := v.Past.Order(v.By, nil); !slices.Equal(v.Order, want) {
			t.Errorf("by %s the tests are listed in another order than the past's", v.By)
		}
		if v.At != 0 || !strings.Contains(d.Screen(), orderWords[v.By]) {
			t.Errorf("by %s the cursor is at test %d:\n%s", v.By, v.At, d.Screen())
		}
		if help := v.Keys()[1].Help().Desc; help != "order: "+v.By {
			t.Errorf("the key of the order is explained as %q", help)
		}
	}
}

// TestLateAnswersAreLeft shows that the answer to an earlier request changes nothing.
func TestLateAnswersAreLeft(t *testing.T) {
	d, v := drive(t, 200, 30)
	listing := func(by string) tea.Msg {
		v.By = by
		return v.arrange()()
	}
	early, late := listing(history.ByName), listing(history.ByTime)
	v.Update(late)
	byTime := slices.Clone(v.Order)
	v.Update(early)
	if !slices.Equal(v.Order, byTime) {
		t.Error("an earlier order replaced a later one")
	}
	first, second := v.read(), v.read()
	past := first()
	d.Do(second)
	now := v.Past
	d.Do(func() tea.Msg { return past })
	if v.Past != now {
		t.Error("an earlier past replaced a later one")
	}
	chosen := v.choose(nil)()
	d.Press("h")
	number := v.Chosen.Record.Number
	d.Do(func() tea.Msg { return chosen })
	if v.Chosen.Record.Number != number || number != v.All[v.Run].Number {
		t.Errorf("run %d is chosen, and run %d is reported", v.All[v.Run].Number, v.Chosen.Record.Number)
	}
	d.Do(func() tea.Msg { return CardReadMsg{&history.Card{ID: "another"}} })
	if v.Card == nil || v.Card.ID != v.CurrentID() {
		t.Errorf("the card is of %+v, the cursor is on %s", v.Card, v.CurrentID())
	}
	d.Do(func() tea.Msg { return ledgerFailedMsg{fmt.Errorf("the disk is gone")} })
	if !strings.Contains(d.Screen(), "the disk is gone") {
		t.Errorf("the error is not shown:\n%s", d.Screen())
	}
}

// TestRowsAreTheOpenBranches folds a report at random, and compares its rows with a walk through the tree. The row under the
// cursor is always in sight, and all that is open is listed once.
func TestRowsAreTheOpenBranches(t *testing.T) {
	d, v := drive(t, 300, 20)
	for v.Chosen.Run.Counts[run.Failed] == 0 {
		d.Press("h")
	}
	d.Press("⏎")
	rep := v.Report
	var walk func(all []*branch, depth int) []reportRow
	walk = func(all []*branch, depth int) (rows []reportRow) {
		for _, b := range all {
			rows = append(rows, reportRow{b, depth})
			if rep.open[b] {
				rows = append(rows, walk(b.Below, depth+1)...)
			}
		}
		return rows
	}
	random := rand.New(rand.NewPCG(5, 6))
	for range 600 {
		d.Width, d.Height = 80+random.IntN(170), 16+random.IntN(40)
		d.Press(string([]rune("jjjkkhl⏎⏎⇥")[random.IntN(10)]))
		if !slices.Equal(rep.Rows, walk(rep.roots, 0)) {
			t.Fatalf("%d rows are listed, and %d are open", len(rep.Rows), len(walk(rep.roots, 0)))
		}
		shown := d.Screen()
		if d.Width < ledgerBoth && v.panel {
			continue // the panel covers it
		}
		if row := rep.Current(); rep.At < rep.top || !strings.Contains(shown, strings.Fields(row.Words)[0]) {
			t.Fatalf("%d×%d: row %d of those from %d on, %q, is not in sight:\n%s", d.Width, d.Height, rep.At, rep.top, row.Words, shown)
		}
	}
	tests := 0
	for _, b := range rep.roots[1:] {
		tests += count(b)
	}
	if tests != len(rep.Causes.Run.Results) {
		t.Errorf("the report has %d tests, and the run %d", tests, len(rep.Causes.Run.Results))
	}
}

// count returns how many tests are below a branch.
func count(b *branch) (tests int) {
	if b.Result != nil {
		return 1
	}
	for _, below := range b.Below {
		tests += count(below)
	}
	return tests
}

// TestComparisonAgainstReference compares two runs as the leg does, and by hand.
func TestComparisonAgainstReference(t *testing.T) {
	d, v := drive(t, 300, 20)
	compared := 0
	for n := 20; n > 1; n-- {
		d.Press("=")
		after, err := v.session.App.Ledger().Results(v.Chosen.Record)
		if err != nil {
			t.Fatal(err)
		}
		_, before, err := v.session.App.Ledger().Before(v.Chosen.Record)
		if err != nil {
			t.Fatal(err)
		}
		var want []string
		for _, r := range after.Results {
			if was := before.Result(r.ID); r.Outcome.Bad() && was != nil && !was.Outcome.Bad() {
				want = append(want, r.ID)
			}
		}
		var got []string
		for _, b := range v.Report.roots {
			if strings.Contains(b.Words, "newly failing") {
				for _, below := range b.Below {
					got = append(got, below.Result.ID)
				}
			}
		}
		slices.Sort(want)
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Errorf("run %d against the one before it: newly failing are %v, want %v", n, got, want)
		}
		compared += len(want)
		d.Press("⌫h")
	}
	if compared == 0 {
		t.Error("no test failed newly in any run")
	}
	asked := d.Press("=") // run 1
	if v.Report != nil {
		t.Errorf("the first run is compared: %v", asked)
	}
}

// TestKeysAsk shows what the leg asks of the application, on the tests and in the report of a run.
func TestKeysAsk(t *testing.T) {
	d, v := drive(t, 120, 12)
	id := v.CurrentID()
	for keys, want := range map[string]tea.Msg{"H": leg.HuntTestMsg(id), "e": leg.EditTestMsg(id)} {
		if got := d.Press(keys); !reflect.DeepEqual(got, want) {
			t.Errorf("%s asks for %#v, want %#v", keys, got, want)
		}
	}
	if _, ok := d.Press("d").(leg.OpenSheetMsg); !ok {
		t.Error("d opens no sheet for a chart of the past")
	}
	for v.Chosen.Run.Counts[run.Failed] == 0 {
		d.Press("h")
	}
	d.Press("⏎")
	for r := v.Report.Current(); r.Result == nil || r.step != nil; r = v.Report.Current() {
		d.Press("j")
	}
	r := v.Report.Current().Result
	for keys, want := range map[string]tea.Msg{"H": leg.HuntTestMsg(r.ID), "e": leg.EditFileMsg{File: r.File, Line: r.Line}} {
		if got := d.Press(keys); !reflect.DeepEqual(got, want) {
			t.Errorf("in the report %s asks for %#v, want %#v", keys, got, want)
		}
	}
	if _, ok := d.Press("d").(leg.OpenSheetMsg); !ok {
		t.Error("d opens no sheet for a chart of the run")
	}
}

// TestNoRuns presses every key of the leg on a project that has not run: each says so or does nothing, and none fails.
func TestNoRuns(t *testing.T) {
	d := legtest.New(t, legtest.Made(2, 3, 1), func(s *leg.Session) leg.Leg { return New(s) })
	for _, key := range "jkhloHe=d⏎⇥⇥⌫" {
		asked := d.Press(string(key))
		if words, ok := asked.(leg.SayMsg); ok && !strings.Contains(string(words), "no runs yet") && !strings.Contains(string(words), "no test is under") {
			t.Errorf("%c says %q", key, words)
		}
	}
	if !strings.Contains(d.Screen(), "Nothing has run yet.") {
		t.Errorf("the screen does not say that nothing has run:\n%s", d.Screen())
	}
}
