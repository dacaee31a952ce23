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
	"fernrelay/core/pick"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/app"
	"fernrelay/internal/hunting"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
	"fernrelay/internal/workspace"
)

// runFlags are the flags of the command run.
type runFlags struct {
	planFlags
	reportFiles
	fleetFlags
	orderFlags
	shard, show                                                       string
	workers, repeat, stopAfter, retries                               int
	timeout, runTimeout, tookOver, hunt                               time.Duration
	strict, noRecord, allowEmpty, resume, keepApart, levels, onChange bool
	mixed                                                             bool

	known quarantineFile
}

func newRun(s *settings) *cobra.Command {
	f := &runFlags{}
	cmd := &cobra.Command{
		Use:   "run [ID...]",
		Short: "Run the picked tests on workers",
		Long: "Run runs the picked tests, or those of them that are named; an ID may end in a step, as\n" +
			"in drip#TestX/case_3. Ctrl-C finishes running tests and starts no more; press it again\n" +
			"to stop now.",
		RunE: func(cmd *cobra.Command, ids []string) error { return f.start(cmd, s, ids) },
	}
	f.add(cmd)
	return cmd
}

// add adds the flags to a command.
func (f *runFlags) add(cmd *cobra.Command) {
	f.planFlags.add(cmd)
	flags := cmd.Flags()
	flags.IntVar(&f.workers, "workers", 0, "use `N` workers; default fern.toml's or one per processor")
	flags.StringVar(&f.shard, "shard", "", "run share `K/N` of the plan, such as 2/6")
	f.orderFlags.add(cmd)
	flags.BoolVar(&f.keepApart, "keep-apart", false, "run victims before their known culprits")
	flags.BoolVar(&f.resume, "resume", false, "run the rest of the run that was killed last")
	flags.BoolVar(&f.mixed, "mixed", false, "allow results of different sources, and say so first")
	flags.BoolVar(&f.onChange, "on-change", false, "rerun what changed files touch, until Ctrl-C")
	flags.BoolVar(&f.levels, "trial-levels", false, "find the finest level at which tests may run side by side")
	flags.IntVar(&f.repeat, "repeat", 1, "run everything `N` times and report what differed")
	flags.IntVar(&f.retries, "retries", 0, "retry a failed test up to `N` times")
	flags.IntVar(&f.stopAfter, "stop-after", 0, "start no more tests after `N` failures; 0 for no limit")
	flags.DurationVar(&f.timeout, "timeout", 0, "limit each test to this `time`; default its suite's")
	flags.DurationVar(&f.runTimeout, "run-timeout", 0, "limit the run to this `time`; the rest is lost")
	flags.DurationVar(&f.hunt, "hunt", 0, "hunt what failed at the end of the run, within this `time`")
	flags.StringVar(&f.known.path, "quarantine", "", "run the tests of `file` last and apart, their failures owed")
	flags.DurationVar(&f.tookOver, "took-over", 0, "list the tests that took longer than this `time`")
	flags.StringVar(&f.show, "show", report.ShowSum, "print `MODE` while it runs: sum, names or full")
	f.reportFiles.add(cmd)
	f.fleetFlags.add(cmd)
	flags.BoolVar(&f.strict, "strict", onCI(), "refuse the rule lone and missing services; default if CI=true")
	flags.BoolVar(&f.noRecord, "no-record", false, "run without adding to rates and times")
	flags.BoolVar(&f.allowEmpty, "allow-empty", false, "exit 0 even if the pick selects no test")
}

// start runs what the pick and the IDs select, here or as a part of a fleet run.
func (f *runFlags) start(cmd *cobra.Command, s *settings, ids []string) error {
	if err := f.check(cmd); err != nil {
		return err
	}
	if f.resume && len(ids) > 0 {
		return errors.New("--resume runs the rest of the killed run: leave the IDs out")
	}
	r, err := s.openToRun(cmd.Context())
	if err != nil {
		return err
	}
	defer r.Close()
	if f.pick, err = named(r.Catalog, f.pick, ids); err != nil {
		return err
	}
	if err := f.known.read(r); err != nil {
		return err
	}
	noteBelow(r, f.pick)
	id, err := f.fleetFlags.run(cmd)
	if err != nil {
		return err
	}
	if id != "" {
		return f.takePart(cmd, s, r, id)
	}
	run, err := f.run(cmd.Context(), s, r, cmd)
	if err != nil {
		return err
	}
	return cmp.Or(r.Missing(f.pick), withStatus(run.ExitStatus()))
}

// named narrows a pick to the tests or steps that endings of IDs name.
func named(c *catalog.Catalog, text string, ids []string) (string, error) {
	if len(ids) == 0 {
		return text, nil
	}
	var names []string
	for _, id := range ids {
		t, step, err := c.FindStep(id)
		if err != nil {
			return "", meantPick(c, id, err)
		}
		id = t.ID
		if step != "" {
			id += "/" + step
		}
		names = append(names, pick.Field("id", id))
	}
	return pick.Join(text, strings.Join(names, " or ")), nil
}

// meantPick adds to the error of an unknown ID the pick that the word may mean: that of a place or of a tag.
func meantPick(c *catalog.Catalog, word string, err error) error {
	for _, g := range c.Groups {
		if g.Name == word || strings.HasPrefix(g.Name, strings.TrimSuffix(word, "/")+"/") || strings.HasSuffix(g.Name, "/"+word) {
			return fmt.Errorf("%w; did you mean the place, -p %s?", err, pick.Field("in", word))
		}
	}
	for i := range c.Tests {
		if slices.Contains(c.Tests[i].Tags, word) {
			return fmt.Errorf("%w; did you mean the tag, -p %s?", err, pick.Tag(word))
		}
	}
	return err
}

// check refuses flags that say nothing together.
func (f *runFlags) check(cmd *cobra.Command) error {
	together := func(name string, others ...string) error {
		for _, other := range others {
			if cmd.Flags().Changed(name) && cmd.Flags().Changed(other) {
				return fmt.Errorf("--%s does not go with --%s: leave one of them out", other, name)
			}
		}
		return nil
	}
	for _, name := range []string{"limit", "late", "speed", "pin"} {
		if cmd.Flags().Changed(name) && f.shard == "" {
			return fmt.Errorf("--%s says how shards are planned: it goes with --shard K/N", name)
		}
	}
	if err := cmp.Or(
		together("resume", "pick", "shard", "order", "order-from", "workers", "repeat", "together"),
		together("trial-levels", "shard", "order", "order-from", "resume", "together", "stop-after", "on-change", "junit", "tap", "events"),
		together("on-change", "shard", "order", "order-from", "repeat", "resume"),
		together("quarantine", "keep-apart", "on-change", "trial-levels"),
		together("hunt", "on-change", "repeat", "resume", "trial-levels", "no-record"),
	); err != nil {
		return err
	}
	switch {
	case f.repeat < 1:
		return fmt.Errorf("--repeat is %d: a number from 1 is expected", f.repeat)
	case f.stopAfter < 0:
		return fmt.Errorf("--stop-after is %d: a number from 0 is expected", f.stopAfter)
	case f.retries < 0:
		return fmt.Errorf("--retries is %d: a number from 0 is expected", f.retries)
	case f.timeout < 0 || f.runTimeout < 0 || f.tookOver < 0 || f.hunt < 0:
		return errors.New("a time below 0 is given: a duration like 30s is expected")
	case f.show != report.ShowSum && f.show != report.ShowNames && f.show != report.ShowFull:
		return fmt.Errorf("--show is %q: sum, names or full is expected", f.show)
	}
	return cmp.Or(f.orderFlags.check(cmd), catalog.Level(f.together).Check(), checkWorkers(cmd, f.workers))
}

// levelRuns is how often --trial-levels runs each level at most.
func (f *runFlags) levelRuns(cmd *cobra.Command) int {
	if cmd.Flags().Changed("repeat") {
		return f.repeat
	}
	return 3
}

// run runs what the flags ask for, as often as they ask for it. Of different outcomes of a test the worst counts.
func (f *runFlags) run(ctx context.Context, s *settings, r *app.App, cmd *cobra.Command) (*run.Run, error) {
	n := &runner{interrupts: s.interrupts, app: r, show: f.show, tookOver: f.tookOver, limit: f.runTimeout, hunt: f.hunt, known: f.known, out: cmd.OutOrStdout()}
	prepare := f.request
	if f.resume {
		prepare = func(r *app.App) (app.Request, error) { return f.resumed(ctx, r) }
	}
	ready := func() (app.Request, error) {
		q, err := prepare(r)
		q.StopAfter, q.Retries, q.Limit, q.Trial, q.Strict = f.stopAfter, f.retries, f.timeout, f.noRecord || q.Trial, f.strict
		if cmd.Flags().Changed("together") && f.shard == "" {
			q.Together = catalog.Level(f.together)
		}
		return q, err
	}
	q, err := ready()
	if err != nil {
		return nil, err
	}
	switch {
	case f.levels:
		return n.levels(ctx, q, f.levelRuns(cmd))
	case f.onChange:
		return n.onChange(ctx, q, f.reportFiles)
	case f.resume:
		return n.resume(ctx, q, f.reportFiles)
	case f.repeat > 1:
		return n.repeat(ctx, f.reportFiles, f.repeat, func(turn int) (app.Request, error) {
			if f.turn = turn; turn == 0 || !f.isNext() {
				return q, nil
			}
			return ready()
		})
	}
	return n.run(ctx, q, f.reportFiles)
}

// resumed returns a request for the rest of the run that was killed last.
func (f *runFlags) resumed(ctx context.Context, r *app.App) (app.Request, error) {
	q, gone, err := r.ResumeRequest(ctx, f.known.list, f.mixed)
	if gone > 0 {
		fmt.Fprintf(stderr, "fern-relay: note: %s of the run left out: the project no longer has them\n", wording.Plural(gone, "test"))
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

// onCI reports whether this is a job of a CI system, which all set CI.
func onCI() bool {
	ci, err := strconv.ParseBool(os.Getenv("CI"))
	return ci && err == nil
}

func (f *runFlags) request(r *app.App) (q app.Request, err error) {
	rule, err := f.orderFlags.read(r)
	if err != nil {
		return q, err
	}
	if r, err = f.timed(r); err != nil {
		return q, err
	}
	tests, err := r.PickToRun(f.pick)
	if err != nil {
		return q, err
	}
	if err := f.checkEmpty(r, tests); err != nil {
		return q, err
	}
	if f.strict {
		if err := refuseLone(tests); err != nil {
			return q, err
		}
	}
	notePick(r, f.pick, tests)
	tests = f.known.list.Mark(tests, time.Now())
	if f.shard != "" {
		if q.Shard, tests, err = f.share(r, workspace.Lone(tests)); err != nil {
			return q, err
		}
	}
	if err := r.CheckDivisible(tests, "be retried alone"); err != nil && f.retries > 0 {
		fmt.Fprintln(stderr, "fern-relay: note:", err)
	}
	if f.isTroubled() || !rule.KeepsWritten() {
		if err := r.CheckDivisible(tests, "run in another order"); err != nil {
			return q, err
		}
	}
	if tests, err = rule.Apply(tests); err != nil {
		return q, fmt.Errorf("--order: %w", err)
	}
	shard := q.Shard
	var first map[string]int
	if f.isTroubled() {
		if tests, first, err = r.Troubled(tests); err != nil {
			return q, err
		}
	}
	if f.keepApart {
		if tests, err = keepApart(r, tests); err != nil {
			return q, err
		}
	}
	q, err = r.NewRequest(f.pick, tests, cmp.Or(f.workers, r.Workers()))
	q.InOrder, q.Shard, q.First, q.Order = !rule.KeepsWritten() || f.named && !f.isTroubled(), shard, first, rule.String()
	if shard != nil && shard.Shard > 1 {
		q.Bare = nil // the first shard builds them
	}
	return q, err
}

// keepApart adds rules to tests so that known culprits do no harm among them.
func keepApart(r *app.App, tests []catalog.Test) ([]catalog.Test, error) {
	apart, notes, err := hunting.Of(r).KeepApart(tests)
	for _, note := range notes {
		fmt.Fprintln(stderr, "fern-relay: note:", plain.Line(note))
	}
	return apart, err
}

// parseShard reads K/N.
func parseShard(text string) (k, n int, err error) {
	if _, err := fmt.Sscanf(text+"\n", "%d/%d\n", &k, &n); err != nil || k < 1 || k > n || n > mostShards {
		return 0, 0, fmt.Errorf("--shard is %q: K/N is expected with K from 1 to N, as in 2/4", text)
	}
	return k, n, nil
}

// share makes the plan that all machines make, and returns the tests of the shard.
func (f *runFlags) share(r *app.App, tests []catalog.Test) (*run.Planned, []catalog.Test, error) {
	k, n, err := parseShard(f.shard)
	if err != nil {
		return nil, nil, err
	}
	fleet, err := f.fleet(n)
	if err = cmp.Or(err, r.Missing(f.pick)); err != nil {
		return nil, nil, err
	}
	study, err := f.study(r, tests, fleet)
	if err != nil {
		return nil, nil, err
	}
	plan := study.Plan(split.Thorough)
	planned, share := study.Share(plan, k)
	planned.Pick = f.pick
	if len(share) == 0 {
		fmt.Fprintf(stderr, "fern-relay: note: shard %d of %d has no test; %s\n", k, n, study.Unused(plan, "shard"))
	}
	return planned, share, nil
}

// checkEmpty refuses a pick of nothing: no test, and no group that only fails to be built.
func (f *runFlags) checkEmpty(r *app.App, tests []catalog.Test) error {
	if len(tests) > 0 || f.allowEmpty {
		return nil
	}
	if bare, err := r.Bare(f.pick); err != nil || len(bare) > 0 {
		return err
	}
	return fmt.Errorf("%w, or add --allow-empty to accept that", empty(r, f.pick))
}

// empty returns the error of a pick that selects no test, with the clause that emptied it.
func empty(r *app.App, expression string) error {
	steps, err := funnel(r, expression)
	if err != nil {
		return err
	}
	return fmt.Errorf("the pick %q selects no test:\n%schange the pick", expression, steps)
}

// refuseLone returns an error that names the tests with the rule lone, which would keep all others
// from running.
func refuseLone(tests []catalog.Test) error {
	var places []string
	for _, t := range tests {
		if t.Rules().Lone != "" {
			places = append(places, fmt.Sprintf("\n    %s:%d  %s  from %s: %s", t.File, t.Line, t.ID, t.RuleFrom(catalog.RuleLone), t.Rules().Lone))
		}
	}
	if places == nil {
		return nil
	}
	return fmt.Errorf("%s with the rule lone would keep all others from running; remove the rule:%s", wording.Plural(len(places), "test"), plain.Text(strings.Join(places, "")))
}
