package schedule

import (
	"cmp"
	"slices"
	"sort"
)

// Progress is how far a run of a schedule has come. Times are in seconds from the same moment.
type Progress struct {
	Now     float64
	Begun   func(batch int) bool
	Ended   func(id string) bool // asked about awaited tests only
	At      []int                // by worker, from 0: the batch that it works on; -1 for none
	Left    []float64            // by worker: how long it still works on that
	Late    []float64            // by worker: when it can take its first batch, if that is after Now; nil for none
	Seconds func(batch int) float64
	Speed   func(worker int) float64 // nil if each has the speed 1

	Processors int // that the workers share; 0 if each has enough. Left and Seconds are as if they had
}

// Speed returns how fast workers are that took some seconds for what was expected to take others: 1 for as fast as expected,
// also if they have done too little to know. It is bounded, as expectations may be far off.
func Speed(expected, took float64) float64 {
	const enough, most = 1, 10 // seconds; times as fast or slow
	if took <= enough || expected <= 0 {
		return 1
	}
	return min(max(expected/took, 1.0/most), most)
}

// A Stretch is a batch in a forecast, on one worker.
type Stretch struct {
	Batch, Worker int // the worker from 0
	From, To      float64
}

// occasion is a moment of a forecast at which something changes.
type occasion struct {
	at     float64
	worker int // that becomes free, or whose test ends
	batch  int // that ends, or whose test ends; -1 for none
	test   int // that ends, by its index in the batch; -1 if the batch does
}

// Forecast plays the rest of a run: each worker takes the batches that the schedule's dispatcher chooses, as soon
// as there is one for it, and batches take as long as expected. It returns the stretches of batches that have not
// begun, in the order in which they begin.
func (s *Schedule) Forecast(p Progress) []Stretch {
	f := &forecast{Schedule: s, Progress: p, dispatcher: s.Dispatch(), stretches: make([]Stretch, 0, len(s.Batches)), on: make([]busyWorker, len(p.At))}
	f.replay()
	f.share(p.Now)
	for len(f.occasions) > 0 {
		o := f.occasions[len(f.occasions)-1]
		f.occasions = f.occasions[:len(f.occasions)-1]
		// As in a run, those who wait take before the worker that becomes free.
		if o.test >= 0 {
			f.dispatcher.End(f.Batches[o.batch].Tests[o.test].ID)
			f.assign(o.at)
			f.share(o.at)
			continue
		}
		if o.batch >= 0 {
			f.end(o)
			f.dispatcher.Release(o.batch)
			f.assign(o.at)
		}
		at, _ := slices.BinarySearch(f.idle, o.worker)
		f.idle = slices.Insert(f.idle, at, o.worker)
		f.assign(o.at)
		f.share(o.at)
	}
	return f.stretches
}

// Finish returns when a run of the whole schedule ends, in seconds from its first test, on a number of workers that share
// some processors.
func (s *Schedule) Finish(workers, processors int) float64 {
	return s.FinishOf(workers, Progress{Processors: processors,
		Seconds: func(batch int) float64 { return s.Batches[batch].Setup() + s.Batches[batch].Seconds() }})
}

// FinishOf returns when a run ends that has not begun, given what else is known of it.
func (s *Schedule) FinishOf(workers int, p Progress) float64 {
	p.At, p.Left = slices.Repeat([]int{-1}, workers), make([]float64, workers)
	p.Begun, p.Ended = func(int) bool { return false }, func(string) bool { return false }
	finish := 0.0
	for _, stretch := range s.Forecast(p) {
		finish = max(finish, stretch.To)
	}
	return finish
}

// assign has each waiting worker take its next batch, if one is free.
func (f *forecast) assign(now float64) {
	if len(f.idle) == 0 {
		return
	}
	f.idle = slices.DeleteFunc(f.idle, func(worker int) bool { return f.take(worker, now) })
}

type forecast struct {
	*Schedule
	Progress
	dispatcher *Dispatcher
	occasions  []occasion // the soonest last
	idle       []int      // workers that wait, ascending
	stretches  []Stretch
	on         []busyWorker // by worker
}

// busyWorker is what a worker runs in a forecast.
type busyWorker struct {
	batch   int     // from 1; 0 for none
	stretch int     // from 1; 0 for a batch that had begun
	pace    float64 // how many times as long it takes as alone
}

// begin notes that a worker runs a batch, for now as if it had a processor for itself.
func (f *forecast) begin(worker, batch, stretch int) {
	f.on[worker] = busyWorker{batch + 1, stretch, 1}
}

// end notes that a worker's batch has ended.
func (f *forecast) end(o occasion) {
	if s := f.on[o.worker].stretch; s > 0 {
		f.stretches[s-1].To = o.at
	}
	f.on[o.worker] = busyWorker{}
}

// share moves what is to come to when it comes if the workers that are busy now share the processors.
func (f *forecast) share(now float64) {
	if f.Processors == 0 {
		return
	}
	var workers []int
	var shares []float64
	for worker, on := range f.on {
		if on.batch > 0 {
			workers, shares = append(workers, worker), append(shares, f.shares[on.batch-1])
		}
	}
	changed := false
	ratios := map[int]float64{}
	for k, pace := range Paces(shares, f.Processors) {
		on := &f.on[workers[k]]
		ratios[workers[k]] = pace / on.pace
		changed = changed || pace != on.pace
		on.pace = pace
	}
	if !changed {
		return
	}
	for i := range f.occasions {
		if o := &f.occasions[i]; o.batch >= 0 {
			o.at = now + (o.at-now)*ratios[o.worker]
		}
	}
	slices.SortStableFunc(f.occasions, func(a, b occasion) int { return cmp.Compare(b.at, a.at) })
}

// replay brings the dispatcher to where the run is, and notes when each worker becomes free.
func (f *forecast) replay() {
	busy := map[int]bool{}
	for _, batch := range f.At {
		if batch >= 0 {
			busy[batch] = true
		}
	}
	for i := range f.Batches {
		if !f.Begun(i) {
			continue
		}
		f.dispatcher.Begin(i)
		if !busy[i] {
			f.dispatcher.Release(i)
		}
	}
	for id := range f.awaited {
		if f.Ended(id) {
			f.dispatcher.End(id)
		}
	}
	for worker, batch := range f.At {
		o := occasion{at: f.Now + f.Left[worker], worker: worker, batch: batch, test: -1}
		if f.Late != nil {
			o.at = max(o.at, f.Late[worker])
		}
		if batch >= 0 {
			f.begin(worker, batch, 0)
			if f.awaitedIn[batch] {
				f.endTests(batch, worker, o.at, o.at)
			}
		}
		f.add(o)
	}
}

// add adds an occasion after those of the same time.
func (f *forecast) add(o occasion) {
	at := sort.Search(len(f.occasions), func(i int) bool { return f.occasions[i].at <= o.at })
	f.occasions = slices.Insert(f.occasions, at, o)
}

// endTests adds the ends of the awaited tests of a batch whose tests run from one time to another.
func (f *forecast) endTests(batch, worker int, from, to float64) {
	b := &f.Batches[batch]
	at := from
	for i := range b.Tests {
		t := &b.Tests[i]
		at = min(to, at+t.Expected)
		if f.awaited[t.ID] && !f.Ended(t.ID) {
			f.add(occasion{at: at, worker: worker, batch: batch, test: i})
		}
	}
}

// take has a worker take its next batch, and reports whether there was one, or will never be one.
func (f *forecast) take(worker int, now float64) bool {
	batch, left := f.dispatcher.Next(worker + 1)
	if batch < 0 {
		return !left
	}
	seconds := f.Seconds(batch)
	if f.Speed != nil {
		seconds /= f.Speed(worker)
	}
	to := now + seconds
	f.stretches = append(f.stretches, Stretch{batch, worker, now, to})
	f.begin(worker, batch, len(f.stretches))
	if f.awaitedIn[batch] {
		f.endTests(batch, worker, now+f.Batches[batch].Setup(), to)
	}
	f.add(occasion{at: to, worker: worker, batch: batch, test: -1})
	return true
}

// FleetForecast is what a fleet run of some tests would take with the machines of an earlier one.
type FleetForecast struct {
	Run      int      // the earlier one, in the ledger
	Machines []string // that took part
	Workers  int      // of all of them
	Seconds  float64
}
