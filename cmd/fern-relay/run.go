package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/outcome"
	"fernrelay/core/pick"
	"fernrelay/core/split"
	"fernrelay/internal/relay"
	"fernrelay/internal/report"
)

// runFlags are the flags of the command run.
type runFlags struct {
	planFlags
	reportFiles
	shard, order, show         string
	workers, repeat, stopAfter int
	strict, allowEmpty, resume bool
}

func newRun(s *settings) *cobra.Command {
	f := &runFlags{}
	cmd := &cobra.Command{
		Use:   "run",
		Short: "Run the picked tests on workers",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := f.check(cmd); err != nil {
				return err
			}
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			prepare := f.request
			if f.resume {
				prepare = resumed
			}
			request, err := prepare(r)
			if err != nil {
				return err
			}
			request.StopAfter = f.stopAfter
			run, err := f.run(cmd.Context(), r, request, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			return withStatus(run.ExitStatus())
		},
	}
	f.planFlags.add(cmd)
	cmd.Flags().IntVar(&f.workers, "workers", 0, "how many workers; as fern.toml says or one a processor without it")
	cmd.Flags().StringVar(&f.shard, "shard", "", "run only shard `K/N` of the plan for N shards")
	cmd.Flags().StringVar(&f.order, "order", "declared", "declared, reverse, seed:N or file:FILE with an ID a line")
	cmd.Flags().BoolVar(&f.resume, "resume", false, "run what is left of the run that was killed last")
	cmd.Flags().IntVar(&f.repeat, "repeat", 1, "run everything so many times and tell what differed")
	cmd.Flags().IntVar(&f.stopAfter, "stop-after", 0, "begin nothing new once so many tests have failed; 0 for never")
	cmd.Flags().StringVar(&f.show, "show", report.ShowSum, "how much is told while it runs: sum, names or full")
	f.reportFiles.add(cmd)
	cmd.Flags().BoolVar(&f.strict, "strict", onCI(), "refuse to run where a test is marked solo; on its own where CI=true is set")
	cmd.Flags().BoolVar(&f.allowEmpty, "allow-empty", false, "end well where the pick holds no test")
	return cmd
}

// check refuses flags that say nothing together.
func (f *runFlags) check(cmd *cobra.Command) error {
	for _, name := range []string{"together", "limit", "late", "speed", "pin"} {
		if cmd.Flags().Changed(name) && f.shard == "" {
			return fmt.Errorf("--%s says how shards are planned: it goes with --shard K/N", name)
		}
	}
	for _, name := range []string{"pick", "shard", "order", "workers", "repeat"} {
		if f.resume && cmd.Flags().Changed(name) {
			return fmt.Errorf("--%s does not go with --resume, which goes on as the run began", name)
		}
	}
	switch {
	case f.repeat < 1:
		return fmt.Errorf("--repeat is %d: a number from 1 is expected", f.repeat)
	case f.stopAfter < 0:
		return fmt.Errorf("--stop-after is %d: a number from 0 is expected", f.stopAfter)
	case f.show != report.ShowSum && f.show != report.ShowNames && f.show != report.ShowFull:
		return fmt.Errorf("--show is %q: sum, names or full is expected", f.show)
	}
	return checkWorkers(cmd, f.workers)
}

// run runs a request as often as is asked for. What came of a test that differed is
// the gravest of it.
func (f *runFlags) run(ctx context.Context, r *relay.Relay, q relay.Request, out io.Writer) (*outcome.Run, error) {
	if f.repeat == 1 && !f.resume {
		return runAndWrite(ctx, r, q, f.reportFiles, f.show, out)
	}
	reports, err := f.create()
	if err != nil {
		return nil, err
	}
	if f.resume {
		run, err := runAndWrite(ctx, r, q, reportFiles{}, f.show, out)
		if err != nil {
			return nil, errors.Join(err, reports.close())
		}
		whole, err := r.Resumed(q, run)
		fmt.Fprintf(out, "with what had ended before: %s\n", whole.Summary())
		return whole, errors.Join(err, reports.replay(whole))
	}
	var parts []outcome.Part
	for n := 1; n <= f.repeat && ctx.Err() == nil; n++ {
		fmt.Fprintf(out, "run %d of %d\n", n, f.repeat)
		run, err := runAndWrite(ctx, r, q, reportFiles{}, f.show, out)
		if err != nil {
			return nil, errors.Join(err, reports.close())
		}
		parts = append(parts, outcome.Part{Name: fmt.Sprint("run ", n), Run: run})
	}
	report.Repeated(out, parts)
	merged := outcome.Merge(parts).Run
	return merged, reports.replay(merged)
}

// resumed is what is left of the run that was killed last.
func resumed(r *relay.Relay) (relay.Request, error) {
	q, gone, err := r.ReadyResume()
	if gone > 0 {
		fmt.Fprintf(os.Stderr, "fern-relay: note: %s of the run left out: the project has them no more\n", report.Plural(gone, "test"))
	}
	return q, err
}

// checkWorkers refuses a number of workers that was given and is none.
func checkWorkers(cmd *cobra.Command, workers int) error {
	if cmd.Flags().Changed("workers") && workers < 1 {
		return fmt.Errorf("--workers is %d: a number from 1 is expected", workers)
	}
	return nil
}

// onCI reports whether this is a job of a CI system, as they all say it.
func onCI() bool {
	ci, err := strconv.ParseBool(os.Getenv("CI"))
	return ci && err == nil
}

func (f *runFlags) request(r *relay.Relay) (q relay.Request, err error) {
	rule, err := f.readOrder(r)
	if err != nil {
		return q, fmt.Errorf("--order: %w", err)
	}
	tests, err := r.Pick(f.pick)
	if err != nil {
		return q, err
	}
	if len(tests) == 0 && !f.allowEmpty {
		return q, f.empty(r)
	}
	if f.strict {
		if err := refuseSolo(tests); err != nil {
			return q, err
		}
	}
	noteContradictions(f.pick, tests)
	timed, err := f.readTimings()
	if err != nil {
		return q, err
	}
	if timed != nil {
		f.expect(r, tests, timed)
	}
	if f.shard != "" {
		if q.Shard, tests, err = f.share(r, relay.Solo(tests)); err != nil {
			return q, err
		}
	}
	if tests, err = rule.Apply(tests); err != nil {
		return q, fmt.Errorf("--order: %w", err)
	}
	shard := q.Shard
	q, err = r.Ready(f.pick, tests, cmp.Or(f.workers, r.Workers()))
	q.InOrder, q.Shard = !rule.IsDeclared(), shard
	return q, err
}

// share plans as all machines do, and keeps the tests of the shard asked for.
func (f *runFlags) share(r *relay.Relay, tests []catalog.Test) (*outcome.Planned, []catalog.Test, error) {
	var k, n int
	if _, err := fmt.Sscanf(f.shard+"\n", "%d/%d\n", &k, &n); err != nil || k < 1 || k > n || n > mostShards {
		return nil, nil, fmt.Errorf("--shard is %q: K/N is expected with K from 1 to N, as in 2/4", f.shard)
	}
	fleet, err := f.fleet(n)
	if err != nil {
		return nil, nil, err
	}
	study, err := f.study(r, tests, fleet)
	if err != nil {
		return nil, nil, err
	}
	planned, share := study.Share(study.Plan(split.Thorough), k)
	return planned, share, nil
}

// empty tells that a pick holds no test, and which clause emptied it.
func (f *runFlags) empty(r *relay.Relay) error {
	expr, err := pick.Parse(f.pick)
	if err != nil {
		return err
	}
	steps, err := r.Index.Funnel(f.pick, expr)
	if err != nil {
		return err
	}
	var funnel strings.Builder
	report.Funnel(&funnel, steps)
	return fmt.Errorf("the pick %q holds no test:\n%sgive another pick, or --allow-empty where that is well", f.pick, funnel.String())
}

// refuseSolo tells the tests that are marked solo, which would keep all others
// from running.
func refuseSolo(tests []catalog.Test) error {
	var places []string
	for _, t := range tests {
		if t.Marks.Solo != "" {
			places = append(places, fmt.Sprintf("\n    %s:%d  %s  from %s: %s", t.File, t.Line, t.ID, t.MarkFrom(catalog.MarkSolo), t.Marks.Solo))
		}
	}
	if places == nil {
		return nil
	}
	return fmt.Errorf("%s marked solo would keep all others from running; take the mark out:%s", report.Plural(len(places), "test"), outcome.Plain(strings.Join(places, "")))
}

func (f *runFlags) readOrder(r *relay.Relay) (order.Order, error) {
	if path, ok := strings.CutPrefix(f.order, "file:"); ok {
		return r.OrderFile(path)
	}
	return order.Parse(f.order)
}

// runAndWrite runs a request, tells of it, and writes the reports asked for, also
// where the run is interrupted.
func runAndWrite(ctx context.Context, r *relay.Relay, q relay.Request, files reportFiles, show string, out io.Writer) (run *outcome.Run, err error) {
	// Files are made before the run, so that a wrong path is told before the work is done.
	reports, err := files.create()
	if err != nil {
		return nil, err
	}
	status := report.NewStatus(os.Stderr, term.IsTerminal(os.Stderr.Fd()), len(q.Tests))
	live := report.NewLive(out, show)
	run, number, err := r.Run(ctx, q, func(e outcome.Event) {
		reports.lines.Write(e)
		live.Tell(e)
		status.Tell(e)
	})
	if run == nil {
		return nil, errors.Join(err, reports.close())
	}
	report.Failures(out, run)
	report.Aside(out, run)
	report.Closing(out, run, len(q.Tests), q.Workers, r.Planned(q))
	if number > 0 {
		fmt.Fprintf(os.Stderr, "kept as run %d\n", number)
	}
	return run, errors.Join(err, reports.write(run))
}
