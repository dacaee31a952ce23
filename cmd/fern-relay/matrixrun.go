package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/app"
	"fernrelay/internal/format/junit"
	"fernrelay/internal/report"
	"fernrelay/internal/report/runreport"
	"fernrelay/internal/wholefile"
	"fernrelay/internal/wording"
)

// matrixRunFlags are the flags of the command matrix run.
type matrixRunFlags struct {
	matrixFlags
	atOnce, workers, stopAfter, retries int
	timeout                             time.Duration
	shard, junit, output                string
	asJSON, strict, resume, mixed, asCI bool

	fleetFlags
}

func newMatrixRun(s *settings) *cobra.Command {
	f := &matrixRunFlags{}
	cmd := &cobra.Command{
		Use:   "run",
		Short: "Run the crossings of the matrix and explain the failures",
		Long: "Run runs the crossings, each with its own services, data, cache and environment, and says\n" +
			"which values explain the failures. Ctrl-C finishes running tests and starts no more;\n" +
			"press it again to stop now.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := f.check(cmd); err != nil {
				return err
			}
			if f.asCI {
				return s.rehearse(cmd, f)
			}
			r, crossings, err := f.open(cmd, s)
			if err != nil {
				return err
			}
			defer r.Close()
			id, err := f.fleetFlags.run(cmd)
			if err != nil {
				return err
			}
			results, err := f.run(cmd.Context(), s, r, crossings, id)
			if results == nil {
				return err
			}
			if printed := f.print(cmd.Context(), cmd.OutOrStdout(), s, r.History(), results); printed != nil {
				return unkept{printed}
			}
			if err != nil {
				return err
			}
			return withStatus(results.ExitStatus())
		},
	}
	f.matrixFlags.add(cmd)
	f.fleetFlags.add(cmd)
	flags := cmd.Flags()
	flags.IntVar(&f.atOnce, "at-once", 0, "run `N` crossings at the same time; default fern.toml's")
	flags.IntVar(&f.workers, "workers", 0, "use `N` workers in each crossing")
	flags.IntVar(&f.stopAfter, "stop-after", 0, "start no more crossings after `N` failed; 0 for no limit")
	flags.IntVar(&f.retries, "retries", 0, "retry a failed test up to `N` times")
	flags.DurationVar(&f.timeout, "timeout", 0, "limit each test to this `time`; default its suite's")
	flags.StringVar(&f.shard, "shard", "", "run share `K/N` of each crossing, such as 2/6")
	flags.StringVar(&f.junit, "junit", "", "write JUnit XML of all crossings to this `file`")
	flags.StringVarP(&f.output, "output", "o", "", "write a report to this .html, .md, .pdf or .xml `file`")
	addJSON(cmd, &f.asJSON, "the results as a JSON object")
	flags.BoolVar(&f.strict, "strict", onCI(), "fail where a service is missing; default if CI=true")
	flags.BoolVar(&f.resume, "resume", false, "continue the interrupted matrix run")
	flags.BoolVar(&f.mixed, "mixed", false, "allow results of different sources, and say so first")
	flags.BoolVar(&f.asCI, "as-ci", false, "rehearse in a fresh clone with a clean environment")
	return cmd
}

func (f *matrixRunFlags) check(cmd *cobra.Command) error {
	given := cmd.Flags().Changed
	for _, name := range []string{"at-once", "workers"} {
		if n, _ := cmd.Flags().GetInt(name); given(name) && n < 1 {
			return fmt.Errorf("--%s is %d: a number from 1 is expected", name, n)
		}
	}
	for _, name := range []string{"stop-after", "retries"} {
		if n, _ := cmd.Flags().GetInt(name); n < 0 {
			return fmt.Errorf("--%s is %d: a number from 0 is expected", name, n)
		}
	}
	if f.output != "" {
		if err := runreport.Check(f.output); err != nil {
			return err
		}
	}
	for _, other := range []string{"pick", "at", "pairs", "shard", "as-ci"} {
		if f.resume && given(other) {
			return fmt.Errorf("--%s does not go with --resume: leave one of them out", other)
		}
	}
	if cmp.Or(f.id, fleetEnvironment[fleetRunVariable]) != "" {
		for _, other := range []string{"shard", "resume", "as-ci", "stop-after", "at-once"} {
			if given(other) {
				return fmt.Errorf("--%s does not go with a fleet run: leave it out, or unset FERN_FLEET_RUN", other)
			}
		}
	}
	if f.shard != "" {
		_, _, err := parseShard(f.shard)
		return err
	}
	return nil
}

// share plans shards of a crossing and returns the tests of one of them.
func (f *matrixRunFlags) share(at *app.App, tests []catalog.Test) (*run.Planned, []catalog.Test, error) {
	k, n, err := parseShard(f.shard)
	if err != nil {
		return nil, nil, err
	}
	study, err := at.Split(tests, "", split.Fleet{Shards: n}, false)
	if err != nil {
		return nil, nil, err
	}
	planned, share := study.Share(study.Plan(split.Thorough), k)
	return planned, share, nil
}

// run runs crossings, in a fleet run if that has an ID, and prints on standard error how far they have come.
func (f *matrixRunFlags) run(ctx context.Context, s *settings, r *app.App, crossings []matrix.Crossing, id string) (*matrix.Results, error) {
	q := app.MatrixRequest{Crossings: crossings, Pick: f.pick, AtOnce: f.atOnce, Workers: f.workers, StopAfter: f.stopAfter, Retries: f.retries, Limit: f.timeout, Strict: f.strict, Resume: f.resume, Mixed: f.mixed}
	if f.shard != "" {
		q.Share = f.share
	}
	q.Changed = func(one matrix.Result) {
		switch {
		case one.State == matrix.Running:
			fmt.Fprintf(stderr, "%s %s: %s\n", runningShape, plain.Line(one.Label()), crossingStart(&one))
		case one.State == matrix.Waiting && one.Why != "":
			fmt.Fprintf(stderr, "· %s: %s\n", plain.Line(one.Label()), plain.Line(one.Why))
		case one.State == matrix.Ended:
			fmt.Fprintf(stderr, "%s %s: %s\n", one.Outcome.Shape(), plain.Line(one.Label()), report.CrossingWords(&one))
		}
	}
	if id != "" {
		station, err := f.fleetFlags.options()
		if err != nil {
			return nil, err
		}
		return r.RunMatrixFleet(ctx, q, app.FleetRequest{Options: station, Run: id, Machine: f.machine, Lease: f.lease, Again: f.again, Mixed: f.mixed})
	}
	run, err := r.NewMatrixRun(ctx, q)
	if err != nil {
		return nil, err
	}
	defer s.interrupts.finish(run.Finish)()
	return run.Run(ctx)
}

const runningShape = "▸"

func crossingStart(one *matrix.Result) string {
	text := wording.Plural(one.Tests, "test")
	if len(one.Services) > 0 {
		text += " with " + strings.Join(one.Services, ", ")
	}
	return text
}

// print prints the results and writes the files that are asked for.
func (f *matrixRunFlags) print(ctx context.Context, w io.Writer, s *settings, h *app.History, results *matrix.Results) error {
	if f.asJSON {
		if err := results.Write(w); err != nil {
			return err
		}
	} else {
		report.Matrix(w, results, h.Ledger().Own)
	}
	if f.junit != "" {
		if err := wholefile.Write(f.junit, func(w io.Writer) error { return junit.Write(w, runsOf(results)...) }); err != nil {
			return err
		}
	}
	if f.output == "" {
		return nil
	}
	about, err := runreport.OfMatrix(s.aboutProject(ctx, h), h.Ledger(), results)
	if err != nil {
		return err
	}
	return runreport.WriteFile(f.output, about)
}

// runsOf returns the runs of crossings, each marked with its crossing.
func runsOf(results *matrix.Results) (runs []*run.Run) {
	for _, one := range results.Results {
		if one.Run == nil {
			continue
		}
		own := *one.Run
		own.Crossing = one.Key()
		runs = append(runs, &own)
	}
	return runs
}
