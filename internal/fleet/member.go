package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/engine"
)

// Machine describes a computer that takes part in a run.
type Machine struct {
	Name    string `json:"name"` // as the run knows it: a second machine of one name gets a number
	Workers int    `json:"workers"`
}

// Member is this computer as a machine of a run. It is the source of batches for an engine, and takes its events.
type Member struct {
	*plan
	conn     *Conn
	manifest *Manifest
	queues   []jetstream.Consumer // by lane
	late     time.Duration        // of the station's clock after this one's
	key      string               // of its entry
	stop     context.CancelFunc   // of what runs beside
	beside   sync.WaitGroup

	mu      sync.Mutex
	self    entry
	claims  map[*engine.Claim]*claim
	byBatch map[int]*claim // open claims, by batch
	parked  []*claim       // that cannot begin now
	held    map[string]int // resources of this machine
	idle    int            // workers that look for a batch
	changed chan struct{}  // closed when something may begin that could not
	over    bool           // no batch is left
	lost    error          // why the station cannot finish the run; nil if it can
	looked  time.Time      // when the end was last looked for
	missed  time.Time      // since when batches are missing that nobody has; zero if none are
	pause   time.Duration  // until it is looked for again
	extra   *writer        // of what processes do beyond their tests
}

// plan is a schedule with what follows from it. It does not change.
type plan struct {
	schedule *schedule.Schedule
	lanes    *lanes
	shared   map[string]bool // resources of which the fleet has one
	waiters  map[int][]int   // by batch, from 1: batches that wait for tests of it
	within   map[string]int  // by ID: the test's batch, from 1
}

func newPlan(s *schedule.Schedule, shared []string) *plan {
	p := &plan{schedule: s, lanes: newLanes(s, shared), shared: map[string]bool{}, waiters: map[int][]int{}, within: map[string]int{}}
	for _, name := range shared {
		p.shared[name] = true
	}
	for i := range s.Batches {
		for j := range s.Batches[i].Tests {
			p.within[s.Batches[i].Tests[j].ID] = i + 1
		}
	}
	for i := range s.Batches {
		for _, before := range p.before(i + 1) {
			p.waiters[before] = append(p.waiters[before], i+1)
		}
	}
	return p
}

// before returns the batches, from 1, that a batch waits for.
func (p *plan) before(batch int) []int {
	var before []int
	for _, id := range p.schedule.Waits(batch - 1) {
		if b := p.within[id]; b != 0 && !slices.Contains(before, b) {
			before = append(before, b)
		}
	}
	return before
}

// entry is what the station holds of a machine, renewed as long as it lives.
type entry struct {
	Machine
	State  string    `json:"state"` // MachineRunning or MachineLeft
	Joined time.Time `json:"joined"`
	Left   time.Time `json:"left,omitzero"`
	Tests  int       `json:"tests"`
	Busy   float64   `json:"busy_s"`
	Unfit  []string  `json:"unfit,omitempty"`  // suites that it cannot run
	Stored bool      `json:"stored,omitempty"` // nothing more comes from it

	Source run.Source `json:"source,omitzero"`
}

// The states of a machine.
const (
	MachineRunning = "running"
	MachineLeft    = "left"
	MachineLost    = "lost"
)

func (c *Conn) newMember(ctx context.Context, m *Manifest, self Machine, source run.Source, p *plan) (*Member, error) {
	f := &Member{plan: p, conn: c, manifest: m, claims: map[*engine.Claim]*claim{}, byBatch: map[int]*claim{}, held: map[string]int{}, changed: make(chan struct{})}
	for lane := range f.lanes.names {
		queue, err := c.batches.Consumer(ctx, m.queue(lane))
		if err != nil {
			return nil, err
		}
		f.queues = append(f.queues, queue)
	}
	var err error
	if f.late, err = c.late(ctx); err != nil {
		return nil, err
	}
	f.self = entry{Machine: self, Source: source, State: MachineRunning, Joined: f.now()}
	if err := f.register(ctx); err != nil {
		return nil, err
	}
	beside, stop := context.WithCancel(context.Background())
	f.stop = stop
	f.beside.Go(func() { f.live(beside) })
	f.beside.Go(func() { f.watchEnd(beside) })
	return f, nil
}

// mostNames bounds the machines of one name.
const mostNames = 10_000

// register enters the machine under its name, or under its name with a number if another has it.
func (f *Member) register(ctx context.Context) error {
	name := f.self.Name
	for n := 2; n < mostNames; n++ {
		f.key = f.manifest.machineKeys() + token(f.self.Name)
		_, err := f.conn.runs.Create(ctx, f.key, marshal(f.self))
		if err == nil {
			return nil
		}
		if !errors.Is(err, jetstream.ErrKeyExists) {
			return err
		}
		f.self.Name = fmt.Sprintf("%s-%d", name, n)
	}
	return fmt.Errorf("too many machines are named %s", name)
}

// Name returns the machine's name in the run.
func (f *Member) Name() string { return f.self.Name }

// SetSource changes the source that the run knows of this machine.
func (f *Member) SetSource(s run.Source) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.self.Source = s
}

// Manifest returns what the run is.
func (f *Member) Manifest() *Manifest { return f.manifest }

// Schedule returns the schedule of the whole run.
func (f *Member) Schedule() *schedule.Schedule { return f.schedule }

// Lease returns how long a claim holds.
func (f *Member) Lease() time.Duration { return f.manifest.lease() }

// checkStation ends this machine's part if the station has lost what it held.
func (f *Member) checkStation(ctx context.Context) {
	asking, cancel := context.WithTimeout(ctx, f.Lease()/beats)
	defer cancel()
	if err := f.conn.checkRun(asking, f.manifest); err != nil {
		f.lose(err)
	}
}

// lose ends this machine's part, because the station cannot finish the run.
func (f *Member) lose(why error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.lost == nil {
		f.lost, f.over = why, true
		f.change()
	}
}

// lostFor returns why the station cannot finish the run, nil if it can.
func (f *Member) lostFor() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.lost
}

// beats is how often a machine shows within a lease that it lives.
const beats = 4

// live shows that the machine lives.
func (f *Member) live(ctx context.Context) {
	every := time.NewTicker(f.Lease() / beats)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
			f.checkStation(ctx)
			beat, cancel := context.WithTimeout(ctx, f.Lease()/beats)
			_ = f.show(beat) // the next beat comes soon
			cancel()
		}
	}
}

// watchEnd has idle workers look for the end of the run at once when another machine begins to merge it, which waits for
// them.
func (f *Member) watchEnd(ctx context.Context) {
	merges, err := f.conn.runs.Watch(ctx, f.manifest.mergeKey(), jetstream.UpdatesOnly())
	if err != nil {
		return // they look from time to time
	}
	defer func() { _ = merges.Stop() }() // nothing is left to read
	for {
		select {
		case <-ctx.Done():
			return
		case _, more := <-merges.Updates():
			if !more {
				return
			}
			f.mu.Lock()
			f.looked, f.pause = time.Time{}, 0
			f.change()
			f.mu.Unlock()
		}
	}
}

// show stores how this machine is.
func (f *Member) show(ctx context.Context) error {
	f.mu.Lock()
	value := marshal(f.self)
	f.mu.Unlock()
	_, err := f.conn.runs.Put(ctx, f.key, value)
	return err
}

// change wakes those who wait for something to begin. The caller holds the lock.
func (f *Member) change() {
	close(f.changed)
	f.changed = make(chan struct{})
}

// now returns the station's time.
func (f *Member) now() time.Time { return time.Now().Add(f.late) }

// Record returns a sink that stamps events with the machine and the station's time, passes them on, and stores those of
// claims.
func (f *Member) Record(sink run.Sink) run.Sink {
	return func(e run.Event) {
		e.Machine = f.self.Name
		sink(e)
		e.At = e.At.Add(f.late)
		f.mu.Lock()
		defer f.mu.Unlock()
		if e.Event == run.RunBegins || e.Event == run.RunEnds {
			return
		}
		number := e.Batch
		if number == 0 {
			number = f.within[e.ID] // as for what was skipped
		}
		c := f.byBatch[number]
		switch {
		case c != nil && (e.Outcome != run.Lost || e.Worker > 0): // else the run was interrupted
			c.writer.add(e)
			if e.Event == run.Finished && c.left[e.ID] {
				f.self.Tests++
			}
		case c == nil && f.within[e.ID] == 0 && e.Event == run.Finished:
			if f.extra == nil {
				f.extra = f.newWriter(0)
			}
			f.extra.add(e)
		}
	}
}
