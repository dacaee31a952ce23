package ledger

import (
	"database/sql"
	"encoding/json"
	"errors"
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
func keepCoverage(tx *sql.Tx, ran *run.Run) error {
	type batch struct {
		worker, number int
		group          string
	}
	orders := map[batch][]string{}
	tests := map[string]int{}
	for _, r := range ran.Results {
		group, name, ok := strings.Cut(r.ID, "#")
		if ok && r.Worker > 0 && r.Outcome != run.Skipped && r.Outcome != run.Lost {
			key := batch{r.Worker, r.Batch, group}
			orders[key] = append(orders[key], name)
			tests[group]++
		}
	}
	changed := map[string]*order.Coverage{}
	for key, names := range orders {
		if len(names) < 2 || tests[key.group] > CoverageMost {
			continue
		}
		if changed[key.group] == nil {
			known, err := readCoverage(tx, key.group)
			if err != nil {
				return err
			}
			changed[key.group] = known
		}
		changed[key.group].Add(names)
	}
	for group, c := range changed {
		names, err := json.Marshal(c.Tests)
		if err != nil {
			return err
		}
		if _, err := tx.Exec("INSERT OR REPLACE INTO coverage (name, tests, neighbours, before) VALUES (?, ?, ?, ?)", group, string(names), []byte(c.Neighbours), []byte(c.Before)); err != nil {
			return err
		}
	}
	return nil
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
