package report

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/progress"
	"fernrelay/internal/terminal"
	"fernrelay/internal/wording"
)

// Status prints how far a run has come and what is running: on a terminal as one line that moves, elsewhere as a line
// from time to time. It is safe for use by several goroutines. The caller calls Close.
//
//	21 tests; preparing
//	0:02  9 of 21  ▲1  running: irrigation#fills_the_tank 0:02, and 1 more
//
// Elsewhere, as in the log of a CI job, a line is printed for each twentieth of the tests, and at least once a minute.
type Status struct {
	mu        sync.Mutex
	w         *terminal.Writer
	width     int // of the terminal, in columns; 0 if there is none
	tally     *progress.Tally
	closed    bool
	reported  time.Time // when the latest line was printed
	steps     int       // how many twentieths of the whole are printed
	preparing string
	stop      chan struct{}
}

// NewStatus returns the status of a run of a number of tests. width is that of the terminal that w writes to, 0 if it
// writes to something else.
func NewStatus(w *terminal.Writer, width, total int) *Status {
	s := &Status{w: w, width: width, tally: progress.NewTally(total), stop: make(chan struct{})}
	go s.tick()
	return s
}

// The least time between two states of the moving line, and the longest time without a line elsewhere.
const (
	frameTime  = 50 * time.Millisecond
	silentTime = time.Minute
)

// tick keeps the clock going while no event comes.
func (s *Status) tick() {
	every := time.NewTicker(time.Second)
	defer every.Stop()
	for {
		select {
		case <-s.stop:
			return
		case now := <-every.C:
			s.mu.Lock()
			if !s.tally.Began.IsZero() && !s.closed && s.preparing == "" {
				s.line(now)
			}
			s.mu.Unlock()
		}
	}
}

// Close clears the line and prints no more.
func (s *Status) Close() {
	close(s.stop)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.width > 0 {
		s.w.Redraw("")
	}
	s.closed = true
}

// Event takes the next event of the run.
func (s *Status) Event(e run.Event) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tally.Apply(e)
	switch e.Event {
	case run.RunBegins:
		s.reported = e.At
		fmt.Fprintf(s.w, "%s; preparing\n", wording.Plural(s.tally.Total, "test"))
	case run.ServiceReady:
		s.around(func() { fmt.Fprintf(s.w, "%s ready in %s\n", e.Service, history.Short(*e.Seconds)) })
	case run.Finished:
		s.line(e.At)
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
	if s.width > 0 {
		s.w.Redraw(s.fit(what))
	}
}

// Around calls print, which prints whole lines, with the moving line out of its way.
func (s *Status) Around(print func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.around(print)
}

func (s *Status) around(print func()) {
	if s.width > 0 {
		s.w.Redraw("")
		s.reported = time.Time{}
	}
	print()
}

func (s *Status) line(now time.Time) {
	step := 20 * s.tally.Done / max(s.tally.Total, 1)
	if s.width > 0 {
		if now.Sub(s.reported) >= frameTime {
			s.reported = now
			s.w.Redraw(s.fit(s.text(now)))
		}
		return
	}
	if step > s.steps || now.Sub(s.reported) >= silentTime {
		s.steps, s.reported = step, now
		fmt.Fprintln(s.w, s.text(now))
	}
}

func (s *Status) text(now time.Time) string {
	text := fmt.Sprintf("%s  %d of %d", history.Clock(now.Sub(s.tally.Began).Seconds()), s.tally.Done, s.tally.Total)
	if bad := s.tally.Bad(); bad > 0 {
		text += fmt.Sprintf("  %s%d", run.Failed.Shape(), bad)
	}
	if words := s.runningWords(now); words != "" {
		text += "  running: " + words
	}
	return text
}

// fit cuts a text to the width of the terminal, so that it stays one line.
func (s *Status) fit(text string) string {
	if runes := []rune(text); len(runes) >= s.width {
		return string(runes[:s.width-2]) + "…"
	}
	return text
}

// Running names the tests that run, the longest first; "" if none does.
func (s *Status) Running() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.runningWords(time.Now())
}

// A test is named once it has run for this long, and at most this many are.
const (
	namedAfter = time.Second
	namedMost  = 3
)

func (s *Status) runningWords(now time.Time) string {
	running := s.tally.Running(now)
	var words []string
	for i, test := range running {
		if i == namedMost || test.Since < namedAfter {
			break
		}
		words = append(words, fmt.Sprintf("%s %s", plain.Line(test.ID), history.Clock(test.Since.Seconds())))
	}
	if more := len(running) - len(words); more > 0 && len(words) > 0 {
		words = append(words, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(words, ", ")
}
