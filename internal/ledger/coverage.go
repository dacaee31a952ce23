package ledger

import (
	"database/sql"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"

	"fernrelay/core/order"
	"fernrelay/core/run"
)

const coverageSchema = `
CREATE TABLE coverage (
	name       TEXT PRIMARY KEY, -- suite:group
	tests      TEXT NOT NULL,    -- names as JSON
	neighbours BLOB NOT NULL,    -- pairs of tests that ran one right before the other
	before     BLOB NOT NULL     -- pairs of tests that ran one before the other
);
`

// CoverageMost is the number of tests above which the orders of a group are not followed, as
// its pairs would be too many to keep.
const CoverageMost = 5000

// keepCoverage adds the orders in which the tests of a run ran.
//
// Only tests of one process count, as state in a process ends with it: a worker that ran a, b in one batch and c in the next has run
// a before b, and neither before c.
func keepCoverage(tx *sql.Tx, ran *run.Run) error {
	type batch struct{ worker, number int }
	orders := map[string]map[batch][]string{} // names, by group
	tests := map[string]int{}
	for _, r := range ran.Results {
		group, name, ok := strings.Cut(r.ID, "#")
		if ok && r.Worker > 0 && r.Outcome != run.Skipped && r.Outcome != run.Lost {
			if orders[group] == nil {
				orders[group] = map[batch][]string{}
			}
			key := batch{r.Worker, r.Batch}
			orders[group][key] = append(orders[group][key], name)
			tests[group]++
		}
	}
	for group, batches := range orders {
		if tests[group] > CoverageMost {
			continue
		}
		if err := addCoverage(tx, group, slices.Collect(maps.Values(batches))); err != nil {
			return err
		}
	}
	return nil
}

// addCoverage adds orders of a group, except those of a single test.
func addCoverage(tx *sql.Tx, group string, orders [][]string) error {
	orders = slices.DeleteFunc(orders, func(names []string) bool { return len(names) < 2 })
	if len(orders) == 0 {
		return nil
	}
	c, err := readCoverage(tx, group)
	if err != nil {
		return err
	}
	for _, names := range orders {
		c.Add(names)
	}
	names, err := json.Marshal(c.Tests)
	if err != nil {
		return err
	}
	_, err = tx.Exec("INSERT OR REPLACE INTO coverage (name, tests, neighbours, before) VALUES (?, ?, ?, ?)", group, string(names), []byte(c.Neighbours), []byte(c.Before))
	return err
}

// Coverage returns which orders of a group, suite:group, have run.
func (l *Ledger) Coverage(group string) (*order.Coverage, error) { return readCoverage(l.db, group) }

func readCoverage(from querier, group string) (*order.Coverage, error) {
	c := &order.Coverage{}
	var names string
	var neighbours, before []byte
	err := scan(from.QueryRow("SELECT tests, neighbours, before FROM coverage WHERE name = ?", group), &names, &neighbours, &before)
	if errors.Is(err, sql.ErrNoRows) {
		return c, nil
	}
	if err != nil {
		return nil, err
	}
	c.Neighbours, c.Before = neighbours, before
	return c, unreadable(json.Unmarshal([]byte(names), &c.Tests))
}
