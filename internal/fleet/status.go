package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/run"
)

// MachineStatus is what is known of a machine of a run.
type MachineStatus struct {
	Name    string    `json:"name"`
	Workers int       `json:"workers"`
	State   string    `json:"state"` // MachineRunning, MachineLeft or MachineLost
	Joined  time.Time `json:"joined"`
	Left    time.Time `json:"left"` // when it left or was lost; null in JSON if it did not
	Tests   int       `json:"tests"`
	Busy    float64   `json:"busy_s"`
	Idle    float64   `json:"idle_s"`
	Unfit   []string  `json:"unfit,omitempty"` // suites that it cannot run

	stored bool // nothing more comes from it
	source run.Source
}

// MarshalJSON writes a machine that has not left with null.
func (s MachineStatus) MarshalJSON() ([]byte, error) {
	type plain MachineStatus
	out := struct {
		plain
		Left *time.Time `json:"left"`
	}{plain: plain(s)}
	if !s.Left.IsZero() {
		out.Left = &s.Left
	}
	return json.Marshal(out)
}

// members returns the machines of a run in the order in which they joined.
func (c *Conn) members(ctx context.Context, m *Manifest) ([]MachineStatus, error) {
	now, err := c.now(ctx)
	if err != nil {
		return nil, err
	}
	present, err := c.runs.Watch(ctx, m.machineKeys()+"*", jetstream.IgnoreDeletes())
	if err != nil {
		return nil, err
	}
	defer func() { _ = present.Stop() }() // nothing is left to read
	var out []MachineStatus
	for {
		var value jetstream.KeyValueEntry
		select {
		case value = <-present.Updates():
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		if value == nil { // that was all
			break
		}
		if s, ok := machineStatus(m, value.Value(), value.Created(), now); ok {
			out = append(out, s)
		}
	}
	slices.SortFunc(out, func(a, b MachineStatus) int {
		if d := a.Joined.Compare(b.Joined); d != 0 {
			return d
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out, nil
}

// machineStatus reads what a machine said of itself at a time.
func machineStatus(m *Manifest, value []byte, seen, now time.Time) (s MachineStatus, ok bool) {
	var e entry
	if json.Unmarshal(value, &e) != nil || e.Name == "" || e.Workers < 1 || e.Workers > mostWorkers || !(e.Busy >= 0) {
		return s, false
	}
	s = MachineStatus{Name: e.Name, Workers: e.Workers, State: e.State, Joined: e.Joined, Left: e.Left, Tests: e.Tests, Busy: e.Busy, Unfit: e.Unfit, stored: e.Stored, source: e.Source}
	silence := m.lease() // that means that it is lost
	if !m.Ended.IsZero() && m.Ended.Before(now) {
		now, silence = m.Ended, m.lease()/2 // one that lived until the end showed it since, or left
	}
	until := now
	switch {
	case s.State == MachineLeft:
		until = e.Left
	case now.Sub(seen) > silence:
		s.State, s.Left, until = MachineLost, seen, seen
	case !m.Ended.IsZero():
		s.State, s.Left = MachineLeft, m.Ended
	}
	s.Idle = max(0, float64(e.Workers)*until.Sub(e.Joined).Seconds()-e.Busy)
	return s, true
}

// BatchCounts counts the batches of a run.
type BatchCounts struct {
	Done    int `json:"done"`
	Taken   int `json:"taken"`
	Waiting int `json:"waiting"`
}

// Status is the state of a run.
type Status struct {
	Format   string              `json:"format"`
	Run      string              `json:"run"`
	State    string              `json:"state"` // Open or Ended
	Plan     string              `json:"plan"`
	Attempt  int                 `json:"attempt"`
	Machines []MachineStatus     `json:"machines"`
	Batches  BatchCounts         `json:"batches"`
	Counts   map[run.Outcome]int `json:"counts"`
	EndsIn   *float64            `json:"ends_in_s"` // nil if it has ended or no machine runs

	Manifest *Manifest `json:"-"`
}

// StatusFormat names the JSON of a Status.
const StatusFormat = "fern-fleet/1"

// Status returns the state of a run, without a forecast. If the run is open, the follower sees what has happened so far.
func (c *Conn) Status(ctx context.Context, id string, to Follower) (*Status, error) {
	m, err := c.Manifest(ctx, id)
	if err != nil {
		return nil, err
	}
	s := &Status{Format: StatusFormat, Run: m.Run, State: m.State, Plan: m.Plan, Attempt: m.Attempt, Manifest: m, Counts: m.Counts, Machines: []MachineStatus{}}
	if m.State == Planning {
		s.State, s.Counts = Open, map[run.Outcome]int{}
		return s, nil
	}
	if m.IsHunt() {
		return c.huntStatus(ctx, s)
	}
	if m.State == Ended {
		s.Batches.Done = m.Batches
		machines, err := c.members(ctx, m)
		s.Machines = append(s.Machines, machines...)
		return s, err
	}
	result, fold, err := c.fold(ctx, m, to)
	if err != nil {
		return nil, err
	}
	s.Machines, s.Counts = append(s.Machines, result.Machines...), result.Run.Counts
	s.Batches.Done = len(fold.done)
	if s.Batches.Taken, err = c.taken(ctx, m); err != nil {
		return nil, err
	}
	s.Batches.Waiting = max(0, m.Batches-s.Batches.Done-s.Batches.Taken)
	return s, nil
}

// huntStatus adds the machines and trials of a hunt to its status.
func (c *Conn) huntStatus(ctx context.Context, s *Status) (_ *Status, err error) {
	s.Counts = map[run.Outcome]int{}
	if s.Machines, err = c.members(ctx, s.Manifest); err != nil {
		return nil, err
	}
	for _, m := range s.Machines {
		s.Batches.Done += m.Tests
	}
	s.Batches.Taken, err = c.taken(ctx, s.Manifest)
	return s, err
}

// taken counts the batches of a run that machines have taken and not finished.
func (c *Conn) taken(ctx context.Context, m *Manifest) (int, error) {
	n := 0
	consumers := c.batches.ListConsumers(ctx)
	for info := range consumers.Info() {
		if strings.HasPrefix(info.Name, "q-"+m.Plan+"-") {
			n += info.NumAckPending
		}
	}
	return n, consumers.Err()
}

// UnknownError is the error of a run that the station does not have.
type UnknownError struct{ Run string }

func (u UnknownError) Error() string {
	return fmt.Sprintf("the station has no run %s: fern-relay fleet list lists its runs", u.Run)
}

// Manifest returns what a run is. The error is [UnknownError] if there is no such run.
func (c *Conn) Manifest(ctx context.Context, id string) (*Manifest, error) {
	m, _, err := c.getManifest(ctx, id)
	if err == nil && m == nil {
		return nil, UnknownError{Run: id}
	}
	return m, err
}

// Runs returns all runs of the station, the latest last.
func (c *Conn) Runs(ctx context.Context) ([]*Manifest, error) {
	keys, err := c.runs.ListKeysFiltered(ctx, "run.*")
	if err != nil {
		return nil, err
	}
	var runs []*Manifest
	for key := range keys.Keys() {
		value, err := c.runs.Get(ctx, key)
		if errors.Is(err, jetstream.ErrKeyNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if m, err := readManifest(value.Value()); err == nil {
			runs = append(runs, m)
		}
	}
	slices.SortFunc(runs, func(a, b *Manifest) int { return a.Began.Compare(b.Began) })
	return runs, nil
}

// Forget removes a run from the station, also one that goes on: its machines then end.
func (c *Conn) Forget(ctx context.Context, id string) error {
	m, err := c.Manifest(ctx, id)
	if err != nil {
		return err
	}
	errs := []error{
		c.runs.Purge(ctx, runKey(id)),
		c.batches.Purge(ctx, jetstream.WithPurgeSubject(batchSubject+m.Plan+".>")),
		c.events.Purge(ctx, jetstream.WithPurgeSubject(m.allEvents())),
		c.removeQueues(ctx, m),
	}
	for _, name := range []string{m.scheduleName(), m.resultName()} {
		if err := c.files.Delete(ctx, name); !errors.Is(err, jetstream.ErrObjectNotFound) {
			errs = append(errs, err)
		}
	}
	keys, err := c.runs.ListKeysFiltered(ctx, m.machineKeys()+"*")
	if err != nil {
		return errors.Join(append(errs, err)...)
	}
	for key := range keys.Keys() {
		errs = append(errs, c.runs.Purge(ctx, key))
	}
	return errors.Join(errs...)
}

// removeQueues removes the consumers of a run.
func (c *Conn) removeQueues(ctx context.Context, m *Manifest) error {
	names := c.batches.ConsumerNames(ctx)
	var own []string
	for name := range names.Name() {
		if strings.HasPrefix(name, "q-"+m.Plan+"-") {
			own = append(own, name)
		}
	}
	errs := []error{names.Err()}
	for _, name := range own {
		if err := c.batches.DeleteConsumer(ctx, name); !errors.Is(err, jetstream.ErrConsumerNotFound) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}
