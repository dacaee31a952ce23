package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/format"
	"fernrelay/internal/report"
	"fernrelay/internal/report/runreport"
)

// mergeFlags are the flags of the command merge.
type mergeFlags struct {
	reportFiles
	file  string
	mixed bool
}

func newMerge(s *settings) *cobra.Command {
	f := &mergeFlags{}
	cmd := &cobra.Command{
		Use:   "merge FILE…",
		Short: "Merge the reports of shards or machines into one",
		Long: "Merge reads any number of reports (JUnit XML, TAP, the Go toolchain's JSON events or\n" +
			"event lines, or the JSON of matrix run), and prints and writes one report of all of them. It exits with 3 if a\n" +
			"report is broken, a shard of the plan is missing, or shards were planned differently,\n" +
			"and writes what there is. With --output it writes the report that the command report\n" +
			"writes for a run, with what the project's ledger knows.",
		Args: needs(1, -1, "reports: files"),
		RunE: func(cmd *cobra.Command, files []string) error {
			if f.file != "" {
				if err := runreport.Check(f.file); err != nil {
					return err
				}
			}
			matrices, err := readMatrices(files)
			switch {
			case err != nil:
				return err
			case matrices != nil:
				return s.mergeMatrix(cmd, matrices, f)
			}
			return s.mergeRuns(cmd, readParts(files), f)
		},
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&f.mixed, "mixed", false, "allow results of different sources, and say so first")
	cmd.Flags().StringVarP(&f.file, "output", "o", "", "write a report to this .html, .md, .pdf or .xml `file`")
	return cmd
}

// mergeRuns prints the reports of runs and what they say together, and writes the files that the flags name.
//
// What is missing or mixed is printed first. The exit status is 3 if anything is missing, broken or planned differently, whatever
// the tests did: a job must not be green because a shard never came.
func (s *settings) mergeRuns(cmd *cobra.Command, read readReports, f *mergeFlags) error {
	out := cmd.OutOrStdout()
	merged := run.Merge(read.parts)
	if len(merged.Mixed) > 0 && !f.mixed {
		return errors.New(strings.Join(merged.Mixed, "; ") + ": what passed with the one may fail with the other. Run the shards of one source, or add --mixed")
	}
	var lost, beyond []string
	if merged.Lacks() {
		lost, beyond = s.unreported(cmd.Context(), merged)
		merged.LoseMissing(lost)
	}
	report.First(out, merged.Run.Mixed)
	report.First(out, report.Lack(merged))
	for i, part := range read.parts {
		report.Part(out, part, read.kinds[i])
	}
	// Now that all parts are read: one may be such a file of the last time.
	files, err := f.create(s.dir)
	if err != nil {
		return err
	}
	if err := files.replay(merged.Run); err != nil {
		return err
	}
	report.Merged(out, merged)
	if merged.Lacks() {
		report.MissingShards(out, merged, lost, beyond)
	}
	if f.file != "" {
		if err := s.writeMerged(cmd.Context(), f.file, merged, read); err != nil {
			return err
		}
	}
	if read.broken != nil || !merged.Whole() {
		return status(3)
	}
	return withStatus(merged.Run.ExitStatus())
}

// readReports are the reports that merge read.
type readReports struct {
	parts  []run.Part
	kinds  []string // of parts: the formats
	broken []string // in words, the files that are not whole
}

// readParts reads reports, and prints which are broken. It keeps what could be read of those.
func readParts(files []string) (read readReports) {
	for _, name := range files {
		part, kind, err := readPart(name)
		if err != nil {
			read.broken = append(read.broken, fmt.Sprintf("%s is broken: %v", name, err))
			fmt.Fprintf(stderr, "fern-relay: %s: %v\n", name, err)
		}
		if part.Run != nil {
			read.parts, read.kinds = append(read.parts, part), append(read.kinds, kind)
		}
	}
	if len(read.parts) > 1 {
		for _, part := range read.parts {
			part.Run.On(machineOf(part)) // the first worker of one is not that of another
		}
	}
	return read
}

// writeMerged writes the report of what several reports say together.
func (s *settings) writeMerged(ctx context.Context, file string, merged *run.Merged, read readReports) error {
	r, err := app.OpenHistory(ctx, s.dir)
	if err != nil { // shards may be merged without a project
		r = app.NoHistory(s.dir)
	}
	defer r.Close()
	about, err := runreport.OfMerged(s.aboutProject(ctx, r), r.Ledger(), merged, read.parts, read.broken)
	if err != nil {
		return err
	}
	return runreport.WriteFile(file, about)
}

// unreported is App.Unreported; it returns none if there is no project here.
func (s *settings) unreported(ctx context.Context, merged *run.Merged) (lost, beyond []string) {
	r, err := app.Open(ctx, s.dir, nil)
	if err != nil {
		return nil, nil
	}
	defer r.Close()
	return r.Unreported(merged)
}

// machineOf names the machine of a report that names none.
func machineOf(part run.Part) string {
	if p := part.Run.Planned; p != nil {
		return fmt.Sprintf("shard-%d", p.Shard)
	}
	return part.Name
}

// readPart reads a report. If it is broken, readPart returns what could be read with the error; the test in which it breaks off is lost.
func readPart(name string) (part run.Part, kind string, err error) {
	file, err := os.Open(name)
	if err != nil {
		return part, "", fmt.Errorf("cannot be read: %w", errors.Unwrap(err))
	}
	defer file.Close()
	part.Name = name
	part.Run, kind, err = format.ReadRun(file)
	part.Broken = err != nil
	part.Run.Lose("the report " + name + " breaks off while it runs")
	return part, kind, err
}
