package main

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/core/quarantine"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/hunting"
	"fernrelay/internal/project"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
)

// quarantineFile is a file of tests in quarantine, as a flag names it.
type quarantineFile struct {
	path string // empty for none
	list quarantine.List
}

// read reads the file, if there is one, and names the tests in it that the project does not have.
func (f *quarantineFile) read(r *app.App) (err error) {
	if f.path == "" {
		return nil
	}
	if f.list, err = project.Quarantine(f.path); err != nil {
		return err
	}
	for _, e := range f.list {
		if _, ok := r.Catalog.Lookup(e.ID); !ok {
			fmt.Fprintf(stderr, "fern-relay: note: %s names %s, which the project does not have: remove it there\n", plain.Line(f.path), plain.Line(e.ID))
		}
	}
	return nil
}

// report prints what became of the tests of the file in a run.
func (f *quarantineFile) report(n *runner, ran *run.Run) error {
	if f.path == "" {
		return nil
	}
	streaks, err := hunting.Streaks(n.app.History(), f.list)
	if err != nil {
		return err
	}
	report.Quarantined(n.out, f.path, f.list, streaks, ran)
	return nil
}

// writeQuarantine adds what hunts have found to a file of tests in quarantine.
func writeQuarantine(r *app.App, findings []hunt.Finding, file string) error {
	list, err := hunting.Of(r).Quarantine(findings, report.Reason)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		fmt.Fprintf(stderr, "fern-relay: %s is left as it is: no order-dependent or flaky test was found\n", file)
		return nil
	}
	added, err := project.AddQuarantine(file, list)
	if err != nil {
		return err
	}
	note := ""
	if had := len(list) - added; had > 0 {
		note = fmt.Sprintf("; %d in it already, unchanged", had)
	}
	fmt.Fprintf(stderr, "%s: %s added until %s%s\n", file, wording.Plural(added, "test"), list[0].Until.Format(quarantine.Day), note)
	return nil
}

// quarantinedLine is the JSON of a test in quarantine.
type quarantinedLine struct {
	ID     string   `json:"id"`
	Reason string   `json:"reason"`
	Since  string   `json:"since,omitempty"`
	Until  string   `json:"until"`
	Days   int      `json:"days"`
	Ended  bool     `json:"ended"`
	Hunt   int      `json:"hunt,omitempty"`
	After  []string `json:"after,omitempty"`
	Beside []string `json:"beside,omitempty"`
	Passes int      `json:"passes"`
	Mended bool     `json:"mended"`
}

func newQuarantine(s *settings) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "quarantine FILE",
		Short: "List the tests in quarantine: how long, and whether they are mended",
		Long: "Quarantine lists the tests of a file that run --quarantine takes: how long each has been in\n" +
			"it, until when its failures are owed, and in how many of its latest runs in a row it passed\n" +
			"in the order that used to break it. After 20 of them it is mended.",
		Args: needs(1, 1, "the file of the tests in quarantine"),
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := project.Quarantine(args[0])
			if err != nil {
				return err
			}
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			streaks, err := hunting.Streaks(r, list)
			if err != nil {
				return err
			}
			if asJSON {
				return printQuarantine(cmd, list, streaks)
			}
			report.Quarantine(cmd.OutOrStdout(), list, streaks, time.Now())
			return nil
		},
	}
	addJSON(cmd, &asJSON, "a JSON object a line")
	return cmd
}

func printQuarantine(cmd *cobra.Command, list quarantine.List, streaks []int) error {
	encoder, now := newEncoder(cmd.OutOrStdout()), time.Now()
	var errs []error
	for i, e := range list {
		line := quarantinedLine{ID: e.ID, Reason: e.Reason, Until: e.Until.Format(quarantine.Day), Days: e.Days(now), Ended: e.Ended(now),
			Hunt: e.Hunt, After: e.After, Beside: e.Beside, Passes: streaks[i], Mended: streaks[i] >= quarantine.Mended}
		if !e.Since.IsZero() {
			line.Since = e.Since.Format(quarantine.Day)
		}
		errs = append(errs, encoder.Encode(line))
	}
	return errors.Join(errs...)
}
