package report

import (
	"fmt"
	"sync"
	"time"

	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/terminal"
	"fernrelay/internal/wording"
)

// Status prints how far a run has come: on a terminal as one line that moves, elsewhere as a line from time to
// time.
type Status struct {
	mu        sync.Mutex
	w         *terminal.Writer
	moving    bool
	total     int
	began     time.Time
	reported  time.Time
	steps     int // how many twentieths of the whole are printed
	finished  map[run.Outcome]int
	done      int
	preparing string
}

// NewStatus returns the status of a run of a number of tests.
func NewStatus(w *terminal.Writer, moving bool, total int) *Status {
	return &Status{w: w, moving: moving, total: total, finished: map[run.Outcome]int{}}
}

// frameTime is the least time between two states of the moving line.
const frameTime = 50 * time.Millisecond

// Event takes the next event of the run.
func (s *Status) Event(e run.Event) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch e.Event {
	case run.RunBegins:
		s.began = e.At
		fmt.Fprintf(s.w, "%s; preparing\n", wording.Plural(s.total, "test"))
	case run.Finished:
		s.done++
		s.finished[e.Outcome]++
		s.line(e.At)
	case run.RunEnds:
		if s.moving {
			s.w.Redraw("")
		}
	}
}

// Preparing takes what is being prepared before the first test; empty for nothing more.
func (s *Status) Preparing(what string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if what == s.preparing {
		return
	}
	s.preparing = what
	if s.moving {
		s.w.Redraw(what)
	}
}

func (s *Status) line(now time.Time) {
	text := fmt.Sprintf("%s  %d of %d", history.Clock(now.Sub(s.began).Seconds()), s.done, s.total)
	if bad := run.CountBad(s.finished); bad > 0 {
		text += fmt.Sprintf("  %s%d", run.Failed.Shape(), bad)
	}
	if s.moving {
		if now.Sub(s.reported) >= frameTime {
			s.reported = now
			s.w.Redraw(text)
		}
		return
	}
	if step := 20 * s.done / max(s.total, 1); step > s.steps {
		s.steps = step
		fmt.Fprintln(s.w, text)
	}
}
