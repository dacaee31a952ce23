package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/engine"
)

const lost = run.Lost

// Machine describes a computer that takes part in a run.
type Machine struct {
	Name       string `json:"name"` // as the run knows it: a second machine of one name gets a number
	Workers    int    `json:"workers"`
	Processors int    `json:"processors"`
}

// Member is this computer as a machine of a run. It is the source of batches for an engine, and takes its events.
type Member struct {
	*plan
	conn     *Conn
	manifest *Manifest
	queues   []jetstream.Consumer // by lane
	late     time.Duration        // of the station's clock after this one's
	session  string               // names what this process sends beside batches
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
	looked  time.Time      // when the end was last looked for
	missed  time.Time      // since when batches are missing that nobody has; zero if none are
	pause   time.Duration  // until it is looked for again
	extra   *writer        // of what processes do beyond their tests
}

// plan is a schedule with what follows from it. It does not change.
type plan struct {
	schedule *split.Schedule
	lanes    *lanes
	shared   map[string]bool // resources of which the fleet has one
	waiters  map[int][]int   // by batch, from 1: batches that wait for tests of it
	within   map[string]int  // by ID: the test's batch, from 1
}

func newPlan(s *split.Schedule, shared []string) *plan {
	p := &plan{schedule: s, lanes: newLanes(s), shared: map[string]bool{}, waiters: map[int][]int{}, within: map[string]int{}}
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
}

// The states of a machine.
const (
	MachineRunning = "running"
	MachineLeft    = "left"
	MachineLost    = "lost"
)

// claim is a batch that this machine has taken.
type claim struct {
	msg     jetstream.Msg
	number  int           // of the batch, from 1
	claim   *engine.Claim // nil while it is parked
	writer  *writer
	left    map[string]bool // IDs of its tests without an outcome
	held    []string        // resources of this machine
	leases  []*lease        // resources of the fleet
	renewed time.Time       // when the station last confirmed it
	began   time.Time
	lane    int
}

func (c *Conn) newMember(ctx context.Context, m *Manifest, self Machine, p *plan) (*Member, error) {
	f := &Member{plan: p, conn: c, manifest: m, session: newName(), claims: map[*engine.Claim]*claim{}, byBatch: map[int]*claim{}, held: map[string]int{}, changed: make(chan struct{})}
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
	f.self = entry{Machine: self, State: MachineRunning, Joined: f.now()}
	if err := f.register(ctx); err != nil {
		return nil, err
	}
	beside, stop := context.WithCancel(context.Background())
	f.stop = stop
	f.beside.Go(func() { f.live(beside) })
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

// Manifest returns what the run is.
func (f *Member) Manifest() *Manifest { return f.manifest }

// Schedule returns the schedule of the whole run.
func (f *Member) Schedule() *split.Schedule { return f.schedule }

// Lease returns how long a claim holds.
func (f *Member) Lease() time.Duration { return f.manifest.lease() }

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
			beat, cancel := context.WithTimeout(ctx, f.Lease()/beats)
			_ = f.show(beat) // the next beat comes soon
			cancel()
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

// The longest that an idle worker waits for a batch before it looks at all lanes, and at the end, again.
const (
	pollOne  = 2 * time.Second // with one lane
	pollMany = 200 * time.Millisecond
)

// An idle machine looks for the end of the run at growing distances.
const (
	leastPause = 20 * time.Millisecond
	mostPause  = time.Second
)

// Next takes a batch. It returns io.EOF once all batches are done.
func (f *Member) Next(ctx context.Context, worker int) (*engine.Claim, error) {
	f.mu.Lock()
	f.idle++
	f.mu.Unlock()
	defer func() {
		f.mu.Lock()
		f.idle--
		back := f.parked
		if f.idle > 0 {
			back = nil // others wait for them
		} else {
			f.parked = nil
		}
		f.mu.Unlock()
		for _, c := range back {
			_ = c.msg.Nak() // else it comes back when its lease is over
		}
	}()
	for ctx.Err() == nil {
		f.mu.Lock()
		over, changed := f.over, f.changed
		f.mu.Unlock()
		if over {
			return nil, io.EOF
		}
		c, err := f.takeAny(ctx)
		if err != nil {
			return nil, err
		}
		if c != nil {
			return c.claim, nil
		}
		if f.ended(ctx) {
			continue
		}
		if c, err = f.await(ctx, changed); err != nil {
			return nil, err
		}
		if c != nil {
			return c.claim, nil
		}
	}
	return nil, ctx.Err()
}

// takeAny takes the first batch that can begin now: of those parked, then of each lane.
func (f *Member) takeAny(ctx context.Context) (*claim, error) {
	f.mu.Lock()
	parked := f.parked
	f.parked = nil
	f.mu.Unlock()
	blocked := map[int]bool{}
	var got *claim
	for _, c := range parked {
		if got != nil || blocked[c.lane] || f.renewParked(ctx, c) != nil {
			if got != nil || blocked[c.lane] {
				f.park(c)
			}
			continue
		}
		begun, err := f.begin(ctx, c)
		if err != nil {
			return nil, err
		}
		if begun {
			got = c
		} else {
			blocked[c.lane] = true
			f.park(c)
		}
	}
	for lane := len(f.queues) - 1; got == nil && lane >= 0; lane-- { // what holds something goes first, as it may have to wait
		for !blocked[lane] && got == nil && ctx.Err() == nil {
			msgs, err := f.queues[lane].FetchNoWait(1)
			if err != nil {
				f.pauseAfter(ctx, err)
				break
			}
			msg, more := <-msgs.Messages()
			if !more {
				break
			}
			c, err := f.received(ctx, msg, lane)
			if err != nil {
				return nil, err
			}
			switch {
			case c == nil:
			case c.claim != nil:
				got = c
			default:
				blocked[lane] = true
			}
		}
	}
	return got, nil
}

// await waits for a batch, or until something may have changed.
func (f *Member) await(ctx context.Context, changed <-chan struct{}) (*claim, error) {
	f.mu.Lock()
	wait := pollOne
	if len(f.queues) > 1 || len(f.parked) > 0 {
		wait = pollMany
	}
	if len(f.claims)+len(f.parked) == 0 {
		wait = min(wait, max(f.pause, leastPause))
	}
	wait = min(wait, f.Lease()/beats)
	blocked := false
	for _, c := range f.parked {
		blocked = blocked || c.lane == 0
	}
	f.mu.Unlock()
	waiting, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	go func() {
		select {
		case <-changed:
			cancel()
		case <-waiting.Done():
		}
	}()
	if blocked {
		<-waiting.Done()
		return nil, nil
	}
	msg, err := f.queues[0].Next(jetstream.FetchContext(waiting))
	if err != nil {
		if waiting.Err() == nil && !errors.Is(err, nats.ErrTimeout) && !errors.Is(err, jetstream.ErrNoMessages) {
			f.pauseAfter(ctx, err)
		}
		return nil, nil
	}
	return f.beginOnly(f.received(ctx, msg, 0))
}

// beginOnly returns a claim that has begun, and nil for one that is parked.
func (f *Member) beginOnly(c *claim, err error) (*claim, error) {
	if c != nil && c.claim == nil {
		c = nil
	}
	return c, err
}

// pauseAfter waits a moment after the station failed, until it answers again.
func (f *Member) pauseAfter(ctx context.Context, _ error) {
	select {
	case <-ctx.Done():
	case <-time.After(pollMany):
	}
}

// received takes a batch from a message. It returns nil if nothing of the batch is left to run, and a claim without an
// engine's claim if the batch is parked.
func (f *Member) received(ctx context.Context, msg jetstream.Msg, lane int) (*claim, error) {
	number, err := strconv.Atoi(msg.Subject()[strings.LastIndexByte(msg.Subject(), '.')+1:])
	if err != nil || number < 1 || number > len(f.schedule.Batches) {
		_ = msg.TermWithReason("this is no batch of the run")
		return nil, nil
	}
	c := &claim{msg: msg, number: number, lane: lane, renewed: time.Now(), left: map[string]bool{}}
	for i := range f.schedule.Batches[number-1].Tests {
		c.left[f.schedule.Batches[number-1].Tests[i].ID] = true
	}
	begun, err := f.begin(ctx, c)
	if err != nil || len(c.left) == 0 {
		return nil, err
	}
	if !begun {
		f.park(c)
	}
	return c, nil
}

// resume looks at what the station has of a batch that a machine had before. It reports whether something is left to run; if
// not, the claim is closed and has nothing left.
func (f *Member) resume(ctx context.Context, c *claim) (bool, error) {
	known, err := f.conn.stored(ctx, f.manifest, c.number, f.within)
	if err != nil {
		return false, err
	}
	for id := range known.outcomes {
		delete(c.left, id)
	}
	switch {
	case len(c.left) == 0:
		return false, f.close(ctx, c, known.done)
	case len(known.takers) >= mostTakes:
		err := f.giveUp(ctx, c, known.takers)
		clear(c.left)
		return false, err
	}
	return true, nil
}

func (f *Member) park(c *claim) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.parked = append(f.parked, c)
}

// mostTakes is how often a batch is taken before the tests that never end in it are lost.
const mostTakes = 3

// giveUp gives up the tests of a batch that no machine has brought to an end.
func (f *Member) giveUp(ctx context.Context, c *claim, takers []string) error {
	c.writer = f.newWriter(c.number)
	b := &f.schedule.Batches[c.number-1]
	for i := range b.Tests {
		t := &b.Tests[i]
		if !c.left[t.ID] {
			continue
		}
		why := fmt.Sprintf("%d machines took its batch and none came back with an outcome: %s", len(takers), strings.Join(takers, ", "))
		c.writer.add(run.Event{Event: run.Finished, At: f.now(), ID: t.ID, Outcome: lost, Seconds: run.Took(0), Failure: run.Failure{Message: why, File: t.File, Line: t.Line}})
	}
	return f.close(ctx, c, false)
}

// now returns the station's time.
func (f *Member) now() time.Time { return time.Now().Add(f.late) }

// begin begins a batch if what it holds is free.
func (f *Member) begin(ctx context.Context, c *claim) (begun bool, err error) {
	if !f.hold(c) {
		return false, nil
	}
	free, err := f.borrow(ctx, c)
	if err != nil || !free {
		f.release(c)
		if err != nil {
			f.pauseAfter(ctx, err) // it is tried again
		}
		return false, nil
	}
	known, err := f.needed(ctx, c)
	if err == nil {
		begun, err = f.claim(ctx, c)
	}
	if err != nil || !begun {
		f.giveBack(c)
		f.release(c)
		if err != nil {
			f.pauseAfter(ctx, err)
		}
		return false, nil
	}
	batch := f.schedule.Batches[c.number-1]
	batch.Tests = nil
	for _, t := range f.schedule.Batches[c.number-1].Tests {
		if c.left[t.ID] {
			batch.Tests = append(batch.Tests, t)
		}
	}
	c.claim, c.began = &engine.Claim{Batch: &batch, Known: known}, time.Now()
	f.mu.Lock()
	defer f.mu.Unlock()
	f.claims[c.claim], f.byBatch[c.number] = c, c
	return true, nil
}

// claim stores that this machine takes a batch. It reports false if another has brought it to an end.
func (f *Member) claim(ctx context.Context, c *claim) (bool, error) {
	w := f.newWriter(c.number)
	first, err := w.takeFirst(ctx)
	if err == nil && !first {
		var left bool
		if left, err = f.resume(ctx, c); err != nil || !left {
			return false, err
		}
		err = w.take(ctx)
	}
	if err != nil {
		return false, err
	}
	c.writer = w
	return true, nil
}

// needed returns the outcomes of tests of other batches that tests of this one need.
func (f *Member) needed(ctx context.Context, c *claim) (map[string]run.Outcome, error) {
	outcomes := map[string]run.Outcome{}
	for _, before := range f.before(c.number) {
		known, err := f.conn.stored(ctx, f.manifest, before, f.within)
		if err != nil {
			return nil, err
		}
		for id, o := range known.outcomes {
			outcomes[id] = o
		}
	}
	return outcomes, nil
}

// hold takes the resources of this machine that a batch holds, all or none.
func (f *Member) hold(c *claim) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	var held []string
	for _, name := range f.schedule.Holds(c.number - 1) {
		if f.shared[name] {
			continue
		}
		if f.held[name] >= f.schedule.Capacity(name) {
			return false
		}
		held = append(held, name)
	}
	for _, name := range held {
		f.held[name]++
	}
	c.held = held
	return true
}

// release returns the resources of this machine that a batch held.
func (f *Member) release(c *claim) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, name := range c.held {
		f.held[name]--
	}
	c.held = nil
	f.change()
}

// errTaken is why a claim is lost.
func (f *Member) errTaken(c *claim) error {
	return fmt.Errorf("batch %d was renewed %.0f s ago, and its lease is %s: another machine takes it", c.number, time.Since(c.renewed).Seconds(), f.Lease())
}

// Renew renews a claim. It is lost if the station has not confirmed it for the time of a lease.
func (f *Member) Renew(ctx context.Context, e *engine.Claim) error {
	f.mu.Lock()
	c := f.claims[e]
	f.mu.Unlock()
	if c == nil {
		return nil
	}
	if err := f.confirm(ctx, c); err != nil && time.Since(c.renewed) > f.Lease() {
		return f.errTaken(c)
	}
	for _, l := range c.leases {
		if err := l.renew(ctx); err != nil && time.Since(l.renewed) > f.Lease() {
			return fmt.Errorf("the lease of %s is over: the station did not confirm it", l.name)
		}
	}
	return nil
}

// confirm has the station confirm a claim.
func (f *Member) confirm(ctx context.Context, c *claim) error {
	if time.Since(c.renewed) > f.Lease() {
		return f.errTaken(c) // the station has offered it to others
	}
	asking, cancel := context.WithTimeout(ctx, f.Lease()/4)
	defer cancel()
	asked := time.Now()
	if _, err := f.conn.nc.RequestWithContext(asking, c.msg.Reply(), []byte("+WPI")); err != nil {
		return err
	}
	c.renewed = asked
	return nil
}

// renewParked renews a parked claim when it is time. An error means that it is lost.
func (f *Member) renewParked(ctx context.Context, c *claim) error {
	if time.Since(c.renewed) < f.Lease()/4 {
		return nil
	}
	return f.confirm(ctx, c)
}

// Ended does nothing: other batches wait for batches, not for tests.
func (f *Member) Ended(string) {}

// Untaken returns nothing: what this machine does not take, others do.
func (f *Member) Untaken() []*split.Batch { return nil }

// Done stores what is left of a claim's events. If all its tests have an outcome, the batch is done; if not, it returns to
// the queue.
func (f *Member) Done(ctx context.Context, e *engine.Claim) error {
	f.mu.Lock()
	c := f.claims[e]
	delete(f.claims, e)
	delete(f.byBatch, c.number)
	f.self.Busy += time.Since(c.began).Seconds()
	f.mu.Unlock()
	defer f.release(c)
	defer f.giveBack(c)
	return f.close(ctx, c, false)
}

// close stores what is left of a claim's events and ends it. marked says that the batch is known to be done.
func (f *Member) close(ctx context.Context, c *claim, marked bool) error {
	ctx, cancel := f.patient(ctx)
	defer cancel()
	f.mu.Lock()
	done := true
	for id := range c.left {
		done = done && c.writer != nil && c.writer.finished[id]
	}
	f.mu.Unlock()
	var err error
	switch {
	case c.writer != nil:
		err = c.writer.close(ctx, done)
	case !marked:
		c.writer = f.newWriter(c.number) // to say that it is done
		err = c.writer.close(ctx, done)
	}
	if err != nil {
		return fmt.Errorf("outcomes of batch %d did not reach the station: %w", c.number, err)
	}
	holds := time.Since(c.renewed) < f.Lease()
	if !done && holds {
		return c.msg.Nak()
	}
	if !done {
		return nil // another machine has it
	}
	if err := f.offerWaiting(ctx, c.number); err != nil {
		return fmt.Errorf("batches that wait for batch %d cannot be queued: %w", c.number, err)
	}
	_ = c.msg.Ack() // its outcomes are stored: if it comes again, whoever gets it finds them
	f.mu.Lock()
	defer f.mu.Unlock()
	f.pause = 0 // it may have been the last
	f.looked = time.Time{}
	f.change()
	return nil
}

// How long a machine tries to store the events of a batch: while the run goes on, and once it was interrupted.
const (
	patience   = 10 * time.Minute
	impatience = 5 * time.Second
)

// patient returns the context in which a machine stores the events of a batch.
func (f *Member) patient(ctx context.Context) (context.Context, context.CancelFunc) {
	patient, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(impatience, cancel) })
	return patient, func() { stop(); cancel() }
}

// offerWaiting queues the batches that waited for a batch, which is done, and for no other that is not.
func (f *Member) offerWaiting(ctx context.Context, number int) error {
	for _, waiter := range f.waiters[number] {
		ready := true
		for _, before := range f.before(waiter) {
			if before == number {
				continue
			}
			if _, err := f.conn.events.GetLastMsgForSubject(ctx, f.manifest.doneOf(before)); errors.Is(err, jetstream.ErrMsgNotFound) {
				ready = false
				break
			} else if err != nil {
				return err
			}
		}
		if !ready {
			continue
		}
		if _, err := f.conn.js.Publish(ctx, f.manifest.batch(f.lanes.of[waiter-1], waiter), nil, jetstream.WithMsgID(fmt.Sprint(f.manifest.Plan, "-", waiter))); err != nil {
			return err
		}
	}
	return nil
}

// ended looks, from time to time, whether the run has ended.
func (f *Member) ended(ctx context.Context) bool {
	f.mu.Lock()
	if over := f.over; over || time.Since(f.looked) < f.pause || len(f.claims)+len(f.parked) > 0 {
		f.mu.Unlock()
		return over
	}
	f.looked, f.pause = time.Now(), min(max(2*f.pause, leastPause), mostPause)
	f.mu.Unlock()
	for _, queue := range f.queues {
		info, err := queue.Info(ctx)
		if err == nil && info.NumPending+uint64(info.NumAckPending) > 0 {
			return false
		}
		if err != nil && !errors.Is(err, jetstream.ErrConsumerNotFound) {
			return false
		}
	}
	if !f.allDone(ctx) {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.over = true
	f.change()
	return true
}

// countDone counts the batches of a run that are done. Each has one message that says so.
func (c *Conn) countDone(ctx context.Context, m *Manifest) (int, error) {
	counter, err := c.events.CreateConsumer(ctx, jetstream.ConsumerConfig{FilterSubject: m.allDone(), AckPolicy: jetstream.AckNonePolicy, MemoryStorage: true, InactiveThreshold: time.Second})
	if err != nil {
		return 0, err
	}
	return int(counter.CachedInfo().NumPending), nil
}

// allDone reports whether all batches of the run are done, now that no queue has one. Should some be in no queue for the
// time of a lease, as after a loss at the station, it queues them again.
func (f *Member) allDone(ctx context.Context) bool {
	count, err := f.conn.countDone(ctx, f.manifest)
	if err != nil {
		return false
	}
	if count >= len(f.schedule.Batches) {
		return true
	}
	if gone, err := f.conn.Manifest(ctx, f.manifest.Run); errors.As(err, &Unknown{}) || err == nil && gone.Plan != f.manifest.Plan {
		return true // somebody removed the run
	}
	f.mu.Lock()
	if f.missed.IsZero() {
		f.missed = time.Now()
	}
	wait := time.Since(f.missed) < f.Lease()
	if !wait {
		f.missed = time.Time{}
	}
	f.mu.Unlock()
	if wait {
		return false
	}
	info, err := f.conn.events.Info(ctx, jetstream.WithSubjectFilter(f.manifest.allDone()))
	if err != nil {
		return false
	}
	done := info.State.Subjects
	isDone := func(batch int) bool { return done[f.manifest.doneOf(batch)] > 0 }
	for number := 1; number <= len(f.schedule.Batches); number++ {
		if !isDone(number) && !slices.ContainsFunc(f.before(number), func(before int) bool { return !isDone(before) }) {
			_, _ = f.conn.js.Publish(ctx, f.manifest.batch(f.lanes.of[number-1], number), nil) // else it is tried again
		}
	}
	return false
}

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
		case c != nil && e.Outcome != lost:
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

// batchOutcomes is what the station has of a batch.
type batchOutcomes struct {
	takers   []string // machines, in the order in which they took it
	outcomes map[string]run.Outcome
	done     bool
}

// stored reads what the station has of a batch.
func (c *Conn) stored(ctx context.Context, m *Manifest, batch int, within map[string]int) (*batchOutcomes, error) {
	known := &batchOutcomes{outcomes: map[string]run.Outcome{}}
	for sequence := uint64(1); ; {
		msg, err := c.events.GetMsg(ctx, sequence, jetstream.WithGetMsgSubject(m.allOf(batch)))
		if errors.Is(err, jetstream.ErrMsgNotFound) {
			return known, nil
		}
		if err != nil {
			return nil, err
		}
		sequence = msg.Sequence + 1
		var chunk chunk
		if json.Unmarshal(msg.Data, &chunk) != nil || chunk.Batch != batch {
			continue
		}
		if chunk.Seq == 0 && !chunk.Done {
			known.takers = append(known.takers, chunk.Machine)
		}
		known.done = known.done || chunk.Done
		for _, e := range chunk.Events {
			if e.Event == run.Finished && within[e.ID] == batch && known.outcomes[e.ID] == "" {
				known.outcomes[e.ID] = e.Sound().Outcome
			}
		}
	}
}
