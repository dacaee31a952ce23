package ledger

import (
	"fmt"
	"slices"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/ledger/packs"
)

// Company is what ran before a test on its worker in an earlier run, and the test's outcome.
type Company struct {
	Began   time.Time // the run
	Outcome run.Outcome
	Before  []string // IDs
}

// companyRuns bounds the runs that are searched for the company of tests.
const companyRuns = 200

// Companies returns the company of each of some tests in at most n of the latest runs in which it ended, the latest first;
// of its own batch only if ownBatch is set.
func (l *Ledger) Companies(tests []string, ownBatch bool, most int) (companies map[string][]Company, err error) {
	ids, err := l.names()
	if err != nil {
		return nil, err
	}
	open := map[int64]string{} // by key: the tests of which more runs are looked for
	for key, id := range ids {
		if slices.Contains(tests, id) {
			open[key] = id
		}
	}
	runs, err := l.list(l.db, "WHERE source = '' ORDER BY placed DESC, number DESC LIMIT ?", companyRuns)
	if err != nil {
		return nil, err
	}
	companies = map[string][]Company{}
	for _, k := range runs {
		if len(open) == 0 {
			break
		}
		results, err := packedIn(l.db, k.Number)
		if err != nil {
			return nil, fmt.Errorf("run %d: %w", k.Number, err)
		}
		for key, id := range open {
			c, ok := companyOf(results, key, ownBatch, ids)
			if !ok {
				continue
			}
			c.Began = k.Began
			if companies[id] = append(companies[id], c); len(companies[id]) == most {
				delete(open, key)
			}
		}
	}
	return companies, nil
}

// companyOf returns the company of a test in a run; ok is false if the test did not run.
func companyOf(results []packs.Result, key int64, ownBatch bool, ids map[int64]string) (c Company, ok bool) {
	ran := func(p *packs.Result) bool {
		o := p.Cell.Outcome()
		return p.Worker > 0 && o != run.Skipped && o != run.Lost
	}
	for i := range results {
		own := &results[i]
		if own.Key != key || !ran(own) {
			continue
		}
		c.Outcome = own.Cell.Outcome()
		for j := range i {
			if p := &results[j]; ran(p) && p.Worker == own.Worker && (p.Batch == own.Batch || !ownBatch) {
				c.Before = append(c.Before, ids[p.Key])
			}
		}
		return c, true
	}
	return c, false
}
