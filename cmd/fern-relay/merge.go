package main

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"fernrelay/core/outcome"
	"fernrelay/internal/format"
	"fernrelay/internal/report"
)

func newMerge() *cobra.Command {
	f := &reportFiles{}
	cmd := &cobra.Command{
		Use:   "merge FILE…",
		Short: "Make one report of those of shards or machines",
		Long: "Merge reads any number of reports, JUnit XML, TAP, the Go toolchain's JSON events or\n" +
			"event lines, and tells and writes what they say together. It ends with 3 where one is\n" +
			"broken, where a shard of the plan did not come back, or where shards were not planned\n" +
			"alike; what there is is written also then.",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var parts []outcome.Part
			broken := false
			for _, name := range args {
				part, kind, err := readPart(name)
				if err != nil {
					broken = true
					fmt.Fprintf(os.Stderr, "fern-relay: %s: %v\n", name, err)
				}
				if part.Run != nil {
					parts = append(parts, part)
					report.Part(cmd.OutOrStdout(), part, kind)
				}
			}
			merged := outcome.Merge(parts)
			// Now that all parts are read: one may be such a file of the last time.
			reports, err := f.create()
			if err != nil {
				return err
			}
			if err := reports.replay(merged.Run); err != nil {
				return err
			}
			report.Merged(cmd.OutOrStdout(), merged)
			if broken || !merged.Whole() {
				return status(3)
			}
			return withStatus(merged.Run.ExitStatus())
		},
	}
	f.add(cmd)
	return cmd
}

// readPart reads a report. What could be read of a broken one is given with the
// error; tests that it breaks off in are lost.
func readPart(name string) (part outcome.Part, kind string, err error) {
	file, err := os.Open(name)
	if err != nil {
		return part, "", err
	}
	defer file.Close()
	part = outcome.Part{Name: name, Run: outcome.NewRun()}
	kind, err = format.Read(file, part.Run.Apply)
	part.Run.Lose("the report " + name + " breaks off while it runs")
	return part, kind, err
}
