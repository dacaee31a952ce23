package report

import (
	"fmt"
	"io"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/wording"
)

// differencesShown bounds the tests with other outcomes that are listed.
const differencesShown = 20

// Levels prints how finely the tests of a trial may run side by side.
func Levels(w io.Writer, trial *schedule.LevelTrial) {
	fmt.Fprintln(w)
	rows := [][]string{{"side by side", "workers", "time", "compared with one after another"}, {"nothing", "1", wall(trial.Alone), trial.Alone.Summary()}}
	for _, l := range trial.Levels {
		verdict := fmt.Sprintf("nothing differs; %s at the same time", met(l))
		if n := len(l.Differ); n > 0 {
			verdict = wording.Plural(n, "other outcome")
		}
		rows = append(rows, []string{string(l.Together) + "s", fmt.Sprint(l.Workers), wall(l.Run), verdict})
	}
	table(w, rows)
	if n := len(trial.Flaky); n > 0 {
		fmt.Fprintf(w, "not compared, because they differ with nothing beside them: %s\n", plain.Line(strings.Join(trial.Flaky, ", ")))
	}
	if n := len(trial.Levels); n > 0 {
		differing(w, trial.Levels[n-1].Differ)
	}
	fmt.Fprintln(w, verdictOf(trial))
}

func wall(run *run.Run) string { return history.ClockTenths(run.Wall()) }

func differing(w io.Writer, all []schedule.LevelDifference) {
	for i, d := range all {
		if i == differencesShown {
			fmt.Fprintf(w, "    and %s more\n", wording.Plural(len(all)-i, "test"))
			return
		}
		fmt.Fprintf(w, "    %s %s  %s, and %s alone: %d of %d runs\n", d.Beside.Shape(), plain.Line(d.ID), d.Beside, d.Alone, d.Times, d.Of)
	}
}

// verdictOf says what the trial showed.
func verdictOf(trial *schedule.LevelTrial) string {
	n := len(trial.Levels)
	switch {
	case trial.Safe.Counts[run.Lost] > 0:
		return "the trial is not complete: a run was interrupted"
	case n == 0:
		return "there is nothing that could run side by side"
	case trial.Finest == "":
		return fmt.Sprintf("no level is safe: %ss cannot run side by side as they are: together = \"suite\" in fern.toml keeps them apart", trial.Levels[0].Together)
	}
	finest := trial.Levels[n-1]
	if len(finest.Differ) > 0 {
		finest = trial.Levels[n-2]
	}
	switch {
	case finest.Met < finest.Pairs:
		return fmt.Sprintf("not enough overlap to know whether %ss can run side by side: %s at the same time, and nothing differed; --repeat N runs each level up to N times, in other orders", finest.Together, met(finest))
	case n > 1 && len(trial.Levels[n-1].Differ) > 0:
		return fmt.Sprintf("the finest safe level is %s: together = %q in fern.toml; %s at the same time", finest.Together, finest.Together, met(finest))
	}
	return fmt.Sprintf("every level is safe: together = %q in fern.toml lets single %ss run side by side; %s at the same time", finest.Together, finest.Together, met(finest))
}

// met says how many pairs of a level ran at the same time.
func met(l schedule.TriedLevel) string {
	if l.Met == l.Pairs {
		return fmt.Sprintf("all %d pairs of %ss ran", l.Pairs, l.Together)
	}
	return fmt.Sprintf("%d of %d pairs of %ss ran", l.Met, l.Pairs, l.Together)
}
