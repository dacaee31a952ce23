package main

import (
	"errors"
	"os"

	"github.com/spf13/cobra"

	"fernrelay/core/outcome"
	"fernrelay/internal/format/events"
	"fernrelay/internal/format/junit"
	"fernrelay/internal/format/tap"
)

// reportFiles are the files that a run is written to; an empty name for none.
type reportFiles struct{ junit, tap, events string }

func (f *reportFiles) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.junit, "junit", "", "write JUnit XML to this `file`")
	cmd.Flags().StringVar(&f.tap, "tap", "", "write TAP 14 to this `file`")
	cmd.Flags().StringVar(&f.events, "events", "", "write event lines to this `file`")
}

// reports are report files that are open; nil for those not asked for.
type reports struct {
	junit, tap, events *os.File
	lines              *events.Writer
}

// create makes the files.
func (f reportFiles) create() (*reports, error) {
	r := &reports{}
	for _, file := range []struct {
		name string
		at   **os.File
	}{{f.junit, &r.junit}, {f.tap, &r.tap}, {f.events, &r.events}} {
		if file.name == "" {
			continue
		}
		var err error
		if *file.at, err = os.Create(file.name); err != nil {
			return nil, errors.Join(err, r.close())
		}
	}
	if r.events != nil {
		r.lines = events.NewWriter(r.events)
	}
	return r, nil
}

// tell writes an event of a run that goes on.
func (r *reports) tell(e outcome.Event) {
	if r.lines != nil {
		r.lines.Write(e)
	}
}

// write writes a run that has ended, whose event lines are written, and closes all.
func (r *reports) write(run *outcome.Run) error {
	var errs []error
	if r.junit != nil {
		errs = append(errs, junit.Write(r.junit, run))
	}
	if r.tap != nil {
		errs = append(errs, tap.Write(r.tap, run))
	}
	return errors.Join(append(errs, r.close())...)
}

// replay writes a run of which nothing is written yet, and closes all.
func (r *reports) replay(run *outcome.Run) error {
	if r.lines != nil {
		run.Replay(r.lines.Write)
	}
	return r.write(run)
}

func (r *reports) close() error {
	var errs []error
	if r.lines != nil {
		errs = append(errs, r.lines.Close())
	}
	for _, file := range []*os.File{r.junit, r.tap, r.events} {
		if file != nil {
			errs = append(errs, file.Close())
		}
	}
	return errors.Join(errs...)
}
