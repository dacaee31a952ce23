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

func newMerge(s *settings) *cobra.Command {
	f := &reportFiles{}
	var file string
	var mixed bool
	cmd := &cobra.Command{
		Use:   "merge FILE…",
		Short: "Merge the reports of shards or machines into one",
		Long: "Merge reads any number of reports (JUnit XML, TAP, the Go toolchain's JSON events or\n" +
			"event lines, or the JSON of matrix run), and prints and writes one report of all of them. It exits with 3 if a\n" +
			"report is broken, a shard of the plan is missing, or shards were planned differently,\n" +
			"and writes what there is. With --output it writes the report that the command report\n" +
			"writes for a run, with what the project's ledger knows.",
		Args: needs(1, -1, "reports: files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if file != "" {
				if err := runreport.Check(file); err != nil {
					return err
				}
			}
			if some, err := readMatrices(args); err != nil || some != nil {
				if err != nil {
					return err
				}
				return s.mergeMatrix(cmd, some, f, file, mixed)
			}
			var parts []run.Part
			var kinds, broken []string
			for _, name := range args {
				part, kind, err := readPart(name)
				if err != nil {
					broken = append(broken, fmt.Sprintf("%s is broken: %v", name, err))
					fmt.Fprintf(stderr, "fern-relay: %s: %v\n", name, err)
				}
				if part.Run != nil {
					parts, kinds = append(parts, part), append(kinds, kind)
				}
			}
			if len(parts) > 1 {
				for _, part := range parts {
					part.Run.On(machineOf(part)) // the first worker of one is not that of another
				}
			}
			merged := run.Merge(parts)
			if len(merged.Mixed) > 0 && !mixed {
				return errors.New(strings.Join(merged.Mixed, "; ") + ": what passed with the one may fail with the other. Run the shards of one source, or add --mixed")
			}
			var lost []string
			if len(merged.Missing)+len(merged.Broken) > 0 {
				lost = s.unreported(cmd.Context(), merged)
				merged.LoseMissing(lost)
			}
			report.First(cmd.OutOrStdout(), merged.Run.Mixed)
			report.First(cmd.OutOrStdout(), report.Lack(merged))
			for i, part := range parts {
				report.Part(cmd.OutOrStdout(), part, kinds[i])
			}
			// Now that all parts are read: one may be such a file of the last time.
			reports, err := f.create()
			if err != nil {
				return err
			}
			if err := reports.replay(merged.Run); err != nil {
				return err
			}
			report.Merged(cmd.OutOrStdout(), merged)
			if len(merged.Missing) > 0 {
				report.MissingShards(cmd.OutOrStdout(), merged, lost)
			}
			if file != "" {
				if err := s.writeMerged(cmd.Context(), file, merged, parts, broken); err != nil {
					return err
				}
			}
			if broken != nil || !merged.Whole() {
				return status(3)
			}
			return withStatus(merged.Run.ExitStatus())
		},
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&mixed, "mixed", false, "allow results of different sources, and say so first")
	cmd.Flags().StringVarP(&file, "output", "o", "", "write a report to this .html, .md, .pdf or .xml `file`")
	return cmd
}

// writeMerged writes the report of what several reports say together.
func (s *settings) writeMerged(ctx context.Context, file string, merged *run.Merged, parts []run.Part, broken []string) error {
	r, err := app.OpenHistory(ctx, s.dir)
	if err != nil { // shards may be merged without a project
		r = app.NoHistory(s.dir)
	}
	defer r.Close()
	about, err := runreport.OfMerged(s.aboutProject(ctx, r), r.Ledger(), merged, parts, broken)
	if err != nil {
		return err
	}
	return runreport.WriteFile(file, about)
}

// unreported returns the planned tests that no report has; none if the project here is not the one that was planned.
func (s *settings) unreported(ctx context.Context, merged *run.Merged) []string {
	r, err := app.Open(ctx, s.dir, nil)
	if err != nil {
		return nil
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

// readPart reads a report. What could be read of a broken one is given with the
// error; tests that it breaks off in are lost.
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
