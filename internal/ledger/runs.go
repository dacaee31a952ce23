package ledger

import (
	"database/sql"
	"errors"
	"fmt"
	"maps"

	"fernrelay/core/run"
	"fernrelay/internal/ledger/packs"
)

// Runs counts the runs kept.
func (l *Ledger) Runs() (n int, err error) {
	err = scan(l.db.QueryRow("SELECT count(*) FROM runs"), &n)
	return n, err
}

// Last returns the latest run whole, or run.ErrNoRecord.
func (l *Ledger) Last() (*run.Record, *run.Run, error) {
	return l.whole("WHERE " + l.only + " ORDER BY placed DESC, number DESC LIMIT 1")
}

// Run returns a run by its number, or run.ErrNoRecord.
func (l *Ledger) Run(number int) (*run.Record, *run.Run, error) {
	return l.whole("WHERE number = ?", number)
}

// Before returns the run before another whole, or run.ErrNoRecord.
func (l *Ledger) Before(k *run.Record) (*run.Record, *run.Run, error) {
	return l.whole("WHERE "+l.only+" AND (placed, number) < (?, ?) ORDER BY placed DESC, number DESC LIMIT 1", k.Placed.UnixMilli(), k.Number)
}

func (l *Ledger) whole(clause string, args ...any) (*run.Record, *run.Run, error) {
	k, err := l.find(clause, args...)
	if err != nil {
		return nil, nil, err
	}
	run, err := l.Results(k)
	return k, run, err
}

// LastBad returns the latest run of ours in which a test was bad, or run.ErrNoRecord.
func (l *Ledger) LastBad(id string) (*run.Record, error) {
	return l.find("WHERE "+l.only+" AND source = '' AND number IN (SELECT run FROM bad WHERE test = (SELECT key FROM tests WHERE id = ?)) ORDER BY placed DESC, number DESC LIMIT 1", id)
}

// OneWorker returns the latest run of ours of a pick on one worker, or run.ErrNoRecord.
func (l *Ledger) OneWorker(pick string) (*run.Record, error) {
	return l.find("WHERE workers = 1 AND "+l.counted()+" AND source = '' AND pick = ? ORDER BY placed DESC, number DESC LIMIT 1", pick)
}

// List returns the runs, the oldest first.
func (l *Ledger) List() ([]*run.Record, error) {
	return l.list(l.db, "WHERE "+l.listed()+" ORDER BY placed, number")
}

// listed is the condition in SQL for the runs that lists have: also those of crossings, unless it has only some of these.
func (l *Ledger) listed() string {
	if l.only == plainRuns {
		return "true"
	}
	return l.only
}

// list returns the runs that a clause selects.
func (l *Ledger) list(from querier, clause string, args ...any) ([]*run.Record, error) {
	rows, err := from.Query(runColumns+clause, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []*run.Record
	for rows.Next() {
		k, err := scanRecord(rows)
		if err != nil {
			return nil, err
		}
		all = append(all, k)
	}
	return all, rows.Err()
}

// find returns the run that a clause selects.
func (l *Ledger) find(clause string, args ...any) (*run.Record, error) {
	k, err := scanRecord(l.db.QueryRow(runColumns+clause, args...))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, run.ErrNoRecord
	}
	return k, err
}

// Results returns the results of a run.
func (l *Ledger) Results(k *run.Record) (*run.Run, error) {
	s, err := l.stored(k.Number)
	if err != nil {
		return nil, err
	}
	of := make([]run.Result, len(s.results))
	for i := range of {
		of[i] = s.result(i)
	}
	r := run.Of(of)
	r.Started, r.Ended, r.Note, r.Places, r.Services = k.Began, k.Ended, k.Note, k.Places, k.Services
	return r, nil
}

// stored are the results of a run as they are in the ledger.
type stored struct {
	results []packs.Result
	ids     map[int64]string // by the key of a test
	outputs map[int64][]byte
}

// stored returns the results of a run.
func (l *Ledger) stored(number int) (s stored, err error) {
	if s.results, err = packedIn(l.db, number); err != nil {
		return s, fmt.Errorf("run %d: %w", number, err)
	}
	if s.outputs, err = l.outputs(number); err != nil {
		return s, err
	}
	s.ids, err = l.names()
	return s, err
}

// result returns the result at a place.
func (s *stored) result(at int) run.Result {
	p := &s.results[at]
	return p.Result(s.ids[p.Key], s.outputs[p.Key])
}

// each yields the results one after the other. A result is valid until the next.
func (s *stored) each(yield func(*run.Result) bool) {
	var res run.Result
	for i := range s.results {
		if res = s.result(i); !yield(&res) {
			return
		}
	}
}

// Steps returns the names of the steps that tests had when they ran last, by ID, as the latest runs say.
func (l *Ledger) Steps(runs int) (map[string][]string, error) {
	latest, err := l.list(l.db, "WHERE "+l.counted()+" ORDER BY placed DESC, number DESC LIMIT ?", runs)
	if err != nil {
		return nil, err
	}
	ids, err := l.names()
	if err != nil {
		return nil, err
	}
	steps := map[string][]string{}
	for _, k := range latest {
		results, err := packedIn(l.db, k.Number)
		if err != nil {
			return nil, fmt.Errorf("run %d: %w", k.Number, err)
		}
		for _, p := range results {
			id := ids[p.Key]
			if p.Details == nil || len(p.Details.Steps) == 0 || steps[id] != nil {
				continue
			}
			for _, s := range p.Details.Steps {
				steps[id] = append(steps[id], s.Name)
			}
		}
	}
	return steps, nil
}

func packedIn(from querier, number int) ([]packs.Result, error) {
	var brief, rest []byte
	if err := scan(from.QueryRow("SELECT brief, rest FROM packs WHERE run = ?", number), &brief, &rest); err != nil {
		return nil, err
	}
	return packs.Unpack(brief, rest)
}

// outputs returns the outputs that are kept of a run, by the keys of the tests.
func (l *Ledger) outputs(number int) (map[int64][]byte, error) {
	rows, err := l.db.Query("SELECT test, text FROM outputs WHERE run = ?", number)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	outputs := map[int64][]byte{}
	for rows.Next() {
		var test int64
		var text []byte
		if err := scan(rows, &test, &text); err != nil {
			return nil, err
		}
		if outputs[test], err = packs.Decompress(text); err != nil {
			return nil, fmt.Errorf("an output of run %d: %w", number, err)
		}
	}
	return outputs, rows.Err()
}

// names returns the IDs of all tests by key. The map must not be changed.
func (l *Ledger) names() (map[int64]string, error) {
	n := l.ids
	n.mu.Lock()
	defer n.mu.Unlock()
	rows, err := l.db.Query("SELECT key, id FROM tests WHERE key > ?", n.upTo)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	fresh := map[int64]string{}
	for rows.Next() {
		var key int64
		var id string
		if err := scan(rows, &key, &id); err != nil {
			return nil, err
		}
		fresh[key] = id
		n.upTo = max(n.upTo, key)
	}
	if len(fresh) > 0 { // others read the names without a lock
		maps.Copy(fresh, n.ids)
		n.ids = fresh
	}
	return n.ids, rows.Err()
}
