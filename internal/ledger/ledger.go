// Package ledger keeps the history of runs in a SQLite file: order, placement,
// outcomes and seconds of every test.
package ledger

import (
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver

	"fernrelay/core/outcome"
	"fernrelay/core/timing"
)

// Ledger is the history of one project. It is safe for use by several goroutines
// and processes.
type Ledger struct{ db *sql.DB }

// FileName is the name of the ledger's file in a project's store.
const FileName = "ledger.db"

// migrations make the schema, one version after the other. SQLite's user_version
// tells how many of them a file has seen.
var migrations = []func(*Ledger, *sql.Tx) error{
	func(_ *Ledger, tx *sql.Tx) error { _, err := tx.Exec(schema); return err },
	(*Ledger).addGroups,
	(*Ledger).addHunts,
}

const schema = `
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

// Open opens the ledger in a project's store and makes it where there is none.
func Open(store string) (*Ledger, error) {
	path := filepath.Join(store, FileName)
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	l := &Ledger{db}
	if err := l.migrate(); err != nil {
		return nil, errors.Join(fmt.Errorf("the ledger %s cannot be opened: %w: move the file away to begin a new one", path, err), db.Close())
	}
	return l, nil
}

func (l *Ledger) migrate() error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var found int
	if err := tx.QueryRow("PRAGMA user_version").Scan(&found); err != nil {
		return err
	}
	if found == len(migrations) {
		return nil
	}
	if found > len(migrations) {
		return fmt.Errorf("it has version %d, and this program knows version %d", found, len(migrations))
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

// setupsKept is how many of its latest setups stand with a group.
const setupsKept = 9

// addGroups adds what it cost to begin batches of groups, and works it out for
// the latest runs.
func (l *Ledger) addGroups(tx *sql.Tx) error {
	_, err := tx.Exec(`CREATE TABLE groups (
		name   TEXT PRIMARY KEY, -- suite:group
		setups TEXT NOT NULL     -- seconds that its latest batches took to begin, the latest last
	)`)
	if err != nil {
		return err
	}
	return eachLatest(tx, setupsKept, keepSetups)
}

// eachLatest goes through so many of the latest runs, the oldest of them first.
func eachLatest(tx *sql.Tx, most int, tell func(*sql.Tx, *outcome.Run) error) error {
	rows, err := tx.Query("SELECT number, pick, workers, began, ended FROM runs ORDER BY number DESC LIMIT ?", most)
	if err != nil {
		return err
	}
	defer rows.Close()
	var latest []*Kept
	for rows.Next() {
		k, err := scanKept(rows)
		if err != nil {
			return err
		}
		latest = append(latest, k)
	}
	for _, k := range slices.Backward(latest) {
		run, err := results(tx, k)
		if err != nil {
			return err
		}
		if err := tell(tx, run); err != nil {
			return err
		}
	}
	return rows.Err()
}

// keepSetups adds what the batches of a run took to begin.
func keepSetups(tx *sql.Tx, run *outcome.Run) error {
	kept, err := readSetups(tx)
	if err != nil {
		return err
	}
	for group, seconds := range timing.Setups(run) {
		latest := append(kept[group], seconds)
		words := make([]string, 0, setupsKept)
		for _, s := range latest[max(0, len(latest)-setupsKept):] {
			words = append(words, strconv.FormatFloat(s, 'g', 4, 64))
		}
		if _, err := tx.Exec("INSERT INTO groups (name, setups) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET setups = ?2", group, strings.Join(words, " ")); err != nil {
			return err
		}
	}
	return nil
}

// Setups gives the seconds that the latest batches of every group, suite:group,
// took to begin, the latest last.
func (l *Ledger) Setups() (map[string][]float64, error) { return readSetups(l.db) }

// querier is a database or a transaction.
type querier interface {
	Query(query string, args ...any) (*sql.Rows, error)
	QueryRow(query string, args ...any) *sql.Row
}

func readSetups(from querier) (map[string][]float64, error) {
	rows, err := from.Query("SELECT name, setups FROM groups")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	setups := map[string][]float64{}
	for rows.Next() {
		var name, text string
		if err := rows.Scan(&name, &text); err != nil {
			return nil, err
		}
		for word := range strings.FieldsSeq(text) {
			seconds, err := strconv.ParseFloat(word, 64)
			if err != nil {
				return nil, fmt.Errorf("what is kept of the group %s: %w", name, err)
			}
			setups[name] = append(setups[name], seconds)
		}
	}
	return setups, rows.Err()
}

// Close closes the file.
func (l *Ledger) Close() error { return l.db.Close() }

// Kept is a run as it is kept, without its results.
type Kept struct {
	Number  int // from 1
	Pick    string
	Workers int
	Began   time.Time
	Ended   time.Time
}

// Keep adds a run and gives it its number.
func (l *Ledger) Keep(pick string, workers int, run *outcome.Run) (number int, err error) {
	tx, err := l.db.Begin()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	kept, err := tx.Exec("INSERT INTO runs (began, ended, pick, workers) VALUES (?, ?, ?, ?)",
		run.Started.UnixMilli(), run.Ended.UnixMilli(), pick, workers)
	if err != nil {
		return 0, err
	}
	last, err := kept.LastInsertId()
	if err != nil {
		return 0, err
	}
	if err := errors.Join(keepResults(tx, last, run), keepSetups(tx, run), keepCoverage(tx, run)); err != nil {
		return 0, err
	}
	return int(last), tx.Commit()
}

// keepResults adds the results of a run, and to each test what came of it.
func keepResults(tx *sql.Tx, number int64, run *outcome.Run) error {
	var greatest int64
	if err := tx.QueryRow("SELECT coalesce(max(key), 0) FROM tests").Scan(&greatest); err != nil {
		return err
	}
	tests := &table{tx: tx, name: "tests (key, id, recent)", columns: 3, behind: "ON CONFLICT (key) DO UPDATE SET recent = excluded.recent"}
	results := &table{tx: tx, name: "results (run, test, position, worker, batch, began, outcome, seconds, message, file, line, expected, actual)", columns: 13}
	position := 0
	for some := range slices.Chunk(run.Results, rowsAtOnce) { // what is known of all would be much to hold
		known, err := readTests(tx, some)
		if err != nil {
			return err
		}
		for _, r := range some {
			test, ok := known[r.ID]
			if !ok {
				greatest++
				test.key = greatest
			}
			latest, err := decode(test.recent)
			if err != nil {
				return fmt.Errorf("what is kept of %s: %w", r.ID, err)
			}
			latest = append(latest, Moment{r.Outcome, r.Seconds})
			err = errors.Join(tests.add(test.key, r.ID, encode(latest[max(0, len(latest)-recentKept):])),
				results.add(number, test.key, position, r.Worker, r.Batch, r.Started.UnixMilli(), string(r.Outcome), r.Seconds,
					r.Message, r.File, r.Line, r.Expected, r.Actual))
			if err != nil {
				return err
			}
			position++
		}
	}
	return errors.Join(tests.flush(), results.flush())
}

// keptTest is a row of the tests.
type keptTest struct {
	key    int64
	recent string
}

// readTests gives the tests of some results by ID, as far as they are known.
func readTests(from querier, results []*outcome.Result) (map[string]keptTest, error) {
	ids := make([]any, len(results))
	for i, r := range results {
		ids[i] = r.ID
	}
	tests := make(map[string]keptTest, len(results))
	err := eachTest(from, func(id string, t keptTest) error {
		tests[id] = t
		return nil
	}, " WHERE id IN (?"+strings.Repeat(", ?", len(ids)-1)+")", ids...)
	return tests, err
}

// eachTest goes through the tests, of which a clause may pick some, as long as there is
// no error.
func eachTest(from querier, tell func(id string, t keptTest) error, clause string, args ...any) error {
	rows, err := from.Query("SELECT key, id, recent FROM tests"+clause, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id string
		var t keptTest
		if err := rows.Scan(&t.key, &id, &t.recent); err != nil {
			return err
		}
		if err := tell(id, t); err != nil {
			return err
		}
	}
	return rows.Err()
}

// table inserts rows, many in a statement.
type table struct {
	tx      *sql.Tx
	name    string // with its columns
	columns int
	behind  string // behind the values
	values  []any
	full    *sql.Stmt // of rowsAtOnce rows
}

const rowsAtOnce = 50

func (t *table) add(values ...any) error {
	t.values = append(t.values, values...)
	if len(t.values) < rowsAtOnce*t.columns {
		return nil
	}
	if t.full == nil {
		var err error
		if t.full, err = t.tx.Prepare(t.statement()); err != nil {
			return err
		}
	}
	_, err := t.full.Exec(t.values...)
	t.values = t.values[:0]
	return err
}

// flush inserts the rows that are left.
func (t *table) flush() error {
	if len(t.values) == 0 {
		return nil
	}
	_, err := t.tx.Exec(t.statement(), t.values...)
	return err
}

func (t *table) statement() string {
	row := "(" + strings.Repeat("?, ", t.columns-1) + "?)"
	rows := strings.Repeat(row+", ", len(t.values)/t.columns-1) + row
	return "INSERT INTO " + t.name + " VALUES " + rows + " " + t.behind
}

// Runs counts the runs kept.
func (l *Ledger) Runs() (n int, err error) {
	err = l.db.QueryRow("SELECT count(*) FROM runs").Scan(&n)
	return n, err
}

// ErrNoRun says that the ledger does not hold the run asked for.
var ErrNoRun = errors.New("there is no such run in the ledger")

// Last gives the latest run whole; ErrNoRun where there is none yet.
func (l *Ledger) Last() (*Kept, *outcome.Run, error) {
	k, err := l.find("SELECT number, pick, workers, began, ended FROM runs ORDER BY number DESC LIMIT 1")
	if err != nil {
		return nil, nil, err
	}
	run, err := l.Results(k)
	return k, run, err
}

// Run gives a run by its number; ErrNoRun where there is none.
func (l *Ledger) Run(number int) (*Kept, *outcome.Run, error) {
	k, err := l.find("SELECT number, pick, workers, began, ended FROM runs WHERE number = ?", number)
	if err != nil {
		return nil, nil, err
	}
	run, err := l.Results(k)
	return k, run, err
}

// LastBad finds the latest run in which a test was bad; ErrNoRun where it never was.
func (l *Ledger) LastBad(id string) (*Kept, error) {
	return l.find(`SELECT number, pick, workers, runs.began, ended FROM runs JOIN results ON results.run = runs.number
		WHERE test = (SELECT key FROM tests WHERE id = ?) AND outcome IN (?, ?, ?) ORDER BY number DESC LIMIT 1`,
		id, outcome.Failed, outcome.Errored, outcome.TimedOut)
}

// Company is what ran before a test on its worker in an earlier run, and what came of
// the test.
type Company struct {
	Outcome outcome.Outcome
	Before  []string // IDs
}

// Companies gives the company of a test in so many of the latest runs in which it came
// to an end, of its own batch only where that is asked for.
func (l *Ledger) Companies(id string, ownBatch bool, runs int) ([]Company, error) {
	rows, err := l.db.Query(`WITH mine AS (SELECT run, worker, batch, position, outcome FROM results
			WHERE test = (SELECT key FROM tests WHERE id = ?) AND worker > 0 AND outcome NOT IN (?, ?) ORDER BY run DESC LIMIT ?)
		SELECT mine.run, mine.outcome, tests.id FROM mine LEFT JOIN results AS other
			ON other.run = mine.run AND other.position < mine.position AND other.worker = mine.worker AND (other.batch = mine.batch OR NOT ?)
				AND other.outcome NOT IN (?, ?)
			LEFT JOIN tests ON tests.key = other.test ORDER BY mine.run DESC, other.position`,
		id, outcome.Skipped, outcome.Lost, runs, ownBatch, outcome.Skipped, outcome.Lost)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var companies []Company
	last := 0
	for rows.Next() {
		var run int
		var o outcome.Outcome
		var other sql.NullString
		if err := rows.Scan(&run, &o, &other); err != nil {
			return nil, err
		}
		if run != last {
			companies = append(companies, Company{Outcome: o})
			last = run
		}
		if other.Valid {
			c := &companies[len(companies)-1]
			c.Before = append(c.Before, other.String)
		}
	}
	return companies, rows.Err()
}

// find gives the run that a query names.
func (l *Ledger) find(query string, args ...any) (*Kept, error) {
	k, err := scanKept(l.db.QueryRow(query, args...))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNoRun
	}
	return k, err
}

func scanKept(row interface{ Scan(into ...any) error }) (*Kept, error) {
	k := &Kept{}
	var began, ended int64
	if err := row.Scan(&k.Number, &k.Pick, &k.Workers, &began, &ended); err != nil {
		return nil, err
	}
	k.Began, k.Ended = time.UnixMilli(began), time.UnixMilli(ended)
	return k, nil
}

// Results folds what is kept of a run by telling its events again.
func (l *Ledger) Results(k *Kept) (*outcome.Run, error) { return results(l.db, k) }

func results(from querier, k *Kept) (*outcome.Run, error) {
	rows, err := from.Query(`SELECT tests.id, worker, batch, began, outcome, seconds, message, file, line, expected, actual
		FROM results JOIN tests ON tests.key = results.test WHERE run = ? ORDER BY position`, k.Number)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	run := outcome.NewRun()
	run.Apply(outcome.Event{Event: outcome.RunBegins, At: k.Began})
	for rows.Next() {
		e := outcome.Event{Event: outcome.Finished}
		var began int64
		var seconds float64
		err := rows.Scan(&e.ID, &e.Worker, &e.Batch, &began, &e.Outcome, &seconds, &e.Message, &e.File, &e.Line, &e.Expected, &e.Actual)
		if err != nil {
			return nil, err
		}
		start := time.UnixMilli(began)
		e.Seconds, e.At = &seconds, start.Add(time.Duration(seconds*float64(time.Second)))
		if e.Outcome != outcome.Lost {
			run.Apply(outcome.Event{Event: outcome.Started, At: start, ID: e.ID, Worker: e.Worker, Batch: e.Batch})
		}
		run.Apply(e)
	}
	run.Apply(outcome.Event{Event: outcome.RunEnds, At: k.Ended})
	return run, rows.Err()
}

// Moment is what came of a test in one run.
type Moment struct {
	Outcome outcome.Outcome
	Seconds float64
}

// recentKept is how many of its latest moments stand with a test itself, so that
// a large suite opens without going through all results of many runs.
const recentKept = 20

// Recent tells the latest moments of every test, oldest first.
func (l *Ledger) Recent(tell func(id string, moments []Moment)) error {
	return eachTest(l.db, func(id string, t keptTest) error {
		moments, err := decode(t.recent)
		if err != nil {
			return fmt.Errorf("what is kept of %s: %w", id, err)
		}
		tell(id, moments)
		return nil
	}, "")
}

// encode writes moments as words: outcome, seconds, outcome, seconds, …
func encode(moments []Moment) string {
	var out []byte
	for i, m := range moments {
		if i > 0 {
			out = append(out, ' ')
		}
		out = append(append(out, m.Outcome...), ' ')
		out = strconv.AppendFloat(out, m.Seconds, 'g', 5, 64)
	}
	return string(out)
}

func decode(text string) ([]Moment, error) {
	words := strings.Fields(text)
	moments := make([]Moment, 0, len(words)/2)
	for i := 0; i+1 < len(words); i += 2 {
		seconds, err := strconv.ParseFloat(words[i+1], 64)
		if err != nil {
			return nil, err
		}
		moments = append(moments, Moment{outcome.Named(words[i]), seconds})
	}
	return moments, nil
}
