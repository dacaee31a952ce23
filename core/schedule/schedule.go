package schedule

import (
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
)

// A Batch is what a worker takes from a schedule at once: tests of one suite, in the order in which
// they run.
type Batch struct {
	Number int // in its schedule, from 1
	Suite  string
	Tests  []catalog.Test
	Worker int    // the only one that takes it, from 1; 0 for any
	Apart  string // batches with the same value never run side by side; empty for no limit
	Fresh  bool   // it begins in a fresh state of its worker
}

// Seconds is the expected time of the batch, without what it takes to begin.
func (b *Batch) Seconds() float64 {
	sum := 0.0
	for i := range b.Tests {
		sum += b.Tests[i].Expected
	}
	return sum
}

// Setup is the expected time that the batch takes to begin, in seconds.
func (b *Batch) Setup() float64 { return b.Tests[0].Setup }

// A Schedule is the batches of a run in the order in which they are taken, with what they hold and what they wait
// for. It does not change, so that the engine that runs it and forecasts of the run can share it:
//
//	s := schedule.New(tests, schedule.Options{Workers: 4})
//	dispatcher := s.Dispatch() // decides who takes what next
//	batch, left := dispatcher.Next(1)
type Schedule struct {
	Batches   []Batch
	Resources map[string]int // how many batches may hold each at once; 1 if it is not named

	holds     [][]string      // by batch
	waits     [][]string      // by batch: IDs of tests in other batches that must have ended
	awaited   map[string]bool // these IDs
	awaitedIn []bool          // by batch: it has one of these tests
	shares    []float64       // by batch: the share of a processor that it uses when it runs alone
}

// Of makes the schedule of some batches. None of them is empty.
func Of(batches []Batch, resources map[string]int) *Schedule {
	s := &Schedule{Batches: batches, Resources: resources, holds: make([][]string, len(batches)), waits: make([][]string, len(batches)), awaited: map[string]bool{}, awaitedIn: make([]bool, len(batches)), shares: make([]float64, len(batches))}
	in := map[string]int{}
	for i := range batches {
		batches[i].Number = i + 1
		for j := range batches[i].Tests {
			in[batches[i].Tests[j].ID] = i
		}
	}
	for i := range batches {
		b := &batches[i]
		s.shares[i] = shareOf(b.Tests)
		for j := range b.Tests {
			s.holds[i] = append(s.holds[i], holds(&b.Tests[j])...)
			for _, id := range order.Dependencies(&b.Tests[j]) {
				if other, here := in[id]; here && other != i {
					s.waits[i] = append(s.waits[i], id)
					s.awaited[id], s.awaitedIn[other] = true, true
				}
			}
		}
		slices.Sort(s.holds[i])
		s.holds[i] = slices.Compact(s.holds[i])
		if b.Apart != "" {
			s.holds[i] = append(s.holds[i], Exclusive(b.Apart))
		}
	}
	return s
}

// Holds returns the names of what a batch, from 0, holds while it runs. No more batches may hold a thing at once than
// Capacity says.
func (s *Schedule) Holds(batch int) []string { return s.holds[batch] }

// Waits returns the IDs of tests in other batches that must have ended before a batch, from 0, may run.
func (s *Schedule) Waits(batch int) []string { return s.waits[batch] }

// Capacity returns how many batches may hold a thing at once.
func (s *Schedule) Capacity(name string) int { return max(1, s.Resources[name]) }

// Exclusive returns the name of the resource that a batch holds so that no other with the same name runs side by side with it. No
// resource of a project has such a name.
func Exclusive(name string) string { return "\x00" + name }

// holds lists the resources that a test will hold, sorted.
func holds(t *catalog.Test) []string {
	if t.SkipReason != "" || len(t.Rules().Holds) == 0 {
		return nil
	}
	return slices.Compact(slices.Sorted(slices.Values(t.Rules().Holds)))
}

// A Dispatcher decides which batch of a schedule a worker takes next: the first that the worker may run, whose
// resources are free, and whose awaited tests have ended. Runs and forecasts both use it. It is not safe for use
// by several goroutines.
type Dispatcher struct {
	schedule *Schedule
	waiting  []int // batches that nobody has taken, in order
	held     map[string]int
	ended    map[string]bool // awaited tests that have ended
}

// Dispatch returns a dispatcher for a run of the schedule from its beginning.
func (s *Schedule) Dispatch() *Dispatcher {
	d := &Dispatcher{schedule: s, waiting: make([]int, len(s.Batches)), held: map[string]int{}, ended: map[string]bool{}}
	for i := range d.waiting {
		d.waiting[i] = i
	}
	return d
}

// Next takes the next batch for a worker, from 1. If none is free now, batch is -1, and left reports whether
// one will be later. The caller calls Release once the batch has ended.
func (d *Dispatcher) Next(worker int) (batch int, left bool) {
	for at, i := range d.waiting {
		b := &d.schedule.Batches[i]
		if b.Worker != 0 && b.Worker != worker {
			continue
		}
		left = true
		if d.free(i) {
			d.take(at)
			return i, true
		}
	}
	return -1, left
}

// Begin takes a batch that is known to have begun.
func (d *Dispatcher) Begin(batch int) {
	if at, waits := slices.BinarySearch(d.waiting, batch); waits {
		d.take(at)
	}
}

func (d *Dispatcher) take(at int) {
	i := d.waiting[at]
	if at == 0 {
		d.waiting = d.waiting[1:]
	} else {
		d.waiting = slices.Delete(d.waiting, at, at+1)
	}
	for _, resource := range d.schedule.holds[i] {
		d.held[resource]++
	}
}

// free reports whether a batch can begin now.
func (d *Dispatcher) free(batch int) bool {
	for _, resource := range d.schedule.holds[batch] {
		if d.held[resource] >= d.schedule.Capacity(resource) {
			return false
		}
	}
	for _, id := range d.schedule.waits[batch] {
		if !d.ended[id] {
			return false
		}
	}
	return true
}

// End records that a test has ended, and reports whether batches may wait for it.
func (d *Dispatcher) End(id string) (awaited bool) {
	awaited = d.schedule.awaited[id]
	if awaited {
		d.ended[id] = true
	}
	return awaited
}

// Release records that a batch has ended.
func (d *Dispatcher) Release(batch int) {
	for _, resource := range d.schedule.holds[batch] {
		d.held[resource]--
	}
}
