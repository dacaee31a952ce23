package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/split"
	"fernrelay/internal/app"
	"fernrelay/internal/wording"
	"fernrelay/internal/workspace"
)

// planFlags say what is split and on what, the same for every command that plans.
type planFlags struct {
	pick, timings, together string
	limit                   int
	late, speed, pin        []string
	here, verbose           bool
}

func (f *planFlags) add(cmd *cobra.Command) {
	addPick(cmd, &f.pick)
	cmd.Flags().StringVar(&f.timings, "timings", "", "read expected times from this CSV `file`")
	cmd.Flags().StringVar(&f.together, "together", "", "keep each `LEVEL` together: test, file, group or suite")
	cmd.Flags().IntVar(&f.limit, "limit", 0, "with shards: run at most `N` of them at once")
	cmd.Flags().StringArrayVar(&f.late, "late", nil, "delay shard K by TIME (`K=TIME`: 2=60s); repeatable")
	cmd.Flags().StringArrayVar(&f.speed, "speed", nil, "set the speed of shard K (`K=FACTOR`: 2=0.5); repeatable")
	cmd.Flags().StringArrayVar(&f.pin, "pin", nil, "put a group, file or test on shard K (`NAME=K`); repeatable")
	cmd.Flags().BoolVarP(&f.verbose, "verbose", "v", false, "list timing IDs that match no test")
}

// addHere adds the flag of commands that may plan for one machine as well as for many.
func (f *planFlags) addHere(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.here, "here", false, "plan workers of this machine, which share resources")
}

// fleet returns a fleet of a number of shards.
func (f *planFlags) fleet(shards int) (split.Fleet, error) {
	fleet := split.Fleet{Shards: shards, Limit: f.limit, Starts: map[int]float64{}, Speeds: map[int]float64{}}
	for _, text := range f.late {
		number, value, err := forShard("--late", text, shards)
		if err != nil {
			return fleet, err
		}
		late, err := time.ParseDuration(value)
		if err != nil {
			return fleet, fmt.Errorf("--late is %q: K=TIME is expected, as in 2=60s", text)
		}
		fleet.Starts[number] = late.Seconds()
	}
	for _, text := range f.speed {
		number, value, err := forShard("--speed", text, shards)
		if err != nil {
			return fleet, err
		}
		if fleet.Speeds[number], err = strconv.ParseFloat(value, 64); err != nil {
			return fleet, fmt.Errorf("--speed is %q: K=FACTOR is expected, as in 2=0.5", text)
		}
	}
	return fleet, fleet.Check()
}

// forShard parts K=VALUE.
func forShard(flag, text string, shards int) (number int, value string, err error) {
	key, value, _ := strings.Cut(text, "=")
	number, err = strconv.Atoi(key)
	if err != nil || number < 1 || number > shards {
		return 0, "", fmt.Errorf("%s is %q: it begins with a shard's number from 1 to %d and =", flag, text, shards)
	}
	return number, value, nil
}

// pinned pins units to shards, once it is known which units there are.
func (f *planFlags) pinned(study *split.Study) error {
	for _, text := range f.pin {
		at := strings.LastIndexByte(text, '=')
		number, _, err := forShard("--pin", text[at+1:]+"=", study.Fleet.Shards)
		if at < 0 || err != nil {
			return fmt.Errorf("--pin is %q: NAME=K is expected, with K from 1 to %d", text, study.Fleet.Shards)
		}
		name := text[:at]
		var named []string
		for _, u := range study.Work.Units() {
			if of := cmp.Or(u.Of, u.Name); (of == name || u.Label == name) && !slices.Contains(named, of) {
				named = append(named, of)
			}
		}
		if len(named) != 1 {
			return fmt.Errorf("--pin names %q, which is the name of %s: one is expected, as the plan shows it",
				name, wording.Plural(len(named), "unit"))
		}
		if study.Fleet.Pins == nil {
			study.Fleet.Pins = map[string]int{}
		}
		study.Fleet.Pins[named[0]] = number
	}
	return nil
}

// study prepares tests to be split on a number of shards. The application is nil if the tests are those of a file
// of timings.
func (s *settings) study(ctx context.Context, f *planFlags, shards int) (study *split.Study, err error) {
	fleet, err := f.fleet(shards)
	if err != nil {
		return nil, err
	}
	timed, err := f.readTimings()
	if err != nil {
		return nil, err
	}
	if timed != nil && f.pick == "" && !f.here {
		if study, err = split.NewStudy(timed, catalog.Level(f.together), fleet); err != nil {
			return nil, err
		}
		return study, f.pinned(study)
	}
	r, err := s.open(ctx)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if timed != nil {
		if r, err = f.withTimes(r, timed); err != nil {
			return nil, err
		}
	}
	tests, err := r.Pick(f.pick)
	if err = cmp.Or(err, r.Missing(f.pick)); err != nil {
		return nil, err
	}
	if len(tests) == 0 {
		return nil, empty(r, f.pick)
	}
	notePick(r, f.pick, tests)
	return f.study(r, workspace.Lone(tests), fleet)
}

// study prepares the picked tests of a project.
func (f *planFlags) study(r *app.App, tests []catalog.Test, fleet split.Fleet) (*split.Study, error) {
	if err := r.CheckDivisible(tests, "be divided among shards"); err != nil {
		return nil, err
	}
	study, err := r.Split(tests, catalog.Level(f.together), fleet, f.here)
	if err != nil {
		return nil, err
	}
	return study, f.pinned(study)
}

func (f *planFlags) readTimings() ([]catalog.Test, error) {
	if f.timings == "" {
		return nil, nil
	}
	timed, err := readTimings(f.timings)
	var repeated *history.RepeatedError
	if errors.As(err, &repeated) && f.verbose {
		for _, place := range repeated.Places {
			fmt.Fprintln(stderr, "fern-relay:", plain.Line(place))
		}
	}
	return timed, err
}

func readTimings(name string) ([]catalog.Test, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	timed, err := history.ReadCSV(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return timed, nil
}

// timed returns the project with the times of the file that was given, if one was.
func (f *planFlags) timed(r *app.App) (*app.App, error) {
	timed, err := f.readTimings()
	if timed == nil || err != nil {
		return r, err
	}
	return f.withTimes(r, timed)
}

// withTimes returns the project with the times of a file instead of those of the ledger, so that machines with and without a ledger
// make the same plan. It reports IDs that no test has.
func (f *planFlags) withTimes(r *app.App, timed []catalog.Test) (*app.App, error) {
	with, err := r.Timed(timed)
	if err != nil {
		return nil, err
	}
	var unknown []string
	for _, t := range timed {
		if _, ok := r.Catalog.Lookup(t.ID); !ok {
			unknown = append(unknown, t.ID)
		}
	}
	if len(unknown) == 0 {
		return with, nil
	}
	hint := ": -v lists them"
	if f.verbose {
		hint = ":\n    " + plain.Text(strings.Join(unknown, "\n    "))
	}
	fmt.Fprintf(stderr, "fern-relay: note: %s has %s that no test of the project has%s\n", f.timings, wording.Plural(len(unknown), "ID"), hint)
	return with, nil
}

// title says what is planned.
func (f *planFlags) title(shards int) string {
	what := "all tests"
	if f.pick != "" {
		what = f.pick
	}
	return fmt.Sprintf("%s, on %s", what, wording.Plural(shards, "shard"))
}
