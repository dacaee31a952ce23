package ledger

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"fernrelay/core/run"
	"fernrelay/internal/ledger/packs"
)

// Rename gives the tests of a suite, or of a group as suite:group, the IDs that they have under a new name, in all
// runs and hunts. Tests that have run under both names become one. It returns the number of tests.
func (l *Ledger) Rename(from, to string) (renamed int, err error) {
	sign := ":"
	if strings.Contains(from, ":") {
		sign = "#"
	}
	tx, err := l.db.Begin()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	r := &renaming{tx: tx, from: from + sign, to: to + sign, same: map[int64]int64{}}
	if renamed, err = r.tests(); err != nil {
		return 0, err
	}
	if renamed == 0 {
		return 0, fmt.Errorf("the ledger has no test of %s: %w", from, run.ErrNoRecord)
	}
	for _, step := range []func() error{r.results, r.groups, r.hunts} {
		if err := step(); err != nil {
			return 0, err
		}
	}
	if err := tx.Commit(); err != nil {
		return 0, err
	}
	l.ids.forget()
	if len(r.same) > 0 {
		err = l.arrange()
	}
	return renamed, err
}

// renaming is one Rename.
type renaming struct {
	tx       *sql.Tx
	from, to string          // what IDs begin with
	same     map[int64]int64 // by the key under the old name, that of the same test under the new one
}

// tests renames the tests, and notes those that are known under both names.
func (r *renaming) tests() (int, error) {
	old, keys := map[string]int64{}, map[string]int64{}
	err := eachTest(r.tx, func(id string, t keptTest) error {
		if rest, ok := strings.CutPrefix(id, r.from); ok {
			old[r.to+rest] = t.key
		}
		keys[id] = t.key
		return nil
	}, "")
	if err != nil {
		return 0, err
	}
	for id, key := range old {
		if known, both := keys[id]; both {
			r.same[key] = known
			continue
		}
		if _, err := r.tx.Exec("UPDATE tests SET id = ? WHERE key = ?", id, key); err != nil {
			return 0, err
		}
	}
	return len(old), nil
}

// results gives what runs report of tests that are known under both names to those under the new one.
//
// A suite that was renamed by hand may have run under both names, so that a test has two rows:
//
//	key 7   old:beds#TestBed   runs 1 to 30
//	key 9   new:beds#TestBed   runs 31 and 32
//
// Then runs 1 to 30 get the key 9, and the row with key 7 is removed.
func (r *renaming) results() error {
	if len(r.same) == 0 {
		return nil
	}
	rows, err := r.tx.Query("SELECT number FROM runs")
	if err != nil {
		return err
	}
	defer rows.Close()
	var runs []int
	for rows.Next() {
		var number int
		if err := scan(rows, &number); err != nil {
			return err
		}
		runs = append(runs, number)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, number := range runs {
		if err := r.repack(number); err != nil {
			return fmt.Errorf("run %d: %w", number, err)
		}
	}
	for old, key := range r.same {
		for _, table := range []string{"outputs", "bad"} {
			if _, err := r.tx.Exec("UPDATE OR REPLACE "+table+" SET test = ? WHERE test = ?", key, old); err != nil {
				return err
			}
		}
		if _, err := r.tx.Exec("DELETE FROM tests WHERE key = ?", old); err != nil {
			return err
		}
	}
	return nil
}

func (r *renaming) repack(number int) error {
	results, err := packedIn(r.tx, number)
	if err != nil {
		return err
	}
	changed := false
	for i := range results {
		if key, both := r.same[results[i].Key]; both {
			results[i].Key, changed = key, true
		}
	}
	if !changed {
		return nil
	}
	return replacePack(r.tx, number, results)
}

// replacePack keeps other results of a run in place of those that are kept.
func replacePack(tx *sql.Tx, number int, results []packs.Result) error {
	brief, rest, err := packs.Pack(slices.Values(results))
	if err != nil {
		return err
	}
	_, err = tx.Exec("UPDATE packs SET brief = ?, rest = ? WHERE run = ?", brief, rest, number)
	return err
}

// groups renames the groups that have setups and orders. What is known under the new name counts.
func (r *renaming) groups() error {
	old := strings.TrimSuffix(r.from, "#")
	where, args := "substr(name, 1, length(?)) = ?", []any{old, old}
	if old != r.from { // one group
		where, args = "name = ?", []any{old}
	}
	for _, table := range []string{"groups", "coverage"} {
		set := "UPDATE OR IGNORE " + table + " SET name = ? || substr(name, length(?) + 1) WHERE " + where
		if _, err := r.tx.Exec(set, append([]any{strings.TrimSuffix(r.to, "#"), old}, args...)...); err != nil {
			return err
		}
		if _, err := r.tx.Exec("DELETE FROM "+table+" WHERE "+where, args...); err != nil {
			return err
		}
	}
	return nil
}

// hunts renames the victims and the tests that findings name.
func (r *renaming) hunts() error {
	from, err := json.Marshal(r.from)
	if err != nil {
		return err
	}
	to, err := json.Marshal(r.to)
	if err != nil {
		return err
	}
	_, err = r.tx.Exec("UPDATE hunts SET victim = ?1 || substr(victim, length(?2) + 1) WHERE substr(victim, 1, length(?2)) = ?2", r.to, r.from)
	if err != nil {
		return err
	}
	_, err = r.tx.Exec("UPDATE hunts SET finding = replace(finding, ?, ?)", strings.TrimSuffix(string(from), `"`), strings.TrimSuffix(string(to), `"`))
	return err
}
