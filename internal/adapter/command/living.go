package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/format"
	"fernrelay/internal/process"
)

// streams are the formats whose results say at once how a test ended.
var streams = []string{"gojson", "events"}

// checkLiving says why a process of the suite cannot run batch after batch.
func (c *Config) checkLiving() error {
	switch {
	case c.Isolate != catalog.SuiteLevel:
	case !c.Stdin:
		return errors.New(`isolate = "worker" needs names = "stdin": a process that runs batch after batch reads the names of each when it comes`)
	case !slices.Contains(streams, c.Results) || c.holds("{report}"):
		return errors.New(`isolate = "worker" needs results on the standard output that say at once how a test ended: results = "events" or "gojson", without {report}`)
	case c.holds("{name}") || c.holds("{names}") || c.holds("{file}") || c.holds("{files}") || c.holds("{names-file}"):
		return errors.New(`isolate = "worker" cannot go with names or files among the arguments: the process receives names on its standard input`)
	}
	return nil
}

// lives reports whether a process of the suite runs batch after batch.
func (a *Adapter) lives() bool { return a.Isolate == catalog.SuiteLevel }

// living is a process that runs batch after batch. It reads names from its standard input until that ends.
type living struct {
	cmd     *process.Process
	stdin   io.WriteCloser
	beside  *process.Pipe // its standard error
	closing chan struct{} // closed when it has ended by itself
	ended   chan struct{} // closed when its results are read, too; the three below are readable then
	fault   error         // what is wrong with its results
	unread  bool          // it was killed for that
	err     error         // how it ended
	ran     int           // batches
	failed  bool          // a test of these is bad

	mu      sync.Mutex
	results *results // of the batch that it runs; nil between two
	last    run.Event
}

// startLiving starts a process.
func (s *session) startLiving(ctx context.Context) (*living, error) {
	words := s.words(nil, nil)
	l := &living{cmd: process.Command(context.WithoutCancel(ctx), s.adapter.Dir, s.slot, words[0], words[1:]...), closing: make(chan struct{}), ended: make(chan struct{})}
	var err error
	if l.stdin, err = l.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	if l.beside, err = process.NewPipe(l); err != nil {
		return nil, err
	}
	reports, _ := format.Named(s.adapter.Results)
	stdout, read := piped(func(r io.Reader, sink run.Sink) error {
		err := reports.Read(r, sink)
		select {
		case <-l.closing:
		default: // nobody would read its next results
			l.unread = err != nil && l.cmd.Kill() == nil
		}
		return err
	}, l.take)
	l.cmd.Stdout, l.cmd.Stderr = stdout, l.beside.End
	if err := l.cmd.Start(); err != nil {
		l.beside.Close()
		_ = stdout.Close()
		return nil, errors.Join(err, read())
	}
	copied := l.beside.Copy()
	go func() {
		l.err = l.cmd.Wait()
		close(l.closing)
		l.beside.Stop(l.cmd.WaitDelay, copied)
		_ = stdout.Close() // so that the reader gets to the end
		l.fault = read()
		close(l.ended)
	}()
	return l, nil
}

// take passes an event of the results to those of the batch that runs. Between two batches a bad outcome is kept.
func (l *living) take(e run.Event) {
	if e.Event == run.Finished {
		l.beside.Drain()
	}
	l.mu.Lock()
	r := l.results
	if r == nil && e.Event == run.Finished && e.Outcome.Bad() {
		l.last = e
	}
	l.mu.Unlock()
	if r != nil {
		r.take(e)
	}
}

// Write passes what the process prints beside its results to the batch that runs.
func (l *living) Write(data []byte) (int, error) {
	l.mu.Lock()
	r := l.results
	l.mu.Unlock()
	if r == nil {
		return len(data), nil
	}
	return (&printed{r}).Write(data)
}

// attend says which batch runs, nil for none. It returns a bad outcome that came when none did, without ID if there was none.
func (l *living) attend(r *results) (stray run.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.results, stray, l.last = r, l.last, run.Event{}
	return stray
}

// feed runs some tests in the session's living process, which it starts if there is none.
func (s *session) feed(ctx context.Context, tests []catalog.Test, batch *adapter.Recorder, d *division, sink run.Sink) error {
	if s.living != nil && s.living.isOver() {
		if err := s.endLiving(); err != nil {
			s.reportStray(sink, tests, err.Error())
		}
	}
	reported := newResults(tests, s.adapter.names(), batch)
	reported.done = make(chan struct{})
	if s.living == nil {
		var err error
		if s.living, err = s.startLiving(ctx); err != nil {
			batch.Begin(func() {})
			reported.close("it cannot be started: "+err.Error(), 1, nil)
			batch.Exited()
			return ctx.Err()
		}
	}
	l := s.living
	l.ran++
	defer context.AfterFunc(ctx, func() { _ = l.cmd.Kill() })()
	before := l.cmd.Usage()
	batch.Begin(func() { _ = l.cmd.Kill() })
	stray := l.attend(reported)
	_ = reported.start(func() error { return nil })
	go func() { _, _ = io.WriteString(l.stdin, process.NameLines(names(tests))) }() // until the process ends
	select {
	case <-reported.done:
	case <-l.ended:
	}
	silent := batch.Exited()
	l.attend(nil)
	if ctx.Err() != nil {
		_ = s.endLiving()
		return ctx.Err()
	}
	used := l.cmd.Usage().Since(before)
	l.failed = l.failed || reported.failed
	switch open := reported.unfinished(); {
	case len(open) == len(tests) && l.ran > 1 && l.endedWell():
		s.living = nil // it runs one batch, and the next gets another
	case len(open) > 0:
		s.living = nil
		end := ending{l.cmd.ProcessState.ExitCode(), l.ending(), silent, l.fault, batch.Expired(), used.Wall}
		s.ended(reported, end, d)
		reported.reportBeyond(sink, end)
	default:
		reported.reportBeyond(sink, ending{})
	}
	if stray.ID != "" {
		s.reportStray(sink, tests, "between two batches the process reported "+stray.ID+" as "+string(stray.Outcome)+": "+stray.Message)
	}
	sink(used.Event(""))
	return nil
}

// ending returns how the process ended, in words.
func (l *living) ending() string {
	if l.unread {
		return "killed, as its results cannot be read: " + l.fault.Error()
	}
	return process.Ending(l.err)
}

// endedWell reports whether the process, which has ended, did so by itself and without a fault.
func (l *living) endedWell() bool { return l.err == nil && l.fault == nil }

// isOver reports whether the process has ended.
func (l *living) isOver() bool {
	select {
	case <-l.ended:
		return true
	default:
		return false
	}
}

// reportStray reports what the process did that belongs to no batch.
func (s *session) reportStray(sink run.Sink, tests []catalog.Test, message string) {
	adapter.ReportBeyond(sink, run.Event{ID: catalog.ID(s.adapter.Suite, tests[0].Group, run.ProcessEntry), Outcome: run.Errored, Failure: run.Failure{Message: message}}, "")
}

// endLimit is how long a living process may take to end once its standard input has.
const endLimit = time.Second

// endLiving ends the living process, if there is one. The error says that it ended badly by itself.
func (s *session) endLiving() error {
	l := s.living
	if l == nil {
		return nil
	}
	s.living = nil
	_ = l.stdin.Close()
	select {
	case <-l.ended:
	case <-time.After(endLimit):
		_ = l.cmd.Kill()
		<-l.ended
		return nil
	}
	switch stray := l.attend(nil); {
	case l.fault != nil:
		return fmt.Errorf("the results of suite %s: %w", s.adapter.Suite, l.fault)
	case l.err != nil && (l.cmd.ProcessState.ExitCode() < 0 || !l.failed):
		return fmt.Errorf("after its last test the process of suite %s ended with %s", s.adapter.Suite, process.Ending(l.err))
	case stray.ID != "":
		return fmt.Errorf("after its last test the process of suite %s reported %s as %s: %s", s.adapter.Suite, stray.ID, stray.Outcome, stray.Message)
	}
	return nil
}
