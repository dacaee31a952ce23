// Package ledger keeps the history of runs in a SQLite file: how and of what they were, the
// order, placement, outcome and seconds of every test, and of those that failed what they
// said.
package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	_ "modernc.org/sqlite" // the driver

	"fernrelay/core/outcome"
)

// Ledger is the history of one project. It is safe for use by several goroutines
// and processes.
type Ledger struct {
	db   *sql.DB
	own  func(file string) (name string, own bool)
	file fs.FileInfo // as it was opened
	mu   sync.Mutex
	ids  map[int64]string // of the tests by key, as far as they were asked for
	upTo int64            // the greatest key among them
}

// FileName is the name of the ledger's file in a project's store.
const FileName = "ledger.db"

// Open opens the ledger in a project's store and makes it if there is none. If the file is damaged or
// no ledger, Damaged knows the error.
func Open(store string) (*Ledger, error) {
	path := filepath.Join(store, FileName)
	lock, err := lockStore(store) // SQLite lets only one make a file at a time, without waiting
	if errors.Is(err, syscall.EROFS) || errors.Is(err, fs.ErrPermission) {
		return openToRead(path)
	}
	if err != nil {
		return nil, fmt.Errorf("the ledger %s cannot be opened: %w", path, err)
	}
	defer lock.Close()
	l, err := openToWrite(path)
	if err == nil {
		l.own = outcome.OwnIn(filepath.Dir(store))
		if err = l.migrate(); err == nil {
			l.file, err = os.Stat(path)
		}
	}
	if err == nil {
		return l, nil
	}
	if l != nil {
		_ = l.Close()
	}
	return nil, fmt.Errorf("the ledger %s cannot be opened: %w", path, roomless(err))
}

// openToWrite opens a file that may be a ledger, or is to become one.
func openToWrite(path string) (*Ledger, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%w: it is no file", errDamaged)
	case info.Size() == 0:
		return nil, fmt.Errorf("%w: it is empty", errDamaged)
	}
	return connect(path, toWrite)
}

// Removed reports whether the ledger's file is not in its place any more, so that what is written to it
// is lost.
func (l *Ledger) Removed(store string) bool {
	now, err := os.Stat(filepath.Join(store, FileName))
	return err != nil || l.file != nil && !os.SameFile(now, l.file)
}

// openToRead opens a ledger in a folder that cannot be written into, of which what was never put from
// its write-ahead log into the file itself is not seen.
func openToRead(path string) (*Ledger, error) {
	l, err := connect(path, toRead)
	if err != nil {
		return nil, err
	}
	l.own = outcome.OwnIn(filepath.Dir(filepath.Dir(path)))
	found, err := version(l.db)
	if err == nil && found != len(migrations) {
		err = fmt.Errorf("it has version %d, and its folder cannot be written into to bring it to version %d", found, len(migrations))
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the ledger %s cannot be opened: %w", path, err), l.Close())
	}
	return l, nil
}

// How a file is opened. Who writes waits for others that write for a minute; what is told to be kept
// is on the disk.
const (
	toWrite = "_pragma=busy_timeout(60000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=cache_size(-32000)&_txlock=immediate"
	toRead  = "mode=ro&immutable=1"
)

// connect opens a file, toWrite or toRead.
func connect(path, how string) (*Ledger, error) {
	file := url.URL{Scheme: "file", Path: path, RawQuery: how}
	db, err := sql.Open("sqlite", file.String())
	if err != nil {
		return nil, err
	}
	return &Ledger{db: db, ids: map[int64]string{}}, nil
}

// Close closes the file.
func (l *Ledger) Close() error { return l.db.Close() }

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

	Began  time.Time               `json:"began"`
	placed time.Time               // by which runs are ordered: when it began, unless that is in the future
	Ended  time.Time               `json:"ended"` // as Began where it is not known
	Counts map[outcome.Outcome]int `json:"counts"`
	Work   float64                 `json:"work_s"` // of all tests

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

// Keep adds a run and gives it its number. When it began, how it ended and what it counts is
// taken from the run. One whose journal is known is kept already: its number is given.
func (l *Ledger) Keep(k RunRecord, run *outcome.Run) (number int, err error) {
	defer func() { err = roomless(err) }()
	tx, err := l.db.Begin()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	if number, err = keptAs(tx, k.Journal); err != nil || number > 0 {
		return number, err
	}
	if number, err = l.keep(tx, k, run, keepTests); err != nil {
		return 0, err
	}
	if err := errors.Join(keepSetups(tx, run), keepCoverage(tx, run)); err != nil {
		return 0, err
	}
	return number, tx.Commit()
}

// keptAs gives the number of the run that had a journal; 0 where it is not kept.
func keptAs(from querier, journal string) (number int, err error) {
	err = scan(from.QueryRow("SELECT number FROM runs WHERE journal = ?", journal), &number)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return number, err
}

// keep adds a run and its results; keysOf keeps the tests and gives their keys.
func (l *Ledger) keep(tx *sql.Tx, k RunRecord, run *outcome.Run, keysOf func(tx *sql.Tx, number int64, run *outcome.Run) (map[string]int64, error)) (number int, err error) {
	journal := sql.NullString{String: k.Journal, Valid: k.Journal != ""}
	placed, err := placeOf(tx, run.Started, time.Now())
	if err != nil {
		return 0, err
	}
	kept, err := tx.Exec("INSERT INTO runs (began, placed, ended, pick, workers, ordering, revision, dirty, machine, source, journal) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		run.Started.UnixMilli(), placed, run.Ended.UnixMilli(), k.Pick, k.Workers, k.Order, k.Revision, k.Dirty, k.Machine, k.Source, journal)
	if err != nil {
		return 0, err
	}
	last, err := kept.LastInsertId()
	if err != nil {
		return 0, err
	}
	keys, err := keysOf(tx, last, run)
	if err != nil {
		return 0, err
	}
	return int(last), l.keepRest(tx, last, run, func(r *outcome.Result) int64 { return keys[r.ID] })
}

// clockSkew is how far in the future a run may begin that another machine reports.
const clockSkew = time.Hour

// InFuture reports whether a run cannot have begun at a time yet.
func InFuture(began, now time.Time) bool { return began.After(now.Add(clockSkew)) }

// placeOf is the time by which a run is ordered, in milliseconds since 1970. Of one that cannot have begun
// yet nobody knows when it did: it comes just before the latest that is known.
func placeOf(tx *sql.Tx, began, now time.Time) (int64, error) {
	if !InFuture(began, now) {
		return began.UnixMilli(), nil
	}
	var latest sql.NullInt64
	err := scan(tx.QueryRow("SELECT max(placed) FROM runs"), &latest)
	if !latest.Valid {
		return now.UnixMilli(), err
	}
	return latest.Int64 - 1, err
}

// outputsKept bounds the outputs that are kept of one run, in bytes before they are compressed.
const outputsKept = 16 << 20

// keepRest packs the results of a run whose tests are known, and keeps what it counts and what
// its failures say.
func (l *Ledger) keepRest(tx *sql.Tx, number int64, run *outcome.Run, key func(*outcome.Result) int64) error {
	results := make([]packed, len(run.Results))
	work, room := 0.0, outputsKept
	for i, r := range run.Results {
		results[i] = newPacked(i, key(r), r)
		work += r.Seconds
	}
	brief, rest, err := pack(results)
	if err != nil {
		return err
	}
	if _, err := tx.Exec("INSERT INTO packs (run, brief, rest) VALUES (?, ?, ?)", number, brief, rest); err != nil {
		return err
	}
	counts, err := json.Marshal(run.Counts)
	if err != nil {
		return err
	}
	if _, err := tx.Exec("UPDATE runs SET counts = ?, work = ?, note = ? WHERE number = ?", string(counts), work, run.Note, number); err != nil {
		return err
	}
	troubled := run.Troubled()
	signs := outcome.Signs(troubled, l.own)
	outputs := &table{tx: tx, name: "outputs (run, test, text)", columns: 3, behind: "ON CONFLICT DO NOTHING"}
	bad := &table{tx: tx, name: "bad (test, run, sign)", columns: 3, behind: "ON CONFLICT DO NOTHING"}
	for _, r := range troubled {
		if err := bad.add(key(r), number, signs[r.ID]); err != nil {
			return err
		}
		if text := bounded(string(r.Output)); text != "" && len(text) <= room {
			room -= len(text)
			if err := outputs.add(number, key(r), compress([]byte(text))); err != nil {
				return err
			}
		}
	}
	return errors.Join(outputs.flush(), bad.flush())
}

// keepTests adds to each test of a run what came of it, and gives the keys of the tests by ID.
func keepTests(tx *sql.Tx, number int64, run *outcome.Run) (keys map[string]int64, err error) {
	greatest, err := greatestKey(tx)
	if err != nil {
		return nil, err
	}
	tests := &table{tx: tx, name: "tests (key, id, recent, last)", columns: 4, behind: "ON CONFLICT (key) DO UPDATE SET recent = excluded.recent, last = excluded.last"}
	keys = make(map[string]int64, len(run.Results))
	for some := range slices.Chunk(run.Results, rowsAtOnce) { // what is known of all would be much to hold
		known, err := readTests(tx, some)
		if err != nil {
			return nil, err
		}
		for _, r := range some {
			test, ok := known[r.ID]
			if !ok {
				greatest++
				test.key = greatest
			}
			keys[r.ID] = test.key
			latest, err := decode(test.recent)
			if err != nil {
				return nil, fmt.Errorf("what is kept of %s: %w", r.ID, err)
			}
			latest = append(latest, Moment{r.Outcome, r.Seconds})
			if err := tests.add(test.key, r.ID, encode(latest[max(0, len(latest)-recentKept):]), number); err != nil {
				return nil, err
			}
		}
	}
	return keys, tests.flush()
}

func greatestKey(tx *sql.Tx) (key int64, err error) {
	err = scan(tx.QueryRow("SELECT coalesce(max(key), 0) FROM tests"), &key)
	return key, err
}

// Runs counts the runs kept.
func (l *Ledger) Runs() (n int, err error) {
	err = scan(l.db.QueryRow("SELECT count(*) FROM runs"), &n)
	return n, err
}

// ErrNoRun says that the ledger does not hold the run asked for.
var ErrNoRun = errors.New("there is no such run in the ledger")

// Last gives the latest run whole; ErrNoRun where there is none yet.
func (l *Ledger) Last() (*RunRecord, *outcome.Run, error) {
	return l.whole("ORDER BY placed DESC, number DESC LIMIT 1")
}

// Run gives a run by its number; ErrNoRun where there is none.
func (l *Ledger) Run(number int) (*RunRecord, *outcome.Run, error) {
	return l.whole("WHERE number = ?", number)
}

// Before gives the run before another whole; ErrNoRun where there is none.
func (l *Ledger) Before(k *RunRecord) (*RunRecord, *outcome.Run, error) {
	return l.whole("WHERE (placed, number) < (?, ?) ORDER BY placed DESC, number DESC LIMIT 1", k.placed.UnixMilli(), k.Number)
}

func (l *Ledger) whole(clause string, args ...any) (*RunRecord, *outcome.Run, error) {
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
func (l *Ledger) Results(k *RunRecord) (*outcome.Run, error) {
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
	run := outcome.NewRun()
	run.Apply(outcome.Event{Event: outcome.RunBegins, At: k.Began})
	for i := range results {
		results[i].tell(ids[results[i].key], outputs[results[i].key], run.Apply)
	}
	run.Apply(outcome.Event{Event: outcome.RunEnds, At: k.Ended, Failure: outcome.Failure{Message: k.Note}})
	return run, nil
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

// Company is what ran before a test on its worker in an earlier run, and what came of
// the test.
type Company struct {
	Outcome outcome.Outcome
	Before  []string // IDs
}

// companyRuns bounds how many runs are looked through for the company of a test.
const companyRuns = 200

// Companies gives the company of a test in so many of the latest runs in which it came
// to an end, of its own batch only where that is asked for.
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
		results, err := l.packed(k.Number)
		if err != nil {
			return nil, fmt.Errorf("run %d: %w", k.Number, err)
		}
		if c, ok := companyOf(results, key, ownBatch, ids); ok {
			companies = append(companies, c)
		}
	}
	return companies, nil
}

// companyOf gives the company of a test in a run; ok is false where the test did not run.
func companyOf(results []packed, key int64, ownBatch bool, ids map[int64]string) (c Company, ok bool) {
	ran := func(p *packed) bool {
		o := p.cell.Outcome()
		return p.worker > 0 && o != outcome.Skipped && o != outcome.Lost
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

// Probe reads what is needed most; the error is one that Damaged knows where that is damaged.
func (l *Ledger) Probe() error {
	var length sql.NullInt64
	return scan(l.db.QueryRow("SELECT sum(length(id) + length(recent)) FROM tests"), &length)
}

// Check looks through the whole file; the error is one that Damaged knows where it is damaged.
func (l *Ledger) Check(ctx context.Context) error {
	found, err := version(l.db)
	if err == nil {
		err = checkSchema(l.db, found)
	}
	if err == nil {
		err = l.checkIntegrity(ctx)
	}
	if err != nil || found < len(migrations) {
		return err
	}
	return l.checkContent(ctx)
}

// checkContent reads everything that is kept.
func (l *Ledger) checkContent(ctx context.Context) error {
	runs, err := l.List()
	for _, k := range runs {
		if err == nil {
			err = ctx.Err()
		}
		if err == nil {
			_, err = l.Results(k)
		}
	}
	if err == nil {
		_, err = l.Hunts()
	}
	if err == nil {
		_, err = l.Setups()
	}
	if err != nil {
		return err
	}
	return l.Recent(func(string) bool { return true }, func(string, []Moment) {})
}

// checkIntegrity has SQLite look through the pages of the file.
func (l *Ledger) checkIntegrity(ctx context.Context) error {
	rows, err := l.db.QueryContext(ctx, "PRAGMA integrity_check(5)")
	if err != nil {
		return err
	}
	defer rows.Close()
	var wrong []string
	for rows.Next() {
		var words string
		if err := scan(rows, &words); err != nil {
			return err
		}
		wrong = append(wrong, words)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if len(wrong) == 1 && wrong[0] == "ok" {
		return nil
	}
	return unreadable(errors.New(strings.Join(wrong, "; ")))
}
