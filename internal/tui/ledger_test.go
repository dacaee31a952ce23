package tui

import (
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/internal/app"
	"fernrelay/internal/ledger/ledgertest"
	ledgerleg "fernrelay/internal/tui/ledger"
)

// ledgerApp is the application on a project whose ledger has so many runs of so many tests.
func ledgerApp(t *testing.T, tests, runs int) (a *App, shows func(words ...string)) {
	t.Helper()
	r, err := app.Open(t.Context(), ledgertest.Project(t, tests, runs), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	a = newApp(t, r)
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	press(a, "5")
	return a, func(words ...string) {
		t.Helper()
		screen, _ := a.screen()
		for _, w := range words {
			if !strings.Contains(ansi.Strip(screen), w) {
				t.Fatalf("the screen does not show %q:\n%s", w, ansi.Strip(screen))
			}
		}
	}
}

// TestMoveThroughRuns goes further back than the runs that are read at once, and forth again.
func TestMoveThroughRuns(t *testing.T) {
	a, shows := ledgerApp(t, 300, 250)
	shows("Ledger 250 runs", "runs 215 – 250", "run 250 · causes", "beds/row")
	for n := 249; n >= 1; n-- {
		press(a, "h")
		if v := a.ledger; v.Column() < 0 || v.Chosen.Record.Number != n {
			t.Fatalf("going back, run %d is in column %d, and run %d is reported", n, v.Column(), v.Chosen.Record.Number)
		}
	}
	press(a, "h")
	shows("runs 1 – 36", "run 1 · causes")
	for n := 2; n <= 250; n++ {
		press(a, "l")
		if v := a.ledger; v.Column() < 0 || v.Chosen.Record.Number != n {
			t.Fatalf("going forth, run %d is in column %d, and run %d is reported", n, v.Column(), v.Chosen.Record.Number)
		}
	}
	shows("runs 215 – 250", "run 250 · causes")
	v := a.ledger
	settle(a, tea.MouseClickMsg{X: v.Cells.X + 1, Y: topRows + ledgerleg.TestsTop + 2, Button: tea.MouseLeft})
	if v.At != 2 || v.Chosen.Record.Number != 216 || v.Card == nil || v.Card.ID != v.CurrentID() {
		t.Errorf("a click on the second run of the third test chooses run %d of test %d", v.Chosen.Record.Number, v.At)
	}
	settle(a, tea.MouseClickMsg{X: v.Cells.X + 1, Y: topRows + ledgerleg.TestsTop + v.Cells.Rows, Button: tea.MouseLeft})
	if v.At != 2 {
		t.Errorf("a click below the tests goes to test %d", v.At)
	}
}

// TestReportFolds folds and unfolds the report of a run, and compares runs.
func TestReportFolds(t *testing.T) {
	a, shows := ledgerApp(t, 300, 20)
	for a.ledger.Chosen.Run.Counts["failed"] == 0 {
		press(a, "h")
	}
	number := a.ledger.Chosen.Record.Number
	press(a, "⏎")
	rep := a.ledger.Report
	shows(fmt.Sprint("run ", number), "▾ unit", "pump started", "is dry")
	all := len(rep.Rows)
	row := rep.Current()
	if len(rep.Causes.Causes) == 0 || len(row.Below) != len(rep.Causes.Causes[0].Results) {
		t.Errorf("the report begins at %+v, not at its first cause", row)
	}
	press(a, "⏎")
	if len(rep.Rows) != all+len(row.Below) {
		t.Errorf("the unfolded cause has %d rows, not %d", len(rep.Rows)-all, len(row.Below))
	}
	press(a, "⏎")
	for rep.Current().Words != "unit" {
		press(a, "j")
	}
	suite := rep.At
	for rep.Current().Result == nil || !rep.Current().Outcome.Bad() {
		press(a, "j")
	}
	press(a, "hh")
	if row := rep.Current(); row.Depth != 1 || len(rep.Rows) != all-100 {
		t.Errorf("folded there are %d of %d rows, the cursor is at depth %d", len(rep.Rows), all, row.Depth)
	}
	press(a, "→ h")
	if row := rep.Current(); row.Depth != 0 || len(rep.Rows) != all-100 {
		t.Errorf("from a group it goes to its suite: %d of %d rows, depth %d", len(rep.Rows), all, row.Depth)
	}
	press(a, "⏎")
	if len(rep.Rows) != suite+1 {
		t.Errorf("the folded suite has %d rows", len(rep.Rows))
	}
	press(a, "=")
	shows(fmt.Sprintf("run %d against run %d", number, number-1), "newly failing")
	press(a, "⌫")
	shows("most troubled first")
}
