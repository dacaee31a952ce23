package command

import (
	"cmp"
	"errors"
	"strings"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/format"
	"fernrelay/internal/format/tap"
	"fernrelay/internal/process"
)

// ending is how a process ended.
type ending struct {
	code   int // below 0 for a signal
	words  string
	silent adapter.Phase // in which it was killed, as none of its tests ran
	fault  error         // what is wrong with its results
	late   bool          // it was killed, as the time of a test was up
	wall   time.Duration // that it took
}

// bad reports whether tests may have no outcome because of how the process ended. One that gave up says that more of it is
// of no use.
func (e ending) bad() bool {
	return (e.code != 0 || e.fault != nil || e.silent != "") && !errors.Is(e.fault, tap.ErrBailedOut)
}

// said returns how it ended, in words.
func (e ending) said() string {
	switch {
	case e.late:
		return "a time limit, after " + e.wall.Round(time.Millisecond).String()
	case e.code == 0 && e.fault != nil:
		return "exit status 0, but " + e.fault.Error()
	}
	return e.words
}

// ended sets the outcome of every test of a process that has ended, except those that get another process after one that ended
// badly: those after the test that is known to have run, or else all without an outcome, in parts.
func (s *session) ended(reported *results, end ending, d *division) {
	open, tests := reported.unfinished(), reported.tests
	s.adapter.noteBarren(end.bad() && len(tests) == 1, len(open) < len(tests))
	switch {
	case s.adapter.Results == format.Exit && end.code >= 0:
		exited(reported, end)
	case s.adapter.Unit() != "" || len(open) == 0 || !end.bad():
		reported.close(end.words, end.code, end.fault)
	case end.code < 0 && len(tests) == 1 || reported.running() != "":
		t := reported.here[cmp.Or(reported.running(), open[0])]
		d.blame([]string{t.ID})
		reported.batch.Ended(end.said(), func(words string) (string, string, int) {
			return process.LastLines(words, messageLimit), t.File, t.Line
		})
	case len(tests) == 1 || tests[0].Asks().Whole || s.adapter.barren.Load() >= mostBarren:
		d.blame(open)
		reported.close(end.said(), end.code, end.fault)
	default:
		d.divide(&badEnding{tests: open, words: end.said(), late: end.late, wall: end.wall}, len(open) > 1 && len(open) < len(tests))
		return
	}
	d.ran(tests, end.wall)
}

// noteBarren notes whether a test ended its process alone, or any test had an outcome.
func (a *Adapter) noteBarren(alone, outcomes bool) {
	if outcomes {
		a.barren.Store(0)
	} else if alone {
		a.barren.Add(1)
	}
}

// exited sets the outcome of the only test of a process by its exit status.
func exited(reported *results, end ending) {
	t := &reported.tests[0]
	e := run.Event{Outcome: run.Passed}
	if end.code > 0 {
		last := process.LastLines(reported.batch.Words(t.ID), messageLimit)
		e.Outcome, e.Message = run.Failed, strings.TrimSuffix(end.words+": "+last, ": ")
		e.Expected, e.Actual = run.Compared(last)
	}
	reported.mu.Lock()
	defer reported.mu.Unlock()
	reported.finish(t, e)
}
