package ledger

import (
	"database/sql"
	"fmt"
	"maps"
	"slices"
	"time"

	"fernrelay/core/outcome"
)

// File is a report that runs were imported from.
type File struct {
	Digest string // SHA-256 of what stands in it, in hexadecimal
	Name   string
}

// Imported reports whether a file with the same contents was imported before.
func (l *Ledger) Imported(digest string) (bool, error) {
	var known bool
	err := l.db.QueryRow("SELECT EXISTS (SELECT * FROM imports WHERE digest = ?)", digest).Scan(&known)
	return known, err
}

// Foreign is a run that others did, with the files that tell of it.
type Foreign struct {
	Kept  Kept
	Run   *outcome.Run
	Files []File
}

// Import adds runs from files that were not imported before, all or none. What is known of each
// test lately is put right by Arrange, once all are in.
func (l *Ledger) Import(runs []Foreign) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	known := foreignKeys{}
	for _, f := range runs {
		number, err := l.keep(tx, f.Kept, f.Run, known.keep)
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

// foreignKeys are the keys of tests by ID, as far as runs that are imported together need them.
type foreignKeys map[string]int64

// keep keeps the tests of a run that are not known yet. Those that are stay as they are, as the
// run may be older than what is known of them.
func (known foreignKeys) keep(tx *sql.Tx, number int64, run *outcome.Run) (map[string]int64, error) {
	fresh := slices.DeleteFunc(slices.Clone(run.Results), func(r *outcome.Result) bool { return known[r.ID] > 0 })
	for some := range slices.Chunk(fresh, rowsAtOnce) {
		kept, err := readTests(tx, some)
		if err != nil {
			return nil, err
		}
		for id, t := range kept {
			known[id] = t.key
		}
	}
	greatest, err := greatestKey(tx)
	if err != nil {
		return nil, err
	}
	tests := &table{tx: tx, name: "tests (key, id, recent, last)", columns: 4}
	for _, r := range fresh {
		if known[r.ID] > 0 {
			continue
		}
		greatest++
		known[r.ID] = greatest
		if err := tests.add(greatest, r.ID, encode([]Moment{{r.Outcome, r.Seconds}}), number); err != nil {
			return nil, err
		}
	}
	return known, tests.flush()
}

// arrangedAtOnce is how many tests are arranged at a time, as what is known of all would be much
// to hold.
const arrangedAtOnce = 100_000

// Arrange works out again what came of each test lately and last, by the time of the runs: imported
// ones may be older than those that were kept before them.
func (l *Ledger) Arrange() error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	runs, err := l.list(tx, "ORDER BY began DESC, number DESC")
	if err != nil {
		return err
	}
	greatest, err := greatestKey(tx)
	if err != nil {
		return err
	}
	for from := int64(0); from <= greatest; from += arrangedAtOnce {
		if err := arrange(tx, runs, from, from+arrangedAtOnce); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// arrange does so for the tests with keys from one on and below another.
func arrange(tx *sql.Tx, runs []*Kept, from, below int64) error {
	recent := make([][]Moment, below-from) // the latest first
	last := make([]int64, below-from)
	for _, k := range runs {
		b, err := readBrief(tx, k)
		if err != nil {
			return err
		}
		for i, key := range b.keys {
			if key < from || key >= below || len(recent[key-from]) == recentKept {
				continue
			}
			if recent[key-from] == nil {
				last[key-from] = int64(k.Number)
			}
			c := b.cell(i)
			recent[key-from] = append(recent[key-from], Moment{c.Outcome(), float64(c.Seconds)})
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

// Forget removes all runs but the latest so many and those that began within so many days, 0
// for all, and the tests that no run has any more. It counts the runs that went.
func (l *Ledger) Forget(runs, days int, now time.Time) (n int, err error) {
	if runs == 0 && days == 0 {
		return 0, nil
	}
	tx, err := l.db.Begin()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	gone := "SELECT number FROM runs WHERE began < ?1 OR (?2 > 0 AND number NOT IN (SELECT number FROM runs ORDER BY began DESC, number DESC LIMIT ?2))"
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
	l.mu.Lock()
	l.ids, l.upTo = map[int64]string{}, 0
	l.mu.Unlock()
	return int(went), tx.Commit()
}

// Compact gives the room of what was removed back to the system.
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

// Size tells how large the ledger is.
func (l *Ledger) Size() (s Size, err error) {
	var first, last sql.NullInt64
	err = l.db.QueryRow(`SELECT count(*), count(CASE WHEN source <> '' THEN 1 END), min(began), max(began), (SELECT count(*) FROM tests),
		(SELECT page_count FROM pragma_page_count) * (SELECT page_size FROM pragma_page_size) FROM runs`).Scan(&s.Runs, &s.Imported, &first, &last, &s.Tests, &s.Bytes)
	s.First, s.Last = time.UnixMilli(first.Int64), time.UnixMilli(last.Int64)
	return s, err
}
