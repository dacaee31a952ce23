package ledger

import (
	"database/sql"
	"fmt"
	"slices"
	"time"

	"fernrelay/core/run"
)

// migrations build the schema, one version after the other. SQLite's user_version counts those that a file has
// seen.
var migrations = []func(*Ledger, *sql.Tx) error{
	executes(firstSchema), executes(groupsSchema), executes(huntsSchema + coverageSchema), (*Ledger).addPacks, executes(placedSchema), addPrepared, executes(trialSchema), executes(placesSchema), executes(crossingSchema),
}

func executes(schema string) func(*Ledger, *sql.Tx) error {
	return func(_ *Ledger, tx *sql.Tx) error { _, err := tx.Exec(schema); return err }
}

const firstSchema = `
CREATE TABLE runs (
	number  INTEGER PRIMARY KEY AUTOINCREMENT,
	began   INTEGER NOT NULL, -- milliseconds since 1970, as all times here
	ended   INTEGER NOT NULL,
	pick    TEXT NOT NULL,
	workers INTEGER NOT NULL
);
CREATE TABLE tests (
	key    INTEGER PRIMARY KEY,
	id     TEXT NOT NULL UNIQUE,
	recent TEXT NOT NULL DEFAULT '' -- what came of it in the latest runs, see encode
);
CREATE TABLE results (
	run      INTEGER NOT NULL REFERENCES runs(number),
	test     INTEGER NOT NULL REFERENCES tests(key),
	position INTEGER NOT NULL, -- in the order in which the tests of the run started
	worker   INTEGER NOT NULL,
	batch    INTEGER NOT NULL,
	began    INTEGER NOT NULL,
	outcome  TEXT NOT NULL,
	seconds  REAL NOT NULL,
	message  TEXT NOT NULL,
	file     TEXT NOT NULL,
	line     INTEGER NOT NULL,
	expected TEXT NOT NULL,
	actual   TEXT NOT NULL,
	PRIMARY KEY (run, position)
) WITHOUT ROWID;
CREATE INDEX results_by_test ON results (test, run);
`

const groupsSchema = `
CREATE TABLE groups (
	name   TEXT PRIMARY KEY, -- suite:group
	setups TEXT NOT NULL     -- seconds that its latest batches took to begin, the latest last
);
`

// packsSchema keeps the results of a run as two columns of bytes. A row per result, which the first schema had, is 20 million rows
// after 1,000 runs of 20,000 tests. What is asked for by a test alone has rows still: outputs, and the causes of failures in bad.
const packsSchema = `
ALTER TABLE runs ADD COLUMN ordering TEXT NOT NULL DEFAULT '';    -- the rule of its order
ALTER TABLE runs ADD COLUMN revision TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN dirty    INTEGER NOT NULL DEFAULT 0;  -- the tree was not as the revision says
ALTER TABLE runs ADD COLUMN machine  TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN source   TEXT NOT NULL DEFAULT '';    -- where it was imported from
ALTER TABLE runs ADD COLUMN journal  TEXT;                        -- the name of its journal
ALTER TABLE runs ADD COLUMN counts   TEXT NOT NULL DEFAULT '{}';  -- of outcomes, as JSON
ALTER TABLE runs ADD COLUMN work     REAL NOT NULL DEFAULT 0;     -- seconds of all tests
ALTER TABLE runs ADD COLUMN note     TEXT NOT NULL DEFAULT '';    -- what went wrong beside the tests
CREATE UNIQUE INDEX runs_by_journal ON runs (journal) WHERE journal IS NOT NULL;
CREATE INDEX runs_by_time ON runs (began, number);
ALTER TABLE tests ADD COLUMN last INTEGER NOT NULL DEFAULT 0;     -- the latest run that has it
CREATE TABLE packs (
	run   INTEGER PRIMARY KEY REFERENCES runs(number),
	brief BLOB NOT NULL, -- see package packs
	rest  BLOB NOT NULL
);
CREATE TABLE outputs (
	run  INTEGER NOT NULL REFERENCES runs(number),
	test INTEGER NOT NULL REFERENCES tests(key),
	text BLOB NOT NULL, -- compressed
	PRIMARY KEY (run, test)
) WITHOUT ROWID;
CREATE TABLE bad (
	test INTEGER NOT NULL REFERENCES tests(key),
	run  INTEGER NOT NULL REFERENCES runs(number),
	sign TEXT NOT NULL, -- of the cause
	PRIMARY KEY (test, run)
) WITHOUT ROWID;
CREATE INDEX bad_by_sign ON bad (sign, run);
CREATE TABLE imports (
	digest TEXT PRIMARY KEY, -- SHA-256 of the file
	name   TEXT NOT NULL,
	run    INTEGER NOT NULL REFERENCES runs(number)
) WITHOUT ROWID;
`

// placedSchema orders runs by a time of ours. A report of another machine may say that it began in the future, and would stay the latest run
// for ever.
const placedSchema = `
ALTER TABLE runs ADD COLUMN placed INTEGER NOT NULL DEFAULT 0; -- orders the runs, see placeOf
UPDATE runs SET placed = min(began, 1000 * strftime('%s', 'now'));
UPDATE hunts SET finding = replace(finding, '"verdict":"broken"', '"verdict":"faulty"');
DROP INDEX runs_by_time;
CREATE INDEX runs_by_place ON runs (placed, number);
`

const preparedSchema = `
ALTER TABLE runs ADD COLUMN prepared INTEGER NOT NULL DEFAULT 0; -- milliseconds before the first test began
`

const trialSchema = `
ALTER TABLE runs ADD COLUMN trial INTEGER NOT NULL DEFAULT 0; -- it reproduces a failure: no history counts it
`

const placesSchema = `
ALTER TABLE runs ADD COLUMN places TEXT NOT NULL DEFAULT '[]'; -- by worker, of a run of several machines, as JSON
`

const crossingSchema = `
ALTER TABLE runs ADD COLUMN crossing TEXT NOT NULL DEFAULT ''; -- its values, as in store=redis,season=winter: only the history of its crossing counts it
ALTER TABLE runs ADD COLUMN services TEXT NOT NULL DEFAULT '[]'; -- that it started, as JSON
`

// tables are those that a ledger of the present version has.
var tables = []string{"runs", "tests", "groups", "hunts", "trials", "coverage", "packs", "outputs", "bad", "imports"}

// addPacks converts the results, which had a row each, to packs, and computes what earlier versions did not keep.
func (l *Ledger) addPacks(tx *sql.Tx) error {
	if _, err := tx.Exec(packsSchema); err != nil {
		return err
	}
	records, err := runTimes(tx)
	if err != nil {
		return err
	}
	var setups, coverage bool
	if err := scan(tx.QueryRow("SELECT EXISTS (SELECT * FROM groups), EXISTS (SELECT * FROM coverage)"), &setups, &coverage); err != nil {
		return err
	}
	for _, k := range records {
		ran, err := rowsOf(tx, k)
		if err != nil {
			return err
		}
		known, err := readTests(tx, ran.Results)
		if err != nil {
			return err
		}
		keys := make([]int64, len(ran.Results))
		for i, r := range ran.Results {
			keys[i] = known[r.ID].key
		}
		if err := l.keepRest(tx, int64(k.Number), ran, false, keys); err != nil {
			return err
		}
		if !setups {
			err = keepSetups(tx, ran)
		}
		if err == nil && !coverage {
			err = keepCoverage(tx, ran)
		}
		if err != nil {
			return err
		}
	}
	_, err = tx.Exec("DROP TABLE results; UPDATE tests SET last = (SELECT coalesce(max(number), 0) FROM runs)")
	return err
}

// addPrepared adds the time before the first test of each run, which the packs have.
func addPrepared(_ *Ledger, tx *sql.Tx) error {
	if _, err := tx.Exec(preparedSchema); err != nil {
		return err
	}
	runs, err := runTimes(tx)
	if err != nil {
		return err
	}
	for _, k := range runs {
		results, err := packedIn(tx, k.Number)
		if err != nil {
			return fmt.Errorf("run %d: %w", k.Number, err)
		}
		r := run.New()
		r.Started = k.Began
		for i := range results {
			p := &results[i]
			r.Results = append(r.Results, &run.Result{Worker: p.Worker, Outcome: p.Cell.Outcome(), Started: time.UnixMilli(p.Began)})
		}
		prepared := duration(r.Prepared())
		if _, err := tx.Exec("UPDATE runs SET prepared = ? WHERE number = ?", &prepared, k.Number); err != nil {
			return err
		}
	}
	return nil
}

// runTimes reads the numbers and times of the runs of an early version.
func runTimes(tx *sql.Tx) ([]*run.Record, error) {
	rows, err := tx.Query("SELECT number, began, ended FROM runs ORDER BY number")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []*run.Record
	for rows.Next() {
		k := &run.Record{}
		var began, ended int64
		if err := scan(rows, &k.Number, &began, &ended); err != nil {
			return nil, err
		}
		k.Began, k.Ended = time.UnixMilli(began), time.UnixMilli(ended)
		all = append(all, k)
	}
	return all, rows.Err()
}

// rowsOf reads a run of which every result has a row.
func rowsOf(tx *sql.Tx, k *run.Record) (*run.Run, error) {
	rows, err := tx.Query(`SELECT tests.id, worker, batch, began, outcome, seconds, message, file, line, expected, actual
		FROM results JOIN tests ON tests.key = results.test WHERE run = ? ORDER BY position`, k.Number)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	r := run.New()
	r.Apply(run.Event{Event: run.RunBegins, At: k.Began})
	for rows.Next() {
		e := run.Event{Event: run.Finished}
		var began int64
		var seconds float64
		err := scan(rows, &e.ID, &e.Worker, &e.Batch, &began, &e.Outcome, &seconds, &e.Message, &e.File, &e.Line, &e.Expected, &e.Actual)
		if err != nil {
			return nil, err
		}
		start := time.UnixMilli(began)
		e.Seconds, e.At = &seconds, start.Add(time.Duration(seconds*float64(time.Second)))
		r.Apply(run.Event{Event: run.Started, At: start, ID: e.ID, Worker: e.Worker, Batch: e.Batch})
		r.Apply(e)
	}
	r.Apply(run.Event{Event: run.RunEnds, At: k.Ended})
	return r, rows.Err()
}

// version returns how many of the migrations a file has seen.
func version(from querier) (found int, err error) {
	err = scan(from.QueryRow("PRAGMA user_version"), &found)
	return found, err
}

// checkSchema refuses a database that is no ledger.
func checkSchema(from querier, version int) error {
	rows, err := from.Query("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
	if err != nil {
		return err
	}
	defer rows.Close()
	var found []string
	for rows.Next() {
		var name string
		if err := scan(rows, &name); err != nil {
			return err
		}
		found = append(found, name)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	wanted := tables
	switch {
	case version < 0:
		return fmt.Errorf("%w: its version is %d", errDamaged, version)
	case version > len(migrations):
		return fmt.Errorf("it has version %d, and this program knows version %d: use a newer fern-relay", version, len(migrations))
	case version == 0 && len(found) > 0:
		return fmt.Errorf("%w: it is a database of another program", errDamaged)
	case version < packsVersion:
		wanted = nil
	}
	for _, name := range wanted {
		if !slices.Contains(found, name) {
			return fmt.Errorf("%w: it is a database of another program, or parts of it are missing", errDamaged)
		}
	}
	return nil
}

// packsVersion is the first in which a ledger has all its tables.
const packsVersion = 4

func (l *Ledger) migrate() error {
	found, err := version(l.db)
	if err == nil {
		err = checkSchema(l.db, found)
	}
	if err != nil || found == len(migrations) {
		return err
	}
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if found, err = version(tx); err != nil { // another process may have been first
		return err
	}
	if err := checkSchema(tx, found); err != nil {
		return err
	}
	for _, migrate := range migrations[found:] {
		if err := migrate(l, tx); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", len(migrations))); err != nil {
		return err
	}
	return tx.Commit()
}
