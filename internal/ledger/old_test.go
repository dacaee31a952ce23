package ledger

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/core/run"
)

// TestOldLedgers opens ledgers that earlier versions wrote: three runs each, of which the second has a failure.
func TestOldLedgers(t *testing.T) {
	for version := 1; version < len(migrations); version++ {
		store := filepath.Join(t.TempDir(), ".fern")
		copyLedger(t, fmt.Sprintf("testdata/schema%d.db", version), store)
		l, err := Open(store)
		if err != nil {
			t.Fatalf("schema %d: %v", version, err)
		}
		defer l.Close()
		runs, err := l.List()
		if err != nil || len(runs) != 3 {
			t.Fatalf("schema %d: %d runs, %v", version, len(runs), err)
		}
		_, ran, err := l.Run(2)
		if err != nil {
			t.Fatalf("schema %d: %v", version, err)
		}
		r := ran.Result("go:.#TestFrost")
		if r == nil || r.Outcome != run.Failed || r.Message != "got 3, want 4" || r.File != "beds_test.go" || r.Line != 9 || ran.Counts[run.Skipped] != 1 {
			t.Errorf("schema %d: %+v of %+v", version, r, ran.Counts)
		}
		if err := l.Check(t.Context()); err != nil {
			t.Errorf("schema %d: %v", version, err)
		}
		fresh := run.New()
		fresh.Apply(run.Event{Event: run.RunBegins, At: time.Now()})
		fresh.Apply(run.Event{Event: run.Finished, At: time.Now(), ID: "go:.#TestFrost", Outcome: run.Passed})
		if number, err := l.Keep(run.Record{}, fresh); err != nil || number != 4 {
			t.Errorf("schema %d: another run is kept as %d, %v", version, number, err)
		}
	}
}

func copyLedger(t *testing.T, from, store string) {
	t.Helper()
	data, err := os.ReadFile(from)
	if err == nil {
		err = os.MkdirAll(store, 0o755)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(store, FileName), data, 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestDamagedLedgers holds that whatever stands in the ledger's place is recognized, described without
// the words of the database, and put aside.
func TestDamagedLedgers(t *testing.T) {
	execute := func(statements string) func(t *testing.T, path string) {
		return func(t *testing.T, path string) {
			db, err := sql.Open("sqlite", path)
			if err == nil {
				_, err = db.Exec(statements)
			}
			if err != nil {
				t.Fatal(err)
			}
			db.Close()
		}
	}
	write := func(data string) func(t *testing.T, path string) {
		return func(t *testing.T, path string) {
			_ = os.Remove(path)
			if err := os.WriteFile(path, []byte(data), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	for name, c := range map[string]struct {
		damage func(t *testing.T, path string)
		reason string
	}{
		"cut to nothing": {write(""), "it is empty"},
		"a text":         {write(strings.Repeat("no database\n", 1000)), "it is no database"},
		"a folder": {func(t *testing.T, path string) {
			_ = os.Remove(path)
			if err := os.MkdirAll(path+"/in", 0o755); err != nil {
				t.Fatal(err)
			}
		}, "it is not a file"},
		"a database of others": {func(t *testing.T, path string) {
			write("")(t, path)
			execute("CREATE TABLE runs (x); PRAGMA user_version = 0")(t, path)
		}, "it is a database of another program"},
		"one with our version": {func(t *testing.T, path string) {
			write("")(t, path)
			execute("CREATE TABLE songs (x); PRAGMA user_version = 4")(t, path)
		}, "it is a database of another program, or parts of it are missing"},
		"a negative version":       {execute("PRAGMA user_version = -3"), "its version is -3"},
		"a missing table":          {execute("DROP TABLE packs"), "it is a database of another program, or parts of it are missing"},
		"other columns":            {execute("ALTER TABLE tests RENAME COLUMN recent TO lately"), "it is a database of another program, or parts of it are missing"},
		"other types":              {execute("UPDATE runs SET began = 'soon'"), "parts of it are overwritten"},
		"bytes in what is kept":    {execute("UPDATE packs SET brief = randomblob(200)"), "parts of it are overwritten"},
		"bytes in the other half":  {execute("UPDATE packs SET rest = randomblob(200)"), "parts of it are overwritten"},
		"bytes in what tests were": {execute("UPDATE tests SET recent = 'passed x'"), "parts of it are overwritten"},
	} {
		t.Run(name, func(t *testing.T) {
			store := filepath.Join(t.TempDir(), ".fern")
			copyLedger(t, "testdata/schema4.db", store)
			c.damage(t, filepath.Join(store, FileName))
			l, err := Open(store)
			if err == nil {
				err = l.Check(t.Context())
				l.Close()
			}
			if !Damaged(err) || Reason(err) != c.reason {
				t.Fatalf("the reason is %q of %v, want %q", Reason(err), err, c.reason)
			}
			if note, err := SetAside(t.Context(), store, err); err != nil || note == "" {
				t.Fatalf("set aside: %q, %v", note, err)
			}
			if l, err = Open(store); err != nil {
				t.Fatal(err)
			}
			l.Close()
		})
	}
}

// TestRandomBytes overwrites parts of a ledger at random: everything that reads it returns an error, or not,
// and nothing panics.
func TestRandomBytes(t *testing.T) {
	whole, err := os.ReadFile("testdata/schema4.db")
	if err != nil {
		t.Fatal(err)
	}
	noticed := 0
	for at := 100; at+300 < len(whole); at += 1500 {
		data := append([]byte(nil), whole...)
		for i := range 300 {
			data[at+i] = byte(i*at + 7)
		}
		store := filepath.Join(t.TempDir(), ".fern")
		copyLedger(t, "testdata/schema4.db", store)
		if err := os.WriteFile(filepath.Join(store, FileName), data, 0o644); err != nil {
			t.Fatal(err)
		}
		l, err := Open(store)
		if err == nil {
			err = l.Check(t.Context())
			_, _, _ = l.Last()
			_, _, _ = l.History(10, nil)
			_, _ = l.Companies([]string{"go:.#TestFrost"}, false, 3)
			l.Close()
		}
		if err != nil && !Damaged(err) {
			t.Errorf("bytes at %d: %v", at, err)
		}
		if err != nil {
			noticed++
		}
	}
	if noticed < 5 {
		t.Errorf("only %d damages were noticed", noticed)
	}
}

// TestRunsOfTheFuture holds that a run which cannot have begun yet is never the latest, and that it is
// forgotten like others.
func TestRunsOfTheFuture(t *testing.T) {
	l, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	keep := func(began time.Time) {
		r := run.New()
		r.Apply(run.Event{Event: run.RunBegins, At: began})
		r.Apply(run.Event{Event: run.Finished, At: began, ID: "t", Outcome: run.Passed})
		if _, err := l.Keep(run.Record{}, r); err != nil {
			t.Fatal(err)
		}
	}
	now := time.Now()
	keep(now.AddDate(0, 0, -20))
	keep(now.AddDate(5, 0, 0))
	keep(now)
	keep(now.AddDate(7, 0, 0))
	runs, err := l.List()
	if err != nil {
		t.Fatal(err)
	}
	var order []int
	for _, k := range runs {
		order = append(order, k.Number)
	}
	if last, _, err := l.Last(); err != nil || last.Number != 3 || fmt.Sprint(order) != "[2 1 4 3]" {
		t.Errorf("the latest is %+v, the order %v, %v", last, order, err)
	}
	if n, err := l.Forget(0, 10, now); err != nil || n != 2 {
		t.Errorf("%d runs are forgotten, %v", n, err)
	}
	if n, err := l.Forget(1, 0, now); err != nil || n != 1 {
		t.Errorf("then %d, %v", n, err)
	}
}
