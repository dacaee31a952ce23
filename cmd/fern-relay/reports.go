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

// reports are report files that are open.
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
		var err error
		if *file.at, err = create(file.name); err != nil {
			return nil, errors.Join(err, r.close())
		}
	}
	r.lines = events.NewWriter(r.events)
	return r, nil
}

// create makes a file, or where no name is given a place that keeps nothing.
func create(name string) (*os.File, error) {
	if name == "" {
		name = os.DevNull
	}
	return os.Create(name)
}

// write writes a run that has ended, whose event lines are written, and closes all.
func (r *reports) write(run *outcome.Run) error {
	return errors.Join(junit.Write(r.junit, run), tap.Write(r.tap, run), r.lines.Err(), r.close())
}

// replay writes a run of which nothing is written yet, and closes all.
func (r *reports) replay(run *outcome.Run) error {
	run.Replay(r.lines.Write)
	return r.write(run)
}

func (r *reports) close() error {
	var errs []error
	for _, file := range []*os.File{r.junit, r.tap, r.events} {
		if file != nil {
			errs = append(errs, file.Close())
		}
	}
	return errors.Join(errs...)
}
