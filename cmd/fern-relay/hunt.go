package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/internal/draw"
	"fernrelay/internal/relay"
	"fernrelay/internal/report"
	"fernrelay/internal/wholefile"
)

// huntFlags are the flags of the command hunt.
type huntFlags struct {
	pick             string
	workers          int
	all, verify      bool
	budget           time.Duration
	coverage         float64
	asJSON           bool
	svg, pdf, report string
}

func newHunt(s *settings) *cobra.Command {
	f := &huntFlags{}
	cmd := &cobra.Command{
		Use:   "hunt [ID...]",
		Short: "Find the tests that make others fail by running before them",
		Long: "Hunt takes the tests named, those that the pick holds, or those that failed in the\n" +
			"latest run, and finds which tests before them decide their outcome. Where none failed, or\n" +
			"with --budget, it first runs everything in orders that have not been tried, the most\n" +
			"revealing first, until some test comes out otherwise than before.",
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
	flags.IntVar(&f.workers, "workers", 0, "how many trials run side by side; as for run without it")
	flags.BoolVar(&f.all, "all", false, "find every set of culprits that suffices")
	flags.BoolVar(&f.verify, "verify", false, "try the culprits that were caught before once more, and say which are mended")
	flags.DurationVar(&f.budget, "budget", 5*time.Minute, "how long orders are run to find victims, such as 5m")
	flags.Float64Var(&f.coverage, "coverage", 100, "stop looking for victims once so many percent of the neighbour pairs have run")
	flags.StringVar(&f.svg, "svg", "", "draw the first victim's frond into this SVG `file`")
	flags.StringVar(&f.pdf, "pdf", "", "draw the first victim's frond into this PDF `file`")
	flags.StringVar(&f.report, "report", "", "write the first victim's finding into this Markdown `file`")
	return cmd
}

func (f *huntFlags) check(cmd *cobra.Command, args []string) error {
	switch {
	case f.budget <= 0:
		return fmt.Errorf("--budget is %s: a duration like 5m is expected", f.budget)
	case f.coverage <= 0 || f.coverage > 100:
		return fmt.Errorf("--coverage is %g: percent from 1 to 100 are expected", f.coverage)
	case len(args) > 0 && cmd.Flags().Changed("budget"):
		return errors.New("--budget is for looking for victims, but tests are named: leave one of them out")
	case f.verify && (f.all || cmd.Flags().Changed("budget")):
		return errors.New("--verify only tries what was caught before: it does not go with --all or --budget")
	}
	return checkWorkers(cmd, f.workers)
}

func (f *huntFlags) run(ctx context.Context, r *relay.Relay, ids []string, cmd *cobra.Command) error {
	out := cmd.OutOrStdout()
	named, err := f.named(r, ids)
	if err != nil {
		return err
	}
	p := relay.Pursuit{Workers: f.workers, All: f.all}
	victims, why, search, err := f.victims(r, named, ids, &p)
	if err != nil {
		return err
	}
	var findings []hunt.Finding
	if search || cmd.Flags().Changed("budget") {
		findings, why, err = f.search(ctx, r, named, p)
	} else {
		findings, err = huntAndWrite(ctx, r, victims, p, stderr, f)
	}
	if f.asJSON {
		return errors.Join(err, newEncoder(out).Encode(hunt.Report{Format: hunt.Format, Victims: findings}))
	}
	for _, finding := range findings {
		report.Finding(out, finding)
	}
	if len(findings) == 0 && err == nil {
		fmt.Fprintln(out, why)
	}
	return err
}

// victims finds whom to hunt, or why there is nobody, and whether they are to be searched
// for.
func (f *huntFlags) victims(r *relay.Relay, named []catalog.Test, ids []string, p *relay.Pursuit) (victims []catalog.Test, why string, search bool, err error) {
	switch {
	case f.verify:
		p.Known, err = r.Known()
		for _, t := range named {
			if _, known := p.Known[t.ID]; known {
				victims = append(victims, t)
			}
		}
		return victims, "no culprit is known: there is nothing to verify", false, err
	case len(ids) > 0 || f.pick != "":
		return named, "the pick holds no test: there is nothing to hunt", false, nil
	}
	victims, err = r.Victims()
	return victims, "", len(victims) == 0, err
}

// search runs orders that have not been tried, and hunts what comes out otherwise than
// before, until a test depends on the order or the budget is spent.
func (f *huntFlags) search(ctx context.Context, r *relay.Relay, tests []catalog.Test, p relay.Pursuit) (findings []hunt.Finding, why string, err error) {
	findings = []hunt.Finding{}
	s := relay.Search{Tests: tests, Workers: f.workers, Enough: f.coverage / 100, Apart: map[string]bool{}}
	for until := time.Now().Add(f.budget); ; {
		if s.Budget = time.Until(until); s.Budget <= 0 {
			break
		}
		victims, err := r.Reveal(ctx, s, func(v relay.Revealed) {
			fmt.Fprintf(stderr, "order %d: %s; %s\n", v.Order, v.Run.Summary(), report.Coverage(v.Gauge))
		})
		if err != nil || len(victims) == 0 {
			if err != nil {
				return findings, "", err
			}
			break
		}
		found, err := huntAndWrite(ctx, r, victims, p, stderr, f)
		findings = append(findings, found...)
		if err != nil || slices.ContainsFunc(found, func(f hunt.Finding) bool { return len(f.Culprits) > 0 }) {
			return findings, "", err
		}
		for _, v := range victims {
			s.Apart[v.ID] = true
		}
	}
	gauge, apart, err := r.Gauge(tests)
	why = "no test came out otherwise than before: there is nothing to hunt; " + report.Coverage(gauge)
	if apart > 0 {
		why += fmt.Sprintf(" (without %s in groups that are too large to follow)", report.Plural(apart, "test"))
	}
	return findings, why, err
}

// named gives the tests of the pick and those named; all where neither says anything.
func (f *huntFlags) named(r *relay.Relay, ids []string) ([]catalog.Test, error) {
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

// huntAndWrite hunts the victims, tells of each verdict as it falls, and writes
// what is known of the first into the files that are named.
func huntAndWrite(ctx context.Context, r *relay.Relay, victims []catalog.Test, p relay.Pursuit, progress io.Writer, files *huntFlags) ([]hunt.Finding, error) {
	latest := map[string]relay.Progress{}
	findings, err := r.Hunt(ctx, victims, p, func(told relay.Progress) {
		before := latest[told.Victim]
		latest[told.Victim] = told
		if told.Again > 0 && before.Again == 0 {
			fmt.Fprintf(progress, "%s  goes on where its hunt was interrupted\n", plain.Line(told.Victim))
		}
		if told.Finding.Verdict != "" {
			fmt.Fprintf(progress, "%s  %s after %s\n", plain.Line(told.Victim), report.Verdict(told.Finding), report.Plural(told.Finding.Trials, "trial"))
		}
		switch {
		case errors.Is(told.Err, context.Canceled):
			fmt.Fprintf(progress, "%s  interrupted; hunted again, it goes on from here\n", plain.Line(told.Victim))
		case told.Err != nil:
			fmt.Fprintf(progress, "%s  %v\n", plain.Line(told.Victim), told.Err)
		}
	})
	if len(victims) == 0 {
		return findings, err
	}
	first := latest[victims[0].ID]
	if first.Finding.Verdict == "" {
		return findings, err
	}
	for _, file := range []string{files.svg, files.pdf} {
		if file != "" {
			err = errors.Join(err, draw.WriteFile(file, draw.Frond(first.Finding, first.Records)))
		}
	}
	if files.report != "" {
		err = errors.Join(err, wholefile.Write(files.report, func(w io.Writer) error {
			return report.Markdown(w, first.Finding, first.Records)
		}))
	}
	return findings, err
}
