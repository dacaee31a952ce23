package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/draw"
	"fernrelay/internal/fleet"
	"fernrelay/internal/hunting"
	"fernrelay/internal/report"
	"fernrelay/internal/wholefile"
	"fernrelay/internal/wording"
)

// huntFlags are the flags of the command hunt.
type huntFlags struct {
	pick             string
	workers          int
	all, verify      bool
	budget           time.Duration
	untilPairs       float64
	asJSON           bool
	svg, pdf, report string
	patch, from      string
	quarantine       string

	station  stationFlags
	fleetRun string
}

func newHunt(s *settings) *cobra.Command {
	f := &huntFlags{}
	cmd := &cobra.Command{
		Use:   "hunt [ID...]",
		Short: "Find the tests that make others fail by running before them",
		Long: "Hunt takes the named tests, those of the pick, or those that failed in the latest run,\n" +
			"and finds which tests before them decide their outcome. If none failed, or with\n" +
			"--budget, it first runs everything in orders that have not been tried, the most\n" +
			"revealing first, until the outcome of a test differs from earlier ones.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := f.check(cmd, args); err != nil {
				return err
			}
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			f.workers = cmp.Or(f.workers, r.Workers())
			return f.run(cmd.Context(), r, args, cmd)
		},
	}
	addPick(cmd, &f.pick)
	addJSON(cmd, &f.asJSON, "the findings as a JSON object")
	flags := cmd.Flags()
	flags.IntVar(&f.workers, "workers", 0, "run `N` trials side by side; default as for run")
	flags.BoolVar(&f.all, "all", false, "find every set of culprits that suffices")
	flags.BoolVar(&f.verify, "verify", false, "try known culprits again and report mended ones")
	flags.DurationVar(&f.budget, "budget", 5*time.Minute, "search for victims for this `time`, such as 5m")
	flags.Float64Var(&f.untilPairs, "until-pairs", 100, "stop once `N` percent of neighbour pairs have run")
	flags.StringVar(&f.svg, "svg", "", "draw the first victim's frond into this SVG `file`")
	flags.StringVar(&f.pdf, "pdf", "", "draw the first victim's frond into this PDF `file`")
	flags.StringVar(&f.from, "from", "", "start from the order of the run in this events or JUnit XML `file`")
	flags.StringVar(&f.patch, "patch", "", "write repairs of tests that were tried into this `file`")
	flags.StringVar(&f.quarantine, "quarantine", "", "add what was found to this `file` for run --quarantine")
	f.station.add(cmd)
	addFleetRun(cmd, &f.fleetRun)
	flags.StringVar(&f.report, "report", "", "write the first victim's finding into this Markdown `file`")
	return cmd
}

// fleetTrials is how many trials are offered to machines side by side.
const fleetTrials = 8

func (f *huntFlags) check(cmd *cobra.Command, args []string) error {
	switch {
	case f.budget <= 0:
		return fmt.Errorf("--budget is %s: a duration like 5m is expected", f.budget)
	case f.untilPairs <= 0 || f.untilPairs > 100:
		return fmt.Errorf("--until-pairs is %g: percent from 1 to 100 are expected", f.untilPairs)
	case len(args) > 0 && cmd.Flags().Changed("budget"):
		return errors.New("--budget searches for victims, and tests are named: leave one of them out")
	case f.from != "" && (f.verify || cmd.Flags().Changed("budget")):
		return errors.New("--from names a run whose failures are hunted: it does not go with --verify or --budget")
	case f.verify && (f.all || cmd.Flags().Changed("budget")):
		return errors.New("--verify only tries known culprits: it does not go with --all or --budget")
	}
	return checkWorkers(cmd, f.workers)
}

func (f *huntFlags) run(ctx context.Context, r *app.App, ids []string, cmd *cobra.Command) error {
	out := cmd.OutOrStdout()
	named, err := f.named(r, ids)
	if err != nil {
		return err
	}
	o := hunting.Options{Workers: f.workers, All: f.all}
	if o.From, err = f.readFrom(ctx, r); err != nil {
		return err
	}
	if id := cmp.Or(f.fleetRun, fleetEnvironment[fleetRunVariable]); id != "" {
		station, err := f.station.options()
		if err != nil {
			return err
		}
		o.Fleet, o.Here = &app.FleetRequest{Options: station, Run: id, Lease: fleet.DefaultLease}, r.Workers()
		if !cmd.Flags().Changed("workers") {
			o.Workers = max(o.Workers, fleetTrials)
		}
	}
	victims, why, search, err := f.victims(r, named, ids, &o)
	if err != nil {
		return err
	}
	var findings []hunt.Finding
	if search || cmd.Flags().Changed("budget") {
		findings, why, err = f.search(ctx, r, named, o)
	} else {
		findings, err = f.hunt(ctx, r, victims, o)
	}
	if f.patch != "" {
		err = errors.Join(err, writePatches(ctx, r, findings, f.patch))
	}
	if f.quarantine != "" {
		err = errors.Join(err, writeQuarantine(r, findings, f.quarantine))
	}
	if f.asJSON {
		return errors.Join(err, newEncoder(out).Encode(hunt.Report{Format: hunt.Format, Victims: findings}))
	}
	for _, finding := range findings {
		report.Finding(out, r.Project.Dir, finding)
	}
	if len(findings) == 0 && err == nil {
		fmt.Fprintln(out, why)
	}
	return err
}

// victims returns the tests to hunt, or why there are none, and whether to search for victims.
func (f *huntFlags) victims(r *app.App, named []catalog.Test, ids []string, o *hunting.Options) (victims []catalog.Test, why string, search bool, err error) {
	switch {
	case f.verify:
		o.Known, err = hunting.Of(r).Culprits()
		for _, t := range named {
			if _, known := o.Known[t.ID]; known {
				victims = append(victims, t)
			}
		}
		return victims, "no culprits are known: there is nothing to verify", false, err
	case len(ids) > 0 || f.pick != "":
		return named, "the pick selects no test: there is nothing to hunt", false, nil
	}
	if o.From != nil {
		return r.VictimsOf(o.From), "no test of the project failed in the report: there is nothing to hunt", false, nil
	}
	victims, err = r.Victims()
	return victims, "", len(victims) == 0, err
}

// readFrom reads the report whose order a hunt starts from, and prints how many of its tests the project does not have, and whether it
// is of other sources.
func (f *huntFlags) readFrom(ctx context.Context, r *app.App) (*run.Run, error) {
	if f.from == "" {
		return nil, nil
	}
	part, _, err := readPart(f.from)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.from, err)
	}
	if !slices.ContainsFunc(part.Run.Results, func(res *run.Result) bool { return res.Worker > 0 }) {
		return nil, fmt.Errorf("%s does not say what ran where: pass the report that run --events or run --junit wrote of a run in which a test failed", f.from)
	}
	noteGone(r.Gone(part.Run))
	switch then, now := part.Run.Source(), r.History().Source(ctx); {
	case then.Differs(now):
		fmt.Fprintf(stderr, "fern-relay: note: the report is of %s, and the checkout of %s: what failed there may not fail here\n", plain.Line(then.String()), now)
	case then.Revision != "" && now.Revision != "":
		fmt.Fprintf(stderr, "fern-relay: note: the checkout has the report's revision, %s\n", now.Revision)
	}
	return part.Run, nil
}

// hunt hunts victims and writes the files that the flags name.
func (f *huntFlags) hunt(ctx context.Context, r *app.App, victims []catalog.Test, o hunting.Options) ([]hunt.Finding, error) {
	p := newHuntProgress()
	findings, err := hunting.Of(r).Hunt(ctx, victims, o, p.report)
	if len(victims) > 0 {
		err = errors.Join(err, f.write(r.Project.Dir, p.latest[victims[0].ID]))
	}
	return findings, err
}

// search searches among tests for victims and hunts them; why says why there are no findings.
func (f *huntFlags) search(ctx context.Context, r *app.App, tests []catalog.Test, o hunting.Options) (findings []hunt.Finding, why string, err error) {
	p := newHuntProgress()
	var first *catalog.Test // the victim that the files describe
	findings, err = hunting.Of(r).Search(ctx, hunting.Search{Tests: tests, Budget: f.budget, Enough: f.untilPairs / 100, Hunt: o}, hunting.SearchProgress{
		Order: func(v hunting.Revealed) {
			fmt.Fprintf(stderr, "order %d: %s; %s\n", v.Order, report.Tried(v.Run), report.Coverage(v.Gauge))
		},
		Victims: func(victims []catalog.Test) { first = &victims[0] },
		Hunt:    p.report,
	})
	if first != nil {
		err = errors.Join(err, f.write(r.Project.Dir, p.latest[first.ID]))
	}
	if err != nil {
		return findings, "", err
	}
	gauge, unfollowed, err := hunting.Of(r).Coverage(tests)
	why = "every test had the same outcome as before: there is nothing to hunt; " + report.Coverage(gauge)
	if unfollowed > 0 {
		why += fmt.Sprintf(" (without %s in groups that are too large to follow)", wording.Plural(unfollowed, "test"))
	}
	return findings, why, err
}

// huntProgress prints the progress of hunts.
type huntProgress struct {
	latest map[string]hunt.Progress // by victim
}

func newHuntProgress() *huntProgress { return &huntProgress{map[string]hunt.Progress{}} }

func (h *huntProgress) report(p hunt.Progress) {
	if p.Note != "" {
		for note := range strings.Lines(p.Note) {
			fmt.Fprintf(stderr, "fern-relay: note: %s\n", plain.Line(strings.TrimSpace(note)))
		}
		return
	}
	before := h.latest[p.Victim]
	h.latest[p.Victim] = p
	victim := plain.Line(p.Victim)
	if p.Resumed > 0 && before.Resumed == 0 {
		fmt.Fprintf(stderr, "%s  continues where its hunt was interrupted\n", victim)
	}
	if p.Finding.Verdict != "" {
		fmt.Fprintf(stderr, "%s  %s after %s\n", victim, report.Verdict(p.Finding), wording.Plural(p.Finding.Trials, "trial"))
	}
	switch {
	case errors.Is(p.Err, context.Canceled):
		fmt.Fprintf(stderr, "%s  interrupted; the next hunt continues from here\n", victim)
	case p.Err != nil:
		fmt.Fprintf(stderr, "%s  %v\n", victim, p.Err)
	}
}

// write writes the finding of a hunt in a project that has a verdict into the files that the flags name.
func (f *huntFlags) write(dir string, p hunt.Progress) (err error) {
	if p.Finding.Verdict == "" {
		return nil
	}
	for _, file := range []string{f.svg, f.pdf} {
		if file != "" {
			err = errors.Join(err, draw.WriteFile(file, draw.Frond(p.Finding, p.Records)))
		}
	}
	if f.report == "" {
		return err
	}
	return errors.Join(err, wholefile.Write(f.report, func(w io.Writer) error { return report.Markdown(w, dir, p.Finding, p.Records) }))
}

// named returns the tests of the pick and those with the IDs, or all tests if there is neither.
func (f *huntFlags) named(r *app.App, ids []string) ([]catalog.Test, error) {
	tests := []catalog.Test{}
	if f.pick != "" || len(ids) == 0 {
		picked, err := r.Pick(f.pick)
		if err != nil {
			return nil, err
		}
		tests = append(tests, picked...)
	}
	for _, id := range ids {
		t, err := r.Catalog.Find(id)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(tests, func(other catalog.Test) bool { return other.ID == t.ID }) {
			tests = append(tests, *t)
		}
	}
	return tests, nil
}
