package run

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Part is a report that is merged with others: that of a shard or of a machine.
type Part struct {
	Name   string // of its file
	Run    *Run
	Broken bool // the report is not whole
}

// Merged is what the parts of one run say together.
type Merged struct {
	Run     *Run
	Twice   []Twice
	Of      int      // the number of shards of the plan; 0 if no part is a shard
	Planned *Planned // a shard of the plan that most parts are of, the first one if several are; nil if no part is a shard
	Missing []int    // shards that no part is
	Broken  []int    // shards whose report is not whole
	Stale   []int    // shards of which all reports are of other plans
	Unlike  []string // shards of other plans, in words
	Mixed   []string // parts of another source than the first one, in words
}

// Twice is a test that several parts report.
type Twice struct {
	ID    string
	Parts []string // their names
}

// Merge combines parts, and finds out whether all shards of their plan came back, were planned alike, and reported
// different tests.
func Merge(parts []Part) *Merged {
	m := &Merged{Run: New()}
	reported := map[string][]string{} // by ID: the names of the parts
	for _, p := range parts {
		m.Run.AddRun(p.Run)
		for _, r := range p.Run.Results {
			reported[r.ID] = append(reported[r.ID], p.Name)
		}
		m.Run.Services = append(m.Run.Services, p.Run.Services...)
		m.Run.AddNote(p.Run.Several())
		if !p.Run.Started.IsZero() && (m.Run.Started.IsZero() || p.Run.Started.Before(m.Run.Started)) {
			m.Run.Started = p.Run.Started
		}
		if p.Run.Ended.After(m.Run.Ended) {
			m.Run.Ended = p.Run.Ended
		}
	}
	for _, r := range m.Run.Results {
		if names := reported[r.ID]; len(names) > 1 {
			m.Twice = append(m.Twice, Twice{r.ID, names})
		}
	}
	m.compare(parts)
	m.compareSources(parts)
	return m
}

// LoseMissing notes as lost the tests of the plan that no part has, as their shards are missing, broken or stale.
func (m *Merged) LoseMissing(ids []string) {
	for _, id := range ids {
		m.Run.Apply(Event{Event: Finished, ID: id, Outcome: Lost, At: m.Run.Ended, Failure: Failure{Message: "the report of its shard is missing, broken or of another plan"}})
	}
}

// AddRun adds copies of the results of another run. Its batches get numbers after those of this run, so that tests of
// different processes do not seem to have run in one.
func (r *Run) AddRun(other *Run) {
	before := r.batches
	for _, res := range other.Results {
		own := *res
		if place := other.PlaceOf(res.Worker); res.Worker > 0 {
			own.Worker, own.Batch = r.WorkerOf(Event{Machine: place.Machine, Worker: place.Worker}), before+res.Batch
			r.batches = max(r.batches, own.Batch)
		}
		r.Add(&own)
	}
}

// Add adds a result to the run, or replaces one of the same test that counts less.
func (r *Run) Add(res *Result) {
	known := r.byID[res.ID]
	if known == nil {
		r.byID[res.ID] = res
		r.Results = append(r.Results, res)
		r.Counts[res.counted()]++
		r.Work += res.Alone()
		return
	}
	if res.Outcome.Worse(known.Outcome) {
		r.Counts[known.counted()]--
		r.Counts[res.counted()]++
		r.Work += res.Alone() - known.Alone()
		*known = *res
	}
}

// compareSources looks at the sources of the parts.
func (m *Merged) compareSources(parts []Part) {
	var first *Part
	for i := range parts {
		p := &parts[i]
		switch {
		case p.Run.Mixed != "":
			m.Mixed = append(m.Mixed, p.Run.Mixed)
		case p.Run.Source().Revision == "":
		case first == nil:
			first = p
		case p.Run.Source().Differs(first.Run.Source()):
			m.Mixed = append(m.Mixed, MixedWords(p.Name, p.Run.Source(), first.Name, first.Run.Source()))
		}
	}
	if first != nil && m.Mixed == nil {
		m.Run.Meta = &Meta{Pick: first.Run.Meta.Pick, Order: first.Run.Meta.Order, Source: first.Run.Source()}
	}
	m.Run.Mixed = strings.Join(m.Mixed, "; ")
}

// compare looks at the shards among the parts.
func (m *Merged) compare(parts []Part) {
	first := usualPlan(parts)
	if first == nil {
		return
	}
	m.Of, m.Planned = first.Run.Planned.Of, first.Run.Planned
	came, whole, stale := map[int]bool{}, map[int]bool{}, map[int]bool{}
	for i := range parts {
		p := parts[i].Run.Planned
		if p == nil {
			continue
		}
		if difference := p.difference(m.Planned); difference != "" {
			stale[p.Shard] = true
			m.Unlike = append(m.Unlike, fmt.Sprintf("%s is shard %d of %d, planned with %s, unlike %s", parts[i].Name, p.Shard, p.Of, difference, first.Name))
			continue
		}
		came[p.Shard], whole[p.Shard] = true, whole[p.Shard] || !parts[i].Broken
	}
	for k := 1; k <= m.Of; k++ {
		switch {
		case !came[k] && stale[k]:
			m.Stale = append(m.Stale, k)
		case !came[k]:
			m.Missing = append(m.Missing, k)
		case !whole[k]:
			m.Broken = append(m.Broken, k)
		}
	}
}

// usualPlan returns the first part of the plan that most parts are of, nil if none is a shard.
func usualPlan(parts []Part) (usual *Part) {
	alike := map[*Part]int{}
	var first []*Part // of each plan
	for i := range parts {
		if parts[i].Run.Planned == nil {
			continue
		}
		at := slices.IndexFunc(first, func(p *Part) bool { return parts[i].Run.Planned.difference(p.Run.Planned) == "" })
		if at < 0 {
			at, first = len(first), append(first, &parts[i])
		}
		alike[first[at]]++
	}
	for _, p := range first {
		if usual == nil || alike[p] > alike[usual] {
			usual = p
		}
	}
	return usual
}

// difference returns in what two shards were planned differently, "" if in nothing.
func (p *Planned) difference(other *Planned) string {
	var differences []string
	if p.Of != other.Of {
		differences = append(differences, "another number of shards")
	}
	if p.Catalog != other.Catalog {
		differences = append(differences, "other tests")
	}
	if differences == nil && p.Plan == other.Plan {
		return "" // whatever led to it: each test is in one shard
	}
	conditions := p.conditions(other)
	switch {
	case conditions != nil:
		differences = append(differences, conditions...)
	case p.Timings != other.Timings:
		differences = append(differences, "other times")
	case differences == nil:
		differences = append(differences, "other flags")
	}
	return strings.Join(differences, " and ")
}

// conditions returns the conditions that one of two shards meets and the other does not.
func (p *Planned) conditions(other *Planned) []string {
	var differing []string
	for _, condition := range slices.Sorted(maps.Keys(p.Conditions)) {
		met, known := other.Conditions[condition]
		switch {
		case !known || met == p.Conditions[condition]:
		case met:
			differing = append(differing, fmt.Sprintf("the condition %q not met, which is met there", condition))
		default:
			differing = append(differing, fmt.Sprintf("the condition %q met, which is not met there", condition))
		}
	}
	return differing
}

// Lacks reports whether tests of the plan may be in no report.
func (m *Merged) Lacks() bool { return len(m.Missing)+len(m.Broken)+len(m.Stale) > 0 }

// Whole reports whether all shards came back whole, and no other.
func (m *Merged) Whole() bool { return !m.Lacks() && len(m.Unlike) == 0 }

// Replay sends the events of a run again, test by test: its start, if it had one, its output, its steps and its
// outcome.
func (r *Run) Replay(sink Sink) {
	sink(Event{Event: RunBegins, Format: Format, At: r.Started, About: r.About})
	for _, res := range r.Results {
		at := func(kind Kind) Event {
			place := r.PlaceOf(res.Worker)
			return Event{Event: kind, At: res.Ended, ID: res.ID, Machine: place.Machine, Worker: place.Worker, Batch: res.Batch}
		}
		if res.Worker > 0 {
			e := at(Started)
			e.At = res.Started
			sink(e)
		}
		if len(res.Output) > 0 {
			e := at(Output)
			e.Text = string(res.Output)
			sink(e)
		}
		for _, step := range res.Steps {
			e := at(StepDone)
			e.Step, e.Outcome, e.Seconds = step.Name, step.Outcome, Took(step.Seconds)
			e.Failure = step.Failure
			sink(e)
		}
		e := at(Finished)
		e.Outcome, e.Seconds = cmp.Or(res.Outcome, Lost), Took(res.Seconds)
		e.Failure, e.Flaky, e.Entry = res.Failure, res.Flaky, res.Entry
		sink(e)
		if res.Finding != nil {
			e := at(Found)
			e.Finding = res.Finding
			sink(e)
		}
		if res.Slowed > 0 {
			e := at(Measured)
			e.Used = &Used{Slowed: res.Slowed, Share: res.Share}
			sink(e)
		}
	}
	sink(Event{Event: RunEnds, At: r.Ended, Counts: r.Counts})
}

// IncompleteError is the error of a whole report about an incomplete run, such as one of which a part could not be
// built.
type IncompleteError struct{ Err error }

func (i IncompleteError) Error() string { return i.Err.Error() }

// Lose gives the outcome lost to every test that began and did not end, as when a report breaks off.
func (r *Run) Lose(message string) {
	for _, res := range r.Results {
		if res.Outcome == "" {
			r.Apply(Event{Event: Finished, ID: res.ID, Outcome: Lost, Failure: Failure{Message: message}, At: res.Started})
		}
	}
}
