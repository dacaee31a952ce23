package main

import (
	"os"
	"path/filepath"
	"testing"
)

// TestLedgerOnScreen opens the demo's past: another order, a pick, another run, its report down
// to a step, how it differs from the one before, a chart, and the hunt of a failure.
func TestLedgerOnScreen(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, 160, 40, dir, []string{"XDG_CACHE_HOME=" + t.TempDir()}, "demo")
	s.shows("Survey 252 of 252", "Ledger 30 runs")
	s.press("5")
	s.shows("most troubled first", "reads_new_units", "run 30 · causes", "5 failures, 3 causes", "slowest", "night_cycle", "10 of 30 passed", "first failed  run 1", "from run 13:")
	s.whole()
	s.press("o")
	s.shows("slowest first", "o order: time")
	s.press("o")
	s.shows("most changed time first", "up 5", "talks_to_the_bus")
	s.press("o", "o")
	s.shows("most troubled first")
	s.press("/")
	s.typed("in:import")
	s.press("Enter")
	s.shows("10 of 252 tests", "reads_old_units", "list_8_parses")
	s.press("j")
	s.shows("28 of 30 passed")
	s.press("Left", "Left", "Left", "Left")
	s.shows("run 26 · causes", "10 failures, 3 causes", "8 tests", "nobody answers (192.0.2.7:7301)", "and 7 more", "since run 9")
	s.press("=")
	s.shows("run 26 against run 25", "newly failing", "mended")
	s.press("Escape")
	s.shows("most troubled first")
	s.press("Enter")
	s.shows("235 passed, 10 failed", "1 passed, 9 failed", "list_5_parses", "seedbank", "counts_trays")
	s.press("G")
	s.shows("vents")
	s.whole()
	s.press("BSpace", "Left", "Enter") // before the run is read
	s.shows("run 25   247 passed", "▾ 3 causes", "1 test  litres through the open valves", "night_cycle")
	for range 14 { // to night_cycle, which has steps
		s.press("j")
	}
	s.press("Right")
	s.shows("3 steps", "▾ ▪ night_cycle")
	s.press("j")
	s.shows("step palms")
	s.press("Home", "j", "H") // the first test of the first cause
	s.shows("victims", "counts_litres", "trial ")
	s.press("x")
	s.shows("interrupted")
	s.press("5", "H")
	s.shows("victims", "interrupted")
	s.press("5", "BSpace", "d")
	s.shows("Draw what the runs say", "tests against runs")
	s.press("Down")
	chart := filepath.Join(dir, "history.svg")
	s.typed(chart)
	s.press("Enter")
	s.shows("written: ")
	if _, err := os.Stat(chart); err != nil {
		t.Error(err)
	}
	s.press("q")
	s.ended()
}
