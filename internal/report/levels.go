package report

import (
	"fmt"
	"io"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/wording"
)

// differencesShown bounds the tests with other outcomes that are listed.
const differencesShown = 20

// Levels prints how finely the tests of a trial may run side by side.
func Levels(w io.Writer, trial *split.LevelTrial) {
	fmt.Fprintln(w)
	rows := [][]string{{"side by side", "workers", "time", "compared with one after another"}, {"nothing", "1", wall(trial.Alone), trial.Alone.Summary()}}
	for _, l := range trial.Levels {
		verdict := "nothing differs"
		if n := len(l.Differ); n > 0 {
			verdict = wording.Plural(n, "other outcome")
		}
		rows = append(rows, []string{string(l.Together) + "s", fmt.Sprint(l.Workers), wall(l.Run), verdict})
	}
	table(w, rows)
	if n := len(trial.Unstable); n > 0 {
		fmt.Fprintf(w, "not compared, because they differ with nothing beside them: %s\n", plain.Line(strings.Join(trial.Unstable, ", ")))
	}
	if n := len(trial.Levels); n > 0 {
		differing(w, trial.Levels[n-1].Differ)
	}
	fmt.Fprintln(w, verdictOf(trial))
}

func wall(run *run.Run) string { return history.ClockTenths(run.Wall()) }

func differing(w io.Writer, all []split.LevelDifference) {
	for i, d := range all {
		if i == differencesShown {
			fmt.Fprintf(w, "    and %s more\n", wording.Plural(len(all)-i, "test"))
			return
		}
		fmt.Fprintf(w, "    %s %s  %s, and %s alone: %d of %d runs\n", d.Beside.Shape(), plain.Line(d.ID), d.Beside, d.Alone, d.Times, d.Of)
	}
}

// verdictOf says what the trial showed.
func verdictOf(trial *split.LevelTrial) string {
	n := len(trial.Levels)
	switch {
	case trial.Safe.Counts[run.Lost] > 0:
		return "the trial is not complete: a run was interrupted"
	case n == 0:
		return "there is nothing that could run side by side"
	case trial.Finest == "":
		return fmt.Sprintf("no level is safe: %ss cannot run side by side as they are: together = \"suite\" in fern.toml keeps them apart", trial.Levels[0].Together)
	case len(trial.Levels[n-1].Differ) > 0:
		return fmt.Sprintf("the finest safe level is %s: together = %q in fern.toml", trial.Finest, trial.Finest)
	}
	return fmt.Sprintf("every level is safe: together = %q in fern.toml lets single %ss run side by side", trial.Finest, trial.Finest)
}
