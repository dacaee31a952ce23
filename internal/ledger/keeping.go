package ledger

import (
	"database/sql"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"time"

	"fernrelay/core/run"
)

// File is a report that runs were imported from.
type File struct {
	Digest string // SHA-256 of its content, in hexadecimal
	Name   string
}

// Imported reports whether a file with the same contents was imported before.
func (l *Ledger) Imported(digest string) (bool, error) {
	var known bool
	err := scan(l.db.QueryRow("SELECT EXISTS (SELECT * FROM imports WHERE digest = ?)", digest), &known)
	return known, err
}

// Imported counts what an import read.
type Imported struct {
	Files, Known int // Known counts files that were imported before, and left out
	Runs, Tests  int // Tests counts results
	Findings     int // of hunts
	Broken       []BrokenFile
	Notes        []string // what is odd about the imported runs
}

// BrokenFile is a file that was left out whole.
type BrokenFile struct {
	Name string
	Err  error
}

// Foreign is a run that others did, with the files that report it.
type Foreign struct {
	Record run.Record
	Run    *run.Run
	Files  []File
}

// An Importer adds runs that others did, some at a time.
type Importer struct {
	ledger *Ledger
	seed   maphash.Seed
	hashes map[uint64]struct{} // of the IDs of tests that are kept: those without their hash here are not
	upTo   int64               // the greatest key among them
	older  bool                // a test was in other runs: its latest moments may be wrong
}

// NewImporter begins an import. Close ends it.
func (l *Ledger) NewImporter() *Importer {
	return &Importer{ledger: l, seed: maphash.MakeSeed(), hashes: map[uint64]struct{}{}}
}

// Add adds runs from files that were not imported before, all or none. After an error there is only
// Close.
func (i *Importer) Add(runs []Foreign) error {
	tx, err := i.ledger.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	known := map[string]int64{} // keys by ID, of the tests of these runs
	for _, f := range runs {
		number, err := i.ledger.keep(tx, f.Record, f.Run, func(tx *sql.Tx, number int64, ran *run.Run) ([]int64, error) {
			return i.keepTests(tx, number, ran, known)
		})
		if err != nil {
			return err
		}
		for _, file := range f.Files {
			if _, err := tx.Exec("INSERT INTO imports (digest, name, run) VALUES (?, ?, ?)", file.Digest, file.Name, number); err != nil {
				return fmt.Errorf("%s: another process imports it, too: %w", file.Name, err)
			}
		}
	}
	return tx.Commit()
}

// Close ends the import: it corrects the latest moments of each test, because runs may have been older than those
// in the ledger.
func (i *Importer) Close() error {
	if !i.older {
		return nil
	}
	return i.ledger.arrange()
}

// keepTests keeps the tests of a run that are not kept yet, and returns the keys of all, which it adds to those that
// are known. Those that are kept stay as they are.
func (i *Importer) keepTests(tx *sql.Tx, number int64, run *run.Run, known map[string]int64) ([]int64, error) {
	greatest, err := greatestKey(tx)
	if err != nil {
		return nil, err
	}
	if err := i.catchUp(tx, greatest); err != nil {
		return nil, err
	}
	if err := i.find(tx, run, known); err != nil {
		return nil, err
	}
	keys := make([]int64, 0, len(run.Results))
	tests := &table{tx: tx, name: "tests (key, id, recent, last)", columns: 4}
	for _, r := range run.Results {
		if key := known[r.ID]; key > 0 {
			i.older = true
			keys = append(keys, key)
			continue
		}
		greatest++
		known[r.ID] = greatest
		keys = append(keys, greatest)
		i.hashes[maphash.String(i.seed, r.ID)] = struct{}{}
		if err := tests.add(greatest, r.ID, encode([]Moment{{r.Outcome, r.Alone(), r.Share}}), number); err != nil {
			return nil, err
		}
	}
	i.upTo = greatest
	return keys, tests.flush()
}

// catchUp takes in the tests that are kept up to a key.
func (i *Importer) catchUp(tx *sql.Tx, greatest int64) error {
	if greatest == i.upTo {
		return nil
	}
	rows, err := tx.Query("SELECT id FROM tests WHERE key > ?", i.upTo)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id string
		if err := scan(rows, &id); err != nil {
			return err
		}
		i.hashes[maphash.String(i.seed, id)] = struct{}{}
	}
	return rows.Err()
}

// find adds the keys of those tests of a run that are kept to those that are known.
func (i *Importer) find(tx *sql.Tx, ran *run.Run, known map[string]int64) error {
	var asked []*run.Result
	for _, r := range ran.Results {
		if _, kept := i.hashes[maphash.String(i.seed, r.ID)]; kept && known[r.ID] == 0 {
			asked = append(asked, r)
		}
	}
	for some := range slices.Chunk(asked, rowsAtOnce) {
		kept, err := readTests(tx, some)
		if err != nil {
			return err
		}
		for id, t := range kept {
			known[id] = t.key
		}
	}
	return nil
}

// arrangedAtOnce is how many tests are arranged at a time, because the moments of all would take much memory.
const arrangedAtOnce = 100_000

// arrange computes the latest moments of each test again, by the time of the runs.
func (l *Ledger) arrange() error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	runs, err := l.list(tx, "WHERE "+l.counted()+" ORDER BY placed DESC, number DESC")
	if err != nil {
		return err
	}
	greatest, err := greatestKey(tx)
	if err != nil {
		return err
	}
	for from := int64(0); from <= greatest; from += arrangedAtOnce {
		if err := arrangeSome(tx, runs, from, from+arrangedAtOnce); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// arrangeSome does so for the tests with keys from one on and below another.
//
// Each run is unpacked once for all of these tests. For each of them, the outcomes are collected from the latest run backwards until
// there are enough, and then reversed.
func arrangeSome(tx *sql.Tx, runs []*run.Record, from, below int64) error {
	recent := make([][]Moment, below-from) // the latest first
	last := make([]int64, below-from)
	for _, k := range runs {
		b, err := readBrief(tx, k)
		if err != nil {
			return err
		}
		for i, key := range b.Keys {
			if key < from || key >= below || len(recent[key-from]) == recentKept {
				continue
			}
			if recent[key-from] == nil {
				last[key-from] = int64(k.Number)
			}
			c := b.Cell(i)
			recent[key-from] = append(recent[key-from], Moment{c.Outcome(), float64(c.Seconds), b.Share(i)})
		}
	}
	changed := map[int64]string{}
	err := eachTest(tx, func(_ string, t keptTest) error {
		moments := recent[t.key-from]
		slices.Reverse(moments)
		if text := encode(moments); moments != nil && (text != t.recent || last[t.key-from] != t.last) {
			changed[t.key] = text
		}
		return nil
	}, " WHERE key >= ? AND key < ?", from, below)
	if err != nil {
		return err
	}
	write, err := tx.Prepare("UPDATE tests SET recent = ?, last = ? WHERE key = ?")
	if err != nil {
		return err
	}
	defer write.Close()
	for _, key := range slices.Sorted(maps.Keys(changed)) {
		if _, err := write.Exec(changed[key], last[key-from], key); err != nil {
			return err
		}
	}
	return nil
}

// Forget removes all runs but the latest n and those that began within a number of days, 0 for no bound, and the
// tests that no run has any more. It returns the number of removed runs.
func (l *Ledger) Forget(runs, days int, now time.Time) (n int, err error) {
	if runs == 0 && days == 0 {
		return 0, nil
	}
	tx, err := l.db.Begin()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	gone := "SELECT number FROM runs WHERE placed < ?1 OR (?2 > 0 AND number NOT IN (SELECT number FROM runs ORDER BY placed DESC, number DESC LIMIT ?2))"
	var since int64
	if days > 0 {
		since = now.AddDate(0, 0, -days).UnixMilli()
	}
	for _, table := range []string{"packs", "outputs", "bad", "imports"} {
		if _, err := tx.Exec("DELETE FROM "+table+" WHERE run IN ("+gone+")", since, runs); err != nil {
			return 0, err
		}
	}
	removed, err := tx.Exec("DELETE FROM runs WHERE number IN ("+gone+")", since, runs)
	if err != nil {
		return 0, err
	}
	went, err := removed.RowsAffected()
	if err != nil || went == 0 {
		return 0, err
	}
	// The greatest key stays, so that none is ever given again.
	if _, err := tx.Exec("DELETE FROM tests WHERE last NOT IN (SELECT number FROM runs) AND key < (SELECT max(key) FROM tests)"); err != nil {
		return 0, err
	}
	l.ids.forget()
	return int(went), tx.Commit()
}

// Compact returns the room of what was removed to the system.
func (l *Ledger) Compact() error {
	_, err := l.db.Exec("VACUUM; PRAGMA wal_checkpoint(TRUNCATE)")
	return err
}

// Size is what a ledger holds and how large it is.
type Size struct {
	Runs, Imported int
	Tests          int
	Bytes          int64
	First, Last    time.Time // when the earliest and the latest run began
}

// Size returns how large the ledger is.
func (l *Ledger) Size() (s Size, err error) {
	var first, last sql.NullInt64
	err = scan(l.db.QueryRow(`SELECT count(*), count(CASE WHEN source <> '' THEN 1 END), min(began), max(began), (SELECT count(*) FROM tests),
		(SELECT page_count FROM pragma_page_count) * (SELECT page_size FROM pragma_page_size) FROM runs`), &s.Runs, &s.Imported, &first, &last, &s.Tests, &s.Bytes)
	s.First, s.Last = time.UnixMilli(first.Int64), time.UnixMilli(last.Int64)
	return s, err
}
