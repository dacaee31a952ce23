package fleet

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
)

// Double is a test with two results: of two machines, because the claim of the first one was over, or of one whose process
// reported both.
type Double struct {
	ID               string      `json:"id"`
	Counts, Other    run.Outcome // the worst counts
	Machine, OtherOn string
}

// String says what happened.
func (d Double) String() string {
	switch {
	case d.Machine == d.OtherOn:
		return fmt.Sprintf("%s has several results on %s, of which the worst counts: %s and %s", d.ID, d.Machine, d.Counts, d.Other)
	case d.Counts == d.Other:
		return fmt.Sprintf("%s ran twice, on %s and on %s, and is %s on both", d.ID, d.Machine, d.OtherOn, d.Counts)
	}
	return fmt.Sprintf("%s ran twice: it is %s on %s, which counts as the worst, and %s on %s", d.ID, d.Counts, d.Machine, d.Other, d.OtherOn)
}

// fold makes the events of a run of the chunks that machines send. It trusts none of them: an event counts if its machine joined
// the run and its claim took the batch of its test, as the station has it, and of several outcomes of a test the worst counts.
//
// A claim that is over, as its machine was slow, may still send chunks while another machine runs the batch again: then both count,
// and a test that both ran is a [Double].
type fold struct {
	schedule *schedule.Schedule
	within   map[string]int            // by ID: the test's batch, from 1
	groups   []map[string]bool         // by batch, from 0: the groups of its tests
	bare     []string                  // groups without tests
	joined   func(machine string) bool // whether a machine is one of the run
	claims   map[string]*foldedClaim
	came     map[string]cameFrom // by ID
	done     map[int]bool        // by batch
	doubles  []Double
	extras   int
	sink     run.Sink
}

type cameFrom struct {
	machine, claim string
	outcome        run.Outcome
}

// foldedClaim is a claim as the fold has seen it.
type foldedClaim struct {
	machine string
	workers int
	batch   int
	seq     int                 // of the next chunk
	pending map[string]*run.Run // by ID: what a test printed and its steps, until it ends
}

// The limits of what machines may send: entries beyond tests, machines and workers.
const (
	mostExtras  = 1000
	mostWorkers = 10_000
	mostSkew    = 10 * time.Minute
)

func newFold(s *schedule.Schedule, bare []string, joined func(machine string) bool, sink run.Sink) *fold {
	f := &fold{bare: bare, joined: joined, schedule: s, within: map[string]int{}, claims: map[string]*foldedClaim{}, came: map[string]cameFrom{}, done: map[int]bool{}, sink: run.LimitSteps(sink)}
	for i := range s.Batches {
		groups := map[string]bool{}
		for j := range s.Batches[i].Tests {
			t := &s.Batches[i].Tests[j]
			f.within[t.ID] = i + 1
			groups[t.GroupName()] = true
		}
		f.groups = append(f.groups, groups)
	}
	return f
}

// add adds a chunk that the station stored at a time.
func (f *fold) add(c chunk, at time.Time) {
	if c.Batch < 0 || c.Batch > len(f.groups) || c.Claim == "" || c.Machine == "" || c.Workers < 1 || c.Workers > mostWorkers || len(c.Machine) > 256 {
		return
	}
	claim := f.claims[c.Claim]
	if claim == nil {
		if c.Seq != 0 || c.Batch > 0 && len(c.Events) > 0 || !f.joined(c.Machine) {
			return // a machine joins, and takes a batch, before it reports anything
		}
		claim = &foldedClaim{machine: c.Machine, workers: c.Workers, batch: c.Batch, pending: map[string]*run.Run{}}
		f.claims[c.Claim] = claim
	}
	if claim.machine != c.Machine || claim.batch != c.Batch || c.Seq != claim.seq {
		return
	}
	claim.seq++
	for _, e := range c.Events {
		e = e.Sound()
		e.Machine, e.Batch = claim.machine, claim.batch
		if e.Worker > claim.workers {
			continue
		}
		if d := e.At.Sub(at); d > mostSkew || d < -mostSkew {
			e.At = at
		}
		f.event(claim, c.Claim, e)
	}
	if c.Done && c.Batch > 0 {
		f.done[c.Batch] = true
	}
}

// event takes one event of a claim.
func (f *fold) event(claim *foldedClaim, name string, e run.Event) {
	batch := f.within[e.ID]
	if batch == 0 && e.Event == run.Finished {
		f.extra(claim, e)
		return
	}
	if e.Event == run.Measured && e.ID == "" {
		f.sink(e)
		return
	}
	if batch == 0 || batch != claim.batch {
		return // a machine reports a test that it does not hold
	}
	first, ended := f.came[e.ID]
	switch e.Event {
	case run.Started:
		delete(claim.pending, e.ID)
		if !ended {
			f.sink(e)
		}
	case run.Output, run.StepDone:
		if claim.pending[e.ID] == nil {
			claim.pending[e.ID] = run.New()
		}
		claim.pending[e.ID].Apply(e)
	case run.Measured:
		if first.claim == name {
			f.sink(e)
		}
	case run.Finished:
		before := claim.pending[e.ID]
		delete(claim.pending, e.ID)
		worse := e.Outcome.Worse(first.outcome)
		if ended && !f.isDouble(e.ID, claim.machine) {
			d := Double{e.ID, first.outcome, e.Outcome, first.machine, claim.machine}
			if worse {
				d = Double{e.ID, e.Outcome, first.outcome, claim.machine, first.machine}
			}
			f.doubles = append(f.doubles, d)
		}
		if ended && !worse {
			return
		}
		if ended {
			e.Again = first.outcome
		}
		f.came[e.ID] = cameFrom{machine: claim.machine, claim: name, outcome: e.Outcome}
		f.forward(before, e)
	}
}

func (f *fold) isDouble(id, machine string) bool {
	return slices.ContainsFunc(f.doubles, func(d Double) bool { return d.ID == id && (d.OtherOn == machine || d.Machine == machine) })
}

// forward passes on what a test did, and its outcome.
func (f *fold) forward(before *run.Run, e run.Event) {
	if before != nil {
		r := before.Result(e.ID)
		own := run.Event{At: e.At, Machine: e.Machine, Worker: e.Worker, Batch: e.Batch, ID: e.ID}
		if len(r.Output) > 0 {
			own.Event, own.Text = run.Output, string(r.Output)
			f.sink(own)
		}
		for _, s := range r.Steps {
			step := own
			step.Event, step.Text, step.Step, step.Outcome, step.Seconds, step.Failure = run.StepDone, "", s.Name, s.Outcome, run.Took(s.Seconds), s.Failure
			f.sink(step)
		}
	}
	f.sink(e)
}

// extra takes an entry of what a process did beyond its tests: it names a group of the claim's batch, or any of the run
// if the machine sends it beside its batches.
func (f *fold) extra(claim *foldedClaim, e run.Event) {
	suite, group, _ := catalog.Parts(e.ID)
	place := suite + ":" + group
	known := claim.batch > 0 && f.groups[claim.batch-1][place] || claim.batch == 0 && slices.Contains(f.bare, place)
	for i := 0; claim.batch == 0 && !known && i < len(f.groups); i++ {
		known = f.groups[i][place]
	}
	if _, ended := f.came[e.ID]; !known || !e.Outcome.Bad() || f.extras >= mostExtras {
		return
	} else if ended && strings.HasSuffix(e.ID, "#"+run.BuildEntry) {
		return // every machine builds
	} else if ended && !strings.HasSuffix(e.ID, "@"+claim.machine) { // two machines may have one each
		e.ID += "@" + claim.machine
	}
	f.extras++
	e.Entry = true
	f.came[e.ID] = cameFrom{machine: claim.machine, outcome: e.Outcome}
	f.sink(e)
}

// missing lists the batches, from 1, that are not done.
func (f *fold) missing() []int {
	var missing []int
	for i := range f.groups {
		if !f.done[i+1] {
			missing = append(missing, i+1)
		}
	}
	return missing
}

// lose notes as lost each planned test without an outcome.
func (f *fold) lose(r *run.Run, why string, at time.Time) {
	for i := range f.schedule.Batches {
		for j := range f.schedule.Batches[i].Tests {
			t := &f.schedule.Batches[i].Tests[j]
			if _, ended := f.came[t.ID]; !ended {
				r.Apply(run.Event{Event: run.Finished, ID: t.ID, Outcome: run.Lost, At: at, Seconds: run.Took(0), Failure: run.Failure{Message: why, File: t.File, Line: t.Line}})
			}
		}
	}
}

// noteDoubles notes the doubles on a run.
func (f *fold) noteDoubles(r *run.Run) {
	for _, d := range f.doubles {
		r.AddNote(d.String())
	}
}
