package main

import (
	"errors"
	"io"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"fernrelay/core/cause"
	"fernrelay/core/run"
	"fernrelay/internal/format/events"
	"fernrelay/internal/format/junit"
	"fernrelay/internal/format/tap"
	"fernrelay/internal/project"
	"fernrelay/internal/report"
	"fernrelay/internal/wholefile"
)

// reportFiles are the files that a run is written to; an empty name for none.
type reportFiles struct{ junit, tap, events, summary string }

func (f *reportFiles) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.junit, "junit", "", "write JUnit XML to this `file`")
	cmd.Flags().StringVar(&f.tap, "tap", "", "write TAP 14 to this `file`")
	cmd.Flags().StringVar(&f.events, "events", "", "write event lines to this `file`")
	cmd.Flags().StringVar(&f.summary, "summary", "", "write a few lines for a reviewer to this Markdown `file`")
}

// names returns the names of the files, the summary last.
func (f *reportFiles) names() []string {
	return slices.DeleteFunc([]string{f.junit, f.tap, f.events, f.summary}, func(name string) bool { return name == "" })
}

// reports writes the files of a run.
type reports struct {
	reportFiles
	dir   string         // the project's folder
	file  *os.File       // for event lines, which are written as they come; nil if they are not wanted
	lines *events.Writer // into it
}

// create prepares the places of the files of a run of the project in a folder, so that a wrong path is reported before the run. It removes earlier
// reports, so that nobody mistakes them for those of a run that was killed.
func (f reportFiles) create(dir string) (*reports, error) {
	for _, name := range f.names() {
		if err := wholefile.Clear(name); err != nil {
			return nil, err
		}
	}
	dir, err := project.Real(dir) // as stacks name files
	if err != nil {
		return nil, err
	}
	r := &reports{reportFiles: f, dir: dir}
	if f.events == "" {
		return r, nil
	}
	file, err := os.Create(f.events)
	if err != nil {
		return nil, err
	}
	r.file, r.lines = file, events.NewWriter(file)
	return r, nil
}

// event writes an event of a run that goes on.
func (r *reports) event(e run.Event) {
	if r.lines != nil && e.Event.Reported() {
		r.lines.Write(e)
	}
}

// write writes a run that has ended, whose event lines are written, and closes everything.
func (r *reports) write(run *run.Run) error {
	var errs []error
	if r.junit != "" {
		errs = append(errs, wholefile.Write(r.junit, func(w io.Writer) error { return junit.Write(w, run) }))
	}
	if r.tap != "" {
		errs = append(errs, wholefile.Write(r.tap, func(w io.Writer) error { return tap.Write(w, run) }))
	}
	if r.summary != "" {
		names := r.names()
		errs = append(errs, wholefile.Write(r.summary, func(w io.Writer) error {
			return report.Summary(w, run, cause.OwnIn(r.dir), names[:len(names)-1])
		}))
	}
	return errors.Join(append(errs, r.close())...)
}

// replay writes a run of which nothing is written yet, and closes everything.
func (r *reports) replay(run *run.Run) error {
	if r.lines != nil {
		run.Replay(r.event)
	}
	return r.write(run)
}

func (r *reports) close() error {
	if r.lines == nil {
		return nil
	}
	return errors.Join(r.lines.Close(), r.file.Close())
}
