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
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	_ "modernc.org/sqlite" // the driver

	"fernrelay/core/cause"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/ledger/packs"
	"fernrelay/internal/owned"
)

// Ledger is the history of one project. It is safe for use by several goroutines
// and processes.
type Ledger struct {
	db   *sql.DB
	own  func(file string) (name string, own bool)
	file fs.FileInfo // as it was opened
	ids  *testNames
	only string // a condition in SQL for the runs that it has; see In
}

// testNames are the IDs of tests by key, those that were needed so far.
type testNames struct {
	mu   sync.Mutex
	ids  map[int64]string
	upTo int64 // the greatest key among them
}

// forget makes them be read again.
func (n *testNames) forget() {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.ids, n.upTo = map[int64]string{}, 0
}

// newLedger returns the ledger in a database, in a store.
func newLedger(db *sql.DB, store string) *Ledger {
	return &Ledger{db: db, ids: &testNames{ids: map[int64]string{}}, own: cause.OwnIn(filepath.Dir(store)), only: plainRuns}
}

// plainRuns is the condition in SQL for the runs that are of no crossing.
const plainRuns = "crossing = ''"

// In returns the ledger with only the runs of crossings that have some values, to read from.
func (l *Ledger) In(of matrix.Assignment) *Ledger {
	in := *l
	in.only = "crossing <> ''"
	for _, name := range slices.Sorted(maps.Keys(of)) {
		in.only += fmt.Sprintf(" AND instr(',' || crossing || ',', %s) > 0", quoted(fmt.Sprintf(",%s=%s,", name, of[name])))
	}
	return &in
}

// Own returns the name of a file within the project, and whether it is the project's.
func (l *Ledger) Own(file string) (name string, own bool) { return l.own(file) }

// quoted writes a text for SQL.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// counted is the condition in SQL for the runs that rates and times count.
func (l *Ledger) counted() string { return "trial = 0 AND " + l.only }

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
		if err := makeFile(path); err != nil {
			return nil, err
		}
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%w: it is not a file", errDamaged)
	case info.Size() == 0:
		return nil, fmt.Errorf("%w: it is empty", errDamaged)
	}
	return connect(path, toWrite)
}

// makeFile makes the file of an empty ledger, which is in its place only once it is whole: SQLite makes an empty file
// first, and if the process were killed then, the next one would take the file for a damaged ledger.
func makeFile(path string) error {
	empty := openEmpty(filepath.Dir(path))
	defer empty.Close()
	conn, err := empty.db.Conn(context.Background())
	if err != nil {
		return err
	}
	defer conn.Close()
	var content []byte
	if err := conn.Raw(func(driver any) error {
		content, err = driver.(interface{ Serialize() ([]byte, error) }).Serialize()
		return err
	}); err != nil {
		return err
	}
	made := strings.TrimSuffix(path, ".db") + "-new.db" // the store's lock keeps others from it
	if err := owned.WriteData(made, content); err != nil {
		return err
	}
	return renameData(filepath.Dir(path), made, path)
}

// Removed reports whether the ledger's file is no longer in its place, so that what is written to it is lost.
func (l *Ledger) Removed(store string) bool {
	now, err := os.Stat(filepath.Join(store, FileName))
	return err != nil || l.file != nil && !os.SameFile(now, l.file)
}

// openToRead opens a ledger in a folder that cannot be written to. It does not see what only the write-ahead log
// has.
func openToRead(path string) (*Ledger, error) {
	l, err := connect(path, toRead)
	if err != nil {
		return nil, err
	}
	found, err := version(l.db)
	if err == nil && found != len(migrations) {
		err = fmt.Errorf("it has version %d, and its folder cannot be written into to bring it to version %d", found, len(migrations))
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the ledger %s cannot be opened: %w", path, err), l.Close())
	}
	return l, nil
}

// How a file is opened. Writers wait a minute for others that write; what is reported as kept is on the disk.
const (
	toWrite = "_pragma=busy_timeout(60000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=cache_size(-4000)&_txlock=immediate"
	toRead  = "mode=ro&immutable=1"
)

// openEmpty opens an empty ledger in memory, for a project whose store has none.
func openEmpty(store string) *Ledger {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		panic(err) // the driver is not linked in
	}
	db.SetMaxOpenConns(1) // each connection has a memory of its own
	l := newLedger(db, store)
	if err := l.migrate(); err != nil {
		panic(err) // the schema is wrong
	}
	return l
}

// connect opens a file, toWrite or toRead.
func connect(path, how string) (*Ledger, error) {
	file := url.URL{Scheme: "file", Path: path, RawQuery: how}
	db, err := sql.Open("sqlite", file.String())
	if err != nil {
		return nil, err
	}
	return newLedger(db, filepath.Dir(path)), nil
}

// Close closes the file.
func (l *Ledger) Close() error { return l.db.Close() }

// Keep adds a run and returns its number. It takes the times and the counts from the run. A run whose journal is
// known is kept already: Keep returns its number.
func (l *Ledger) Keep(k run.Record, run *run.Run) (number int, err error) {
	defer func() { err = roomless(err) }()
	tx, err := l.db.Begin()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	if number, err = numberOf(tx, k.Journal); err != nil || number > 0 {
		return number, err
	}
	keysOf := keepTests
	if k.Trial || k.Crossing != "" {
		keysOf = addTests
	}
	if number, err = l.keep(tx, k, run, keysOf); err != nil {
		return 0, err
	}
	if err := errors.Join(keepSetups(tx, run), keepCoverage(tx, run)); err != nil {
		return 0, err
	}
	return number, tx.Commit()
}

// HasJournal reports whether the run that had a journal is kept.
func (l *Ledger) HasJournal(journal string) (bool, error) {
	number, err := numberOf(l.db, journal)
	return number > 0, err
}

// numberOf returns the number of the run that had a journal; 0 if it is not kept.
func numberOf(from querier, journal string) (number int, err error) {
	err = scan(from.QueryRow("SELECT number FROM runs WHERE journal = ?", journal), &number)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return number, err
}

// keep adds a run and its results; keysOf keeps the tests and returns their keys, in the order of the results.
func (l *Ledger) keep(tx *sql.Tx, k run.Record, ran *run.Run, keysOf func(tx *sql.Tx, number int64, run *run.Run) ([]int64, error)) (number int, err error) {
	placed, err := placeOf(tx, ran.Started, time.Now())
	if err != nil {
		return 0, err
	}
	k.Began, k.Placed, k.Ended, k.Prepared = ran.Started, time.UnixMilli(placed), ran.Ended, ran.Prepared()
	k.Places, k.Services = ran.Places, ran.Services
	last, err := insertRecord(tx, &k)
	if err != nil {
		return 0, err
	}
	keys, err := keysOf(tx, last, ran)
	if err != nil {
		return 0, err
	}
	return int(last), l.keepRest(tx, last, ran, k.Trial, keys)
}

// clockSkew is how far in the future a run may begin that another machine reports.
const clockSkew = time.Hour

// InFuture reports whether a run cannot have begun at a time yet.
func InFuture(began, now time.Time) bool { return began.After(now.Add(clockSkew)) }

// placeOf returns the time by which a run is ordered, in milliseconds since 1970. A run that cannot have begun yet
// comes just before the latest one.
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

// keepRest packs the results of a run whose tests have keys, and keeps its counts and the signs of its failures.
func (l *Ledger) keepRest(tx *sql.Tx, number int64, run *run.Run, trial bool, keys []int64) error {
	keyOf := map[string]int64{} // of those that are bad
	work, room := 0.0, outputsKept
	for i, r := range run.Results {
		if r.Outcome.Bad() {
			keyOf[r.ID] = keys[i]
		}
		work += r.Seconds
	}
	brief, rest, err := packs.Pack(func(yield func(packs.Result) bool) {
		for i, r := range run.Results {
			if !yield(packs.Of(i, keys[i], r)) {
				return
			}
		}
	})
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
	signs := cause.Signs(troubled, l.own)
	outputs := &table{tx: tx, name: "outputs (run, test, text)", columns: 3, behind: "ON CONFLICT DO NOTHING"}
	bad := &table{tx: tx, name: "bad (test, run, sign)", columns: 3, behind: "ON CONFLICT DO NOTHING"}
	for _, r := range troubled {
		if !trial {
			if err := bad.add(keyOf[r.ID], number, signs[r.ID]); err != nil {
				return err
			}
		}
		if text := packs.Bounded(string(r.Output)); text != "" && len(text) <= room {
			room -= len(text)
			if err := outputs.add(number, keyOf[r.ID], packs.Compress([]byte(text))); err != nil {
				return err
			}
		}
	}
	return errors.Join(outputs.flush(), bad.flush())
}

// keepTests adds its moment to each test of a run, and returns the keys of the tests.
func keepTests(tx *sql.Tx, number int64, ran *run.Run) (keys []int64, err error) {
	return putTests(tx, number, ran, func(latest []Moment, r *run.Result) []Moment {
		if r.Entry || ran.Unbuilt(r) {
			return latest // it says nothing about a test
		}
		return append(latest, Moment{r.Outcome, r.Alone(), r.Share})
	})
}

// addTests adds the tests of a run that are not known yet, without a moment, and returns the keys of all.
func addTests(tx *sql.Tx, number int64, ran *run.Run) (keys []int64, err error) {
	return putTests(tx, number, ran, func(latest []Moment, _ *run.Result) []Moment { return latest })
}

// putTests writes the tests of a run with the moments that a function returns, given the latest. It returns the keys of the tests.
func putTests(tx *sql.Tx, number int64, ran *run.Run, moments func(latest []Moment, r *run.Result) []Moment) (keys []int64, err error) {
	greatest, err := greatestKey(tx)
	if err != nil {
		return nil, err
	}
	tests := &table{tx: tx, name: "tests (key, id, recent, last)", columns: 4, behind: "ON CONFLICT (key) DO UPDATE SET recent = excluded.recent, last = excluded.last"}
	keys = make([]int64, 0, len(ran.Results))
	var latest []Moment
	for some := range slices.Chunk(ran.Results, rowsAtOnce) { // the moments of all would take much memory
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
			keys = append(keys, test.key)
			if latest, err = decode(latest[:0], test.recent); err != nil {
				return nil, fmt.Errorf("what is kept of %s: %w", r.ID, err)
			}
			latest = moments(latest, r)
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
