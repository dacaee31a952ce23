package hunting

import (
	"cmp"
	"errors"
	"maps"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
)

// pastRuns is the number of earlier runs that decide whom to suspect.
const pastRuns = 20

// The factors by which tests in the victim's file, and tests that were caught before, are suspected more than
// others.
const (
	sameFile = 3
	caught   = 10
)

// suspects finds the tests that can decide the outcome of victims.
type suspects struct {
	app      Hunting
	ledger   *ledger.Ledger
	from     *run.Run // the run of a report in which victims were bad; nil for those of the ledger
	runs     map[int]*run.Run
	known    []hunt.Saved
	seconds  map[string]float64 // how long each test takes
	parallel map[string]bool    // the tests that run side by side with others of their process
	process  map[string]string  // in which each test runs
}

func (a Hunting) suspects(from *run.Run) (*suspects, error) {
	s := &suspects{app: a, ledger: a.Ledger(), from: from, runs: map[int]*run.Run{}, seconds: make(map[string]float64, len(a.Catalog.Tests)), parallel: map[string]bool{}, process: map[string]string{}}
	for _, t := range a.Catalog.Tests {
		s.seconds[t.ID], s.parallel[t.ID], s.process[t.ID] = t.Expected, t.Parallel, s.processOf(&t)
	}
	var err error
	s.known, err = s.ledger.Hunts()
	return s, err
}

// task returns the task of hunting a victim: with what ran before it within reach when it was bad last, or in
// declared order if it never was; then everything that ran before it on its worker; then its group, and everything
// within reach, forwards and backwards; and what ran at the same time on other workers.
func (s *suspects) task(victim catalog.Test) (hunt.Task, error) {
	reach := s.reach(victim)
	task := hunt.Task{Victim: victim.ID, Seconds: s.seconds, Suspicion: s.favour(victim), Parallel: s.parallel, Process: s.process}
	at := slices.Index(reach, victim.ID)
	before, wider := reach[:at], []string(nil)
	r, err := s.lastBad(victim.ID)
	switch {
	case err == nil:
		for _, other := range r.Results {
			if other.ID != victim.ID && s.sideBySide(other, r.Result(victim.ID)) {
				task.Aside = append(task.Aside, other.ID)
			}
		}
		before, wider, task.Apart = s.around(r, victim, reach)
		task.Beside = slices.SortedFunc(maps.Keys(task.Apart), func(a, b string) int {
			return cmp.Or(cmp.Compare(task.Apart[a], task.Apart[b]), cmp.Compare(a, b))
		})
	case !errors.Is(err, run.ErrNoRecord):
		return task, err
	}
	ran := map[string]bool{victim.ID: true}
	for _, id := range before {
		ran[id] = true
	}
	var near, rest []string
	for _, id := range reach {
		if t, _ := s.app.Catalog.Lookup(id); t.Group == victim.Group && id != victim.ID {
			near = append(near, id)
		}
		if !ran[id] {
			rest = append(rest, id)
		}
	}
	all := slices.Concat(rest, before)
	backwards := slices.Clone(all)
	slices.Reverse(backwards)
	for _, order := range [][]string{before, wider, near, all, backwards} {
		if !slices.ContainsFunc(task.Orders, func(other []string) bool { return slices.Equal(other, order) }) {
			task.Orders = append(task.Orders, order)
		}
	}
	task.Past, err = s.past(victim)
	return task, err
}

// around returns what ran around a victim in a run: before it within reach, before it on its worker, and at the
// same time on others, with the seconds from the victim's start to theirs.
func (s *suspects) around(ran *run.Run, victim catalog.Test, reach []string) (before, wider []string, beside map[string]float64) {
	within := map[string]bool{}
	for _, id := range reach {
		within[id] = true
	}
	res := ran.Result(victim.ID)
	ended := func(r *run.Result) float64 { return r.Started.Sub(res.Started).Seconds() + r.Seconds }
	beside = map[string]float64{}
	earlier := true
	for _, other := range ran.Results {
		if other == res {
			earlier = false
			continue
		}
		t, known := s.app.Catalog.Lookup(other.ID)
		if !known || t.SkipReason != "" || other.Outcome == run.Skipped || other.Worker == 0 {
			continue
		}
		switch {
		case other.Worker != res.Worker:
			if from := other.Started.Sub(res.Started).Seconds(); ended(other) > 0 && from < res.Seconds {
				beside[t.ID] = from
			}
		case earlier, s.sideBySide(other, res):
			wider = append(wider, t.ID)
			if within[t.ID] && (s.scope(victim) == catalog.SuiteLevel || other.Batch == res.Batch) {
				before = append(before, t.ID)
			}
		}
	}
	return before, wider, beside
}

// sideBySide reports whether two tests ran at the same time in one process.
func (s *suspects) sideBySide(a, b *run.Result) bool {
	return s.parallel[a.ID] && s.parallel[b.ID] && a.Batch == b.Batch && a.Started.Before(b.Ended) && b.Started.Before(a.Ended)
}

// lastBad returns the latest run in which a test was bad, or run.ErrNoRecord: that of the report if there is one. Each run
// is read once for all victims.
func (s *suspects) lastBad(id string) (*run.Run, error) {
	if s.from != nil {
		if res := s.from.Result(id); res != nil && res.Outcome.Bad() {
			return s.from, nil
		}
	}
	record, err := s.ledger.LastBad(id)
	if err != nil {
		return nil, err
	}
	if s.runs[record.Number] == nil {
		if s.runs[record.Number], err = s.ledger.Results(record); err != nil {
			return nil, err
		}
	}
	return s.runs[record.Number], nil
}

// past returns what ran before a victim in earlier runs, and its outcomes.
func (s *suspects) past(victim catalog.Test) ([]hunt.Past, error) {
	companies, err := s.ledger.Companies([]string{victim.ID}, s.scope(victim) != catalog.SuiteLevel, pastRuns)
	return pastIn(companies[victim.ID]), err
}

// pastIn returns what ran before a test in earlier runs, and its outcomes, from its companies.
func pastIn(companies []ledger.Company) []hunt.Past {
	past := make([]hunt.Past, len(companies))
	for i, company := range companies {
		past[i] = hunt.Past{Bad: company.Outcome.Bad() || company.Outcome == run.Owed, Before: company.Before}
	}
	return past
}

// favour returns which tests are suspected beforehand.
func (s *suspects) favour(victim catalog.Test) map[string]float64 {
	favour := map[string]float64{}
	for _, t := range s.app.Catalog.Tests {
		if t.File != "" && t.File == victim.File {
			favour[t.ID] = sameFile
		}
	}
	for _, h := range s.known {
		if h.Known() {
			for _, id := range slices.Concat(h.Finding.Culprits...) {
				favour[id] = caught
			}
		}
	}
	return favour
}

// reach returns the tests whose state can reach the victim, itself included, in declared order.
func (s *suspects) reach(victim catalog.Test) []string {
	var reach []string
	for _, t := range s.app.Catalog.Tests {
		inReach := t.Suite == victim.Suite && t.SkipReason == "" && (t.Unmet == nil || victim.Unmet != nil) &&
			(s.scope(victim) == catalog.SuiteLevel || t.Group == victim.Group)
		if inReach || t.ID == victim.ID {
			reach = append(reach, t.ID)
		}
	}
	return reach
}

func (s *suspects) scope(t catalog.Test) catalog.Level { return s.app.Adapters[t.Suite].Scope() }

// processOf names the process that a test shares with others.
func (s *suspects) processOf(t *catalog.Test) string {
	switch s.scope(*t) {
	case catalog.SuiteLevel:
		return t.Suite
	case catalog.TestLevel:
		return t.ID
	}
	return t.GroupName()
}
