package ledger

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"fernrelay/core/run"
)

// RunRecord is what the ledger keeps of a run, without its results.
type RunRecord struct {
	Number   int    `json:"run"` // from 1
	Pick     string `json:"pick"`
	Workers  int    `json:"workers"`
	Order    string `json:"order,omitempty"` // the rule, as run --order takes it
	Revision string `json:"revision,omitempty"`
	Dirty    bool   `json:"dirty,omitempty"` // the tree was not as the revision says
	Machine  string `json:"machine,omitempty"`
	Source   string `json:"source,omitempty"` // the file that it was imported from, empty for a run of ours
	Note     string `json:"note,omitempty"`   // what went wrong beside the tests

	Began  time.Time           `json:"began"`
	placed time.Time           // by which runs are ordered: when it began, unless that is in the future
	Ended  time.Time           `json:"ended"` // as Began where it is not known
	Counts map[run.Outcome]int `json:"counts"`
	Work   float64             `json:"work_s"` // of all tests

	Journal string `json:"-"` // its name, so that it is not kept twice; empty for none
}

// Wall is how many seconds the run took, 0 where that is not known.
func (k *RunRecord) Wall() float64 { return k.Ended.Sub(k.Began).Seconds() }

// Tests counts the tests of the run.
func (k *RunRecord) Tests() int {
	n := 0
	for _, count := range k.Counts {
		n += count
	}
	return n
}

// Runs counts the runs kept.
func (l *Ledger) Runs() (n int, err error) {
	err = scan(l.db.QueryRow("SELECT count(*) FROM runs"), &n)
	return n, err
}

// ErrNoRun says that the ledger does not hold the run asked for.
var ErrNoRun = errors.New("there is no such run in the ledger")

// Last gives the latest run whole; ErrNoRun where there is none yet.
func (l *Ledger) Last() (*RunRecord, *run.Run, error) {
	return l.whole("ORDER BY placed DESC, number DESC LIMIT 1")
}

// Run gives a run by its number; ErrNoRun where there is none.
func (l *Ledger) Run(number int) (*RunRecord, *run.Run, error) {
	return l.whole("WHERE number = ?", number)
}

// Before gives the run before another whole; ErrNoRun where there is none.
func (l *Ledger) Before(k *RunRecord) (*RunRecord, *run.Run, error) {
	return l.whole("WHERE (placed, number) < (?, ?) ORDER BY placed DESC, number DESC LIMIT 1", k.placed.UnixMilli(), k.Number)
}

func (l *Ledger) whole(clause string, args ...any) (*RunRecord, *run.Run, error) {
	k, err := l.find(clause, args...)
	if err != nil {
		return nil, nil, err
	}
	run, err := l.Results(k)
	return k, run, err
}

// LastBad finds the latest run of ours in which a test was bad; ErrNoRun where it never was.
func (l *Ledger) LastBad(id string) (*RunRecord, error) {
	return l.find("WHERE source = '' AND number IN (SELECT run FROM bad WHERE test = (SELECT key FROM tests WHERE id = ?)) ORDER BY placed DESC, number DESC LIMIT 1", id)
}

// List gives all runs, the oldest first.
func (l *Ledger) List() ([]*RunRecord, error) { return l.list(l.db, "ORDER BY placed, number") }

const runColumns = "SELECT number, pick, workers, ordering, revision, dirty, machine, source, note, began, placed, ended, counts, work FROM runs "

// list gives the runs that a clause picks.
func (l *Ledger) list(from querier, clause string, args ...any) ([]*RunRecord, error) {
	rows, err := from.Query(runColumns+clause, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []*RunRecord
	for rows.Next() {
		k, err := scanKept(rows)
		if err != nil {
			return nil, err
		}
		all = append(all, k)
	}
	return all, rows.Err()
}

// find gives the run that a clause picks.
func (l *Ledger) find(clause string, args ...any) (*RunRecord, error) {
	k, err := scanKept(l.db.QueryRow(runColumns+clause, args...))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNoRun
	}
	return k, err
}

func scanKept(row scanner) (*RunRecord, error) {
	k := &RunRecord{}
	var began, placed, ended int64
	var counts string
	if err := scan(row, &k.Number, &k.Pick, &k.Workers, &k.Order, &k.Revision, &k.Dirty, &k.Machine, &k.Source, &k.Note, &began, &placed, &ended, &counts, &k.Work); err != nil {
		return nil, err
	}
	k.Began, k.placed, k.Ended = time.UnixMilli(began), time.UnixMilli(placed), time.UnixMilli(ended)
	return k, unreadable(json.Unmarshal([]byte(counts), &k.Counts))
}

// Results folds what is kept of a run by telling its events again.
func (l *Ledger) Results(k *RunRecord) (*run.Run, error) {
	results, err := l.packed(k.Number)
	if err != nil {
		return nil, fmt.Errorf("run %d: %w", k.Number, err)
	}
	outputs, err := l.outputs(k.Number)
	if err != nil {
		return nil, err
	}
	ids, err := l.names()
	if err != nil {
		return nil, err
	}
	r := run.New()
	r.Apply(run.Event{Event: run.RunBegins, At: k.Began})
	for i := range results {
		results[i].tell(ids[results[i].key], outputs[results[i].key], r.Apply)
	}
	r.Apply(run.Event{Event: run.RunEnds, At: k.Ended, Failure: run.Failure{Message: k.Note}})
	return r, nil
}

func (l *Ledger) packed(number int) ([]packed, error) {
	var brief, rest []byte
	if err := scan(l.db.QueryRow("SELECT brief, rest FROM packs WHERE run = ?", number), &brief, &rest); err != nil {
		return nil, err
	}
	return unpack(brief, rest)
}

// outputs gives the outputs that are kept of a run, by the keys of the tests.
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
		if outputs[test], err = decompress(text); err != nil {
			return nil, fmt.Errorf("an output of run %d: %w", number, err)
		}
	}
	return outputs, rows.Err()
}

// names gives the IDs of all tests by key. It is not to be changed.
func (l *Ledger) names() (map[int64]string, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	rows, err := l.db.Query("SELECT key, id FROM tests WHERE key > ?", l.upTo)
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
		l.upTo = max(l.upTo, key)
	}
	if len(fresh) > 0 { // those who have the names read them without a lock
		for key, id := range l.ids {
			fresh[key] = id
		}
		l.ids = fresh
	}
	return l.ids, rows.Err()
}
