package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/app"
	"fernrelay/internal/draw"
	"fernrelay/internal/hunting"
	"fernrelay/internal/report"
	"fernrelay/internal/report/runreport"
)

const (
	demoPick    = "not nightly"
	demoWorkers = 3
)

// runDemo does the whole job on the demo project and prints each leg. Failing tests are part of it: the error
// says whether the job itself went as it should.
func runDemo(ctx context.Context, s *settings, dir string, out io.Writer) error {
	r, err := openPatiently(ctx, dir, app.Open)
	if err != nil {
		return err
	}
	defer r.Close()
	results, err := os.MkdirTemp("", "fern-relay-demo-")
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "The project is %s in %s.\n\nSurvey: %d tests in %d groups, %d runs in the ledger.\n",
		r.Project.Name, dir, len(r.Catalog.Tests), len(r.Catalog.Groups), r.Runs)
	tests, err := r.Pick(demoPick)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "The pick %q selects %d of them. The first few:\n\n", demoPick, len(tests))
	report.Tests(out, tests[:5])

	if err := demoSplit(r, tests, out); err != nil {
		return err
	}
	if err := demoWatch(ctx, s, r, tests, results, out); err != nil {
		return err
	}
	fmt.Fprintf(out, "\nHunt: what made the failed tests fail.\n\n")
	victims, err := r.Victims()
	if err != nil {
		return err
	}
	if err := demoHunts(ctx, r, victims, results, out); err != nil {
		return err
	}
	fmt.Fprintf(out, "\nLedger: what the runs say together.\n\n")
	if err := demoLedger(r, results, out); err != nil {
		return err
	}
	fmt.Fprintf(out, "\nEverything is in %s: report.html, summary.md, junit.xml, events.jsonl, finding.md, and the drawings as SVG and PDF.\n", results)
	return nil
}

// demoSplit prints a plan for tests.
func demoSplit(r *app.App, tests []catalog.Test, out io.Writer) error {
	fmt.Fprintf(out, "\nSplit: on %d workers.\n\n", demoWorkers)
	study, err := r.Split(tests, catalog.GroupLevel, split.Fleet{Shards: demoWorkers}, true)
	if err != nil {
		return err
	}
	plan := study.Plan(split.Thorough)
	report.Plan(out, plan)
	report.Advice(out, study.Advise(plan, 4*demoWorkers))
	return nil
}

// demoWatch runs tests, and writes reports and the run's timeline into a folder.
func demoWatch(ctx context.Context, s *settings, r *app.App, tests []catalog.Test, results string, out io.Writer) error {
	fmt.Fprintf(out, "\nWatch: the run.\n\n")
	request, err := r.NewRequest(demoPick, tests, demoWorkers)
	if err != nil {
		return err
	}
	runner := &runner{interrupts: s.interrupts, app: r, show: report.ShowSum, out: out}
	ran, err := runner.run(ctx, request, reportFiles{junit: filepath.Join(results, "junit.xml"), events: filepath.Join(results, "events.jsonl")})
	if err != nil {
		return err
	}
	if ran.Counts[run.Lost] > 0 {
		return withStatus(ran.ExitStatus())
	}
	title := r.Project.Name + ", the demo's run"
	for _, file := range []string{"timeline.svg", "timeline.pdf"} {
		if err := draw.WriteFile(filepath.Join(results, file), draw.Timeline(title, ran)); err != nil {
			return err
		}
	}
	return nil
}

// mostShaky bounds the tests that do not always pass that are printed.
const mostShaky = 5

func demoLedger(r *app.App, results string, out io.Writer) error {
	record, run, err := r.Ledger().Last()
	if err != nil {
		return err
	}
	past, err := r.Ledger().PastWithChanges(history.PastRuns, nil)
	if err != nil {
		return err
	}
	about, err := runreport.Of(runreport.Project{Name: r.Project.Name, File: r.Catalog.FileOf}, r.Ledger(), record, run)
	if err != nil {
		return err
	}
	report.Causes(out, about.Causes)
	fmt.Fprintf(out, "\nThe most troubled tests:\n\n")
	order := past.Order(history.ByTrouble, nil)
	report.Shaky(out, past, order[:min(len(order), mostShaky)])
	return errors.Join(drawPast(results, draw.Data{Title: r.Project.Name, Past: past, Tests: order}), runreport.WriteFile(filepath.Join(results, "report.html"), about), runreport.WriteFile(filepath.Join(results, "summary.md"), about))
}

// drawPast draws the charts of the past into the folder.
func drawPast(folder string, past draw.Data) error {
	for _, chart := range draw.ChartsOf(draw.OfPast) {
		drawing, err := chart.Draw(past)
		if err == nil {
			err = draw.WriteFile(filepath.Join(folder, chart.Name+".svg"), drawing)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func demoHunts(ctx context.Context, r *app.App, victims []catalog.Test, results string, out io.Writer) error {
	files := &huntFlags{svg: filepath.Join(results, "frond.svg"), pdf: filepath.Join(results, "frond.pdf"), report: filepath.Join(results, "finding.md")}
	findings, err := files.hunt(ctx, r, victims, hunting.Options{Workers: demoWorkers})
	if err != nil {
		return err
	}
	caught := 0
	for _, f := range findings {
		report.Finding(out, r.Project.Dir, f)
		if f.Verdict == hunt.Polluted || f.Verdict == hunt.Brittle {
			caught++
		}
	}
	if caught == 0 {
		return fmt.Errorf("none of the %d tests that failed depends on the order", len(victims))
	}
	fmt.Fprintf(out, "\n%d of %d caught.\n", caught, len(findings))
	return nil
}
