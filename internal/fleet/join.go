package fleet

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
)

// Work is what a machine brings along: what it would run, and how to plan it if it is the first.
type Work struct {
	Project string
	run.Meta
	Mixed  bool // allow another source than that of the run
	Tests  []catalog.Test
	Shared []string // resources of which the whole fleet has one
	Bare   []string // groups without tests that are built, too, as suite:group
	Lease  time.Duration
	Again  string // AgainFailed or AgainAll to open a new attempt of a run that has ended; empty for none

	// Lookup finds a test of the project, also one that is not picked; WithNeeds adds those that tests need.
	Lookup    func(id string) (*catalog.Test, bool)
	WithNeeds func(tests []catalog.Test) []catalog.Test

	// Schedule plans tests for about as many workers, with what the station knows about their times, nil if
	// it knows nothing.
	Schedule func(tests []catalog.Test, workers int, times *history.Times) (*schedule.Schedule, error)
}

// What a new attempt runs.
const (
	AgainFailed = "failed" // what was bad or lost
	AgainAll    = "all"
)

// The leases that a run may have.
const (
	DefaultLease = 20 * time.Second
	leastLease   = time.Second
	mostLease    = time.Hour
)

// Check reports a lease or a repetition that makes no sense.
func (w *Work) Check() error {
	switch {
	case w.Lease < leastLease || w.Lease > mostLease:
		return fmt.Errorf("--lease is %s: a time from %s to %s is expected", w.Lease, leastLease, mostLease)
	case w.Again != "" && w.Again != AgainFailed && w.Again != AgainAll:
		return fmt.Errorf("--again is %q: failed or all is expected", w.Again)
	}
	return nil
}

// DiffersError is the error of a machine that may not join a run.
type DiffersError struct{ why string }

func (d DiffersError) Error() string { return d.why }

// OverError is the error of a machine that comes after the end of a run.
type OverError struct{ Manifest *Manifest }

func (o OverError) Error() string {
	return fmt.Sprintf("the run %s ended at %s: nothing is left to do", o.Manifest.Run, o.Manifest.Ended.Local().Format(time.TimeOnly))
}

// lookEvery is the time between two looks at a run that another machine plans.
const lookEvery = 100 * time.Millisecond

// Join makes this computer a machine of a run, and begins the run if no other has. The errors [OverError] and [DiffersError] say that
// the run has ended, or is another one.
func (c *Conn) Join(ctx context.Context, id string, self Machine, work Work) (*Member, error) {
	if err := work.Check(); err != nil {
		return nil, err
	}
	for until := time.Now().Add(dialTime); ; {
		member, err := c.join(ctx, id, self, work)
		if err == nil || !passes(err) || ctx.Err() != nil || time.Now().After(until) {
			return member, err
		}
		sleep(ctx, lookEvery) // the servers of a station choose who leads
	}
}

// join is Join without patience.
func (c *Conn) join(ctx context.Context, id string, self Machine, work Work) (*Member, error) {
	for {
		m, entry, err := c.getManifest(ctx, id)
		if err != nil {
			return nil, err
		}
		switch {
		case m == nil:
			m, err = c.plan(ctx, id, self, work, nil, 0)
		case m.IsHunt() && m.State == Ended:
			return nil, OverError{m}
		case m.IsHunt():
			return nil, HuntError{m}
		case m.State == Ended:
			m, err = c.afterEnd(ctx, m, entry.Revision(), self, work)
		case m.State == Planning:
			m, err = c.awaitPlan(ctx, m, entry, self, work)
		}
		if err != nil {
			return nil, err
		}
		if m != nil {
			return c.enter(ctx, m, self, work)
		}
	}
}

// awaitPlan waits a moment while another machine plans, and plans in its place once its lease is over.
func (c *Conn) awaitPlan(ctx context.Context, m *Manifest, entry jetstream.KeyValueEntry, self Machine, work Work) (*Manifest, error) {
	now, err := c.now(ctx)
	if err != nil {
		return nil, err
	}
	if now.Sub(entry.Created()) > m.lease() {
		return c.plan(ctx, m.Run, self, work, m, entry.Revision())
	}
	sleep(ctx, lookEvery)
	return nil, ctx.Err()
}

// afterEnd decides what becomes of a machine that comes after the end of a run.
func (c *Conn) afterEnd(ctx context.Context, m *Manifest, revision uint64, self Machine, work Work) (*Manifest, error) {
	if work.Again != "" {
		return c.plan(ctx, m.Run, self, work, m, revision)
	}
	again := fmt.Sprintf("take another run ID, or add --again failed or --again all to open attempt %d", m.Attempt+1)
	if !SameRevision(m.Revision, work.Source.Revision) {
		return nil, DiffersError{fmt.Sprintf("the run %s ended at %s, at the revision %s, and this is %s: %s", m.Run, m.Ended.Local().Format(time.TimeOnly), named(m.Revision), named(work.Source.Revision), again)}
	}
	known, err := c.members(ctx, m)
	if err != nil {
		return nil, err
	}
	for _, k := range known {
		if k.Name == self.Name {
			return nil, DiffersError{fmt.Sprintf("the run %s ended at %s, and %s took part in it: %s", m.Run, m.Ended.Local().Format(time.TimeOnly), self.Name, again)}
		}
	}
	return nil, OverError{m}
}

// SameRevision compares two revisions of git, which may be cut to different lengths.
func SameRevision(a, b string) bool {
	return a == b || a != "" && b != "" && (strings.HasPrefix(a, b) || strings.HasPrefix(b, a))
}

func named(revision string) string {
	if revision == "" {
		return "(none)"
	}
	return revision[:min(len(revision), 12)]
}

// plan begins a run, or a new attempt of one, or takes over from a machine that did not finish planning. It returns nil if
// another machine was faster.
func (c *Conn) plan(ctx context.Context, id string, self Machine, work Work, before *Manifest, revision uint64) (*Manifest, error) {
	tests := work.Tests
	now, err := c.now(ctx)
	if err != nil {
		return nil, err
	}
	m := &Manifest{Format: manifestFormat, Run: id, Plan: newName(), Attempt: 1, State: Planning, By: self.Name, Project: work.Project, Meta: work.Meta, Lease: work.Lease.Seconds(), Began: now}
	switch {
	case before != nil && before.State == Ended:
		m.Attempt, m.Again, m.Prior = before.Attempt+1, work.Again, before.Plan
	case before != nil: // one that was not planned to its end
		m.Attempt, m.Again, m.Prior = before.Attempt, before.Again, before.Prior
	}
	if m.Again == AgainFailed {
		if tests, err = c.failedIn(ctx, m, work); err != nil {
			return nil, err
		}
	}
	learned, err := c.learned(ctx, work.Project)
	if err != nil {
		return nil, err
	}
	schedule, err := work.Schedule(tests, learned.workers(self.Workers), learned.times())
	if err != nil {
		return nil, err
	}
	file := newPlanFile(schedule, work.Shared, work.Bare)
	m.Tests, m.Batches = len(file.Tests), len(file.Batches)
	won, err := c.put(ctx, m, revision)
	if err != nil || !won {
		return nil, err
	}
	if err := c.putPlan(ctx, m, file); err != nil {
		return nil, fmt.Errorf("the schedule cannot be stored: %w", err)
	}
	if err := c.offerAll(ctx, m, schedule, work.Shared); err != nil {
		return nil, fmt.Errorf("the batches cannot be queued: %w", err)
	}
	m.State = Open
	_, entry, err := c.getManifest(ctx, id)
	if err != nil || entry == nil {
		return nil, err
	}
	if now, err := readManifest(entry.Value()); err != nil || now.Plan != m.Plan {
		return nil, err // another took over
	}
	if won, err = c.put(ctx, m, entry.Revision()); err != nil || !won {
		return nil, err
	}
	return m, nil
}

// failedIn returns the tests that were bad or lost in the attempt before, with those that they need.
func (c *Conn) failedIn(ctx context.Context, m *Manifest, work Work) ([]catalog.Test, error) {
	result, err := c.result(ctx, &Manifest{Run: m.Run, Plan: m.Prior})
	if err != nil {
		return nil, err
	}
	var tests []catalog.Test
	for _, t := range work.Tests {
		if r := result.Run.Result(t.ID); r != nil && (r.Outcome.Bad() || r.Outcome == run.Lost) {
			tests = append(tests, t)
		}
	}
	if len(tests) == 0 {
		return nil, OverError{result.Manifest}
	}
	return work.WithNeeds(tests), nil
}

// offerAll queues the batches that wait for no other.
func (c *Conn) offerAll(ctx context.Context, m *Manifest, s *schedule.Schedule, shared []string) error {
	lanes := newLanes(s, shared)
	for lane := range lanes.names {
		if err := c.makeQueue(ctx, m, lane); err != nil {
			return err
		}
	}
	for i := range s.Batches {
		if len(s.Waits(i)) > 0 {
			continue
		}
		if _, err := c.js.PublishAsync(m.batch(lanes.of[i], i+1), nil, jetstream.WithMsgID(fmt.Sprint(m.Plan, "-", i+1)), jetstream.WithStallWait(5*time.Second)); err != nil {
			return err
		}
	}
	select {
	case <-c.js.PublishAsyncComplete():
	case <-ctx.Done():
		return ctx.Err()
	}
	info, err := c.batches.Info(ctx, jetstream.WithSubjectFilter(batchSubject+m.Plan+".>"))
	if err != nil {
		return err
	}
	queued := 0
	for i := range s.Batches {
		if len(s.Waits(i)) == 0 {
			queued++
		}
	}
	if got := len(info.State.Subjects); got != queued {
		return fmt.Errorf("the station took %d of %d batches: is its disk full?", got, queued)
	}
	return nil
}

// makeQueue makes the consumer from which machines take the batches of a lane.
func (c *Conn) makeQueue(ctx context.Context, m *Manifest, lane int) error {
	_, err := c.batches.CreateOrUpdateConsumer(ctx, jetstream.ConsumerConfig{Durable: m.queue(lane), FilterSubject: m.lanes(lane), AckPolicy: jetstream.AckExplicitPolicy,
		AckWait: m.lease(), MaxDeliver: -1, MaxAckPending: -1, MaxWaiting: 20_000, InactiveThreshold: keepEvents})
	return err
}

// enter makes this computer a machine of a run that is open.
func (c *Conn) enter(ctx context.Context, m *Manifest, self Machine, work Work) (*Member, error) {
	switch {
	case work.Mixed:
	case !SameRevision(m.Revision, work.Source.Revision):
		return nil, DiffersError{fmt.Sprintf("this machine may not join the run %s: the run is at the revision %s, and this checkout is at %s", m.Run, named(m.Revision), named(work.Source.Revision))}
	case work.Source.Content != m.Content:
		return nil, DiffersError{fmt.Sprintf("this machine may not join the run %s: the run is of %s, and this checkout of %s: commit or remove what differs (git status shows it), or add --mixed", m.Run, m.Source(), work.Source)}
	}
	if m.Project != work.Project {
		return nil, DiffersError{fmt.Sprintf("this machine may not join the run %s: it is a run of the project %s, and this is %s", m.Run, m.Project, work.Project)}
	}
	file, err := c.getPlan(ctx, m)
	if err != nil {
		return nil, err
	}
	if why := file.difference(work.Tests); why != "" && m.Again != AgainFailed {
		return nil, DiffersError{fmt.Sprintf("this machine may not join the run %s, as it found other tests than %s did: %s", m.Run, m.By, why)}
	}
	own := make(map[string]*catalog.Test, len(work.Tests))
	for i := range work.Tests {
		own[work.Tests[i].ID] = &work.Tests[i]
	}
	missing := ""
	schedule, err := file.schedule(func(id string) (catalog.Test, bool) {
		if t := own[id]; t != nil {
			return *t, true
		}
		if t, ok := work.Lookup(id); ok && m.Again == AgainFailed { // one that others need
			return *t, true
		}
		missing = id
		return catalog.Test{}, false
	})
	if err != nil {
		return nil, err
	}
	if missing != "" {
		return nil, DiffersError{fmt.Sprintf("this machine may not join the run %s: it does not have the test %s", m.Run, missing)}
	}
	return c.newMember(ctx, m, self, work.Source, newPlan(schedule, file.Shared))
}
