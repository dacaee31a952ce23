// Package formattest makes tests of what reads reports short.
package formattest

import (
	"fmt"
	"strings"

	"fernrelay/core/run"
)

// Lines returns the events of a reader, one line each: its kind and ID, and then its step, outcome, message,
// expected, actual, text, seconds and place, if any.
func Lines(read func(run.Sink) error) (lines []string, err error) {
	err = read(func(e run.Event) {
		line := fmt.Sprintf("%s %s", e.Event, e.ID)
		for _, part := range []string{e.Step, string(e.Outcome), e.Message, e.Expected, e.Actual, strings.TrimSpace(e.Text)} {
			if part != "" {
				line += " | " + part
			}
		}
		if e.Seconds != nil {
			line += fmt.Sprintf(" | %g s", *e.Seconds)
		}
		if e.File != "" {
			line += fmt.Sprintf(" | %s:%d", e.File, e.Line)
		}
		lines = append(lines, line)
	})
	return lines, err
}
