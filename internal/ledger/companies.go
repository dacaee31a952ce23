package ledger

import (
	"database/sql"
	"errors"
	"fmt"

	"fernrelay/core/run"
)

// Company is what ran before a test on its worker in an earlier run, and the test's outcome.
type Company struct {
	Outcome run.Outcome
	Before  []string // IDs
}

// companyRuns bounds the runs that are searched for the company of a test.
const companyRuns = 200

// Companies returns the company of a test in at most n of the latest runs in which it ended, of its own batch only
// if ownBatch is set.
func (l *Ledger) Companies(id string, ownBatch bool, most int) (companies []Company, err error) {
	ids, err := l.names()
	if err != nil {
		return nil, err
	}
	var key int64
	if err := scan(l.db.QueryRow("SELECT key FROM tests WHERE id = ?", id), &key); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			err = nil
		}
		return nil, err
	}
	runs, err := l.list(l.db, "WHERE source = '' ORDER BY placed DESC, number DESC LIMIT ?", companyRuns)
	if err != nil {
		return nil, err
	}
	for _, k := range runs {
		if len(companies) == most {
			break
		}
		results, err := packedIn(l.db, k.Number)
		if err != nil {
			return nil, fmt.Errorf("run %d: %w", k.Number, err)
		}
		if c, ok := companyOf(results, key, ownBatch, ids); ok {
			companies = append(companies, c)
		}
	}
	return companies, nil
}

// companyOf returns the company of a test in a run; ok is false if the test did not run.
func companyOf(results []packed, key int64, ownBatch bool, ids map[int64]string) (c Company, ok bool) {
	ran := func(p *packed) bool {
		o := p.cell.Outcome()
		return p.worker > 0 && o != run.Skipped && o != run.Lost
	}
	for i := range results {
		own := &results[i]
		if own.key != key || !ran(own) {
			continue
		}
		c.Outcome = own.cell.Outcome()
		for j := range i {
			if p := &results[j]; ran(p) && p.worker == own.worker && (p.batch == own.batch || !ownBatch) {
				c.Before = append(c.Before, ids[p.key])
			}
		}
		return c, true
	}
	return c, false
}
