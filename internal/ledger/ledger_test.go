package ledger

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fernrelay/core/run"
)

func open(t *testing.T, dir string) *Ledger {
	t.Helper()
	l, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// runOf makes a run with these outcomes by ID, each of so many seconds.
func runOf(seconds float64, results ...string) *run.Run {
	r := run.New()
	at := time.UnixMilli(1_700_000_000_000)
	r.Apply(run.Event{Event: run.RunBegins, At: at})
	for i, text := range results {
		id, o, _ := strings.Cut(text, " ")
		at = at.Add(time.Duration(seconds * float64(time.Second)))
		if run.Outcome(o) != run.Lost {
			r.Apply(run.Event{Event: run.Started, ID: id, Worker: 1 + i%2, Batch: i + 1, At: at.Add(-time.Duration(seconds * float64(time.Second)))})
		}
		r.Apply(run.Event{Event: run.Finished, ID: id, Outcome: run.Outcome(o), Seconds: run.Took(seconds), At: at,
			Failure: run.Failure{Message: "m" + id, File: "f.go", Line: i, Expected: "1", Actual: "2"}})
	}
	r.Apply(run.Event{Event: run.RunEnds, At: at})
	return r
}

func TestKeepAndLast(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a b#c%3f?&d")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	l := open(t, dir)
	if _, _, err := l.Last(); !errors.Is(err, run.ErrNoRecord) {
		t.Errorf("an empty ledger gives %v", err)
	}
	first := runOf(1, "a passed", "b failed", "c passed")
	second := runOf(2, "c timed-out", "a passed", "d lost")
	for i, r := range []*run.Run{first, second} {
		if n, err := l.Keep(run.Record{Meta: run.Meta{Pick: fmt.Sprint("pick", i), Workers: 2}}, r); n != i+1 || err != nil {
			t.Fatalf("kept as %d, %v", n, err)
		}
	}
	l = open(t, dir) // as another process would
	record, got, err := l.Last()
	if err != nil || record.Number != 2 || record.Pick != "pick1" || record.Workers != 2 {
		t.Fatalf("the last is %+v, %v", record, err)
	}
	for i, want := range second.Results {
		want.Started, want.Ended = want.Started.Local(), want.Ended.Local()
		if g := *got.Results[i]; !reflect.DeepEqual(g, *want) && want.Outcome != run.Lost {
			t.Errorf("kept %+v, got back %+v", *want, g)
		}
	}
	if !got.Started.Equal(second.Started) || !got.Ended.Equal(second.Ended) || got.Counts[run.Lost] != 1 {
		t.Errorf("got back %s from %s to %s", got.Summary(), got.Started, got.Ended)
	}
	if bad, err := l.LastBad("b"); err != nil || bad.Number != 1 {
		t.Errorf("b was last bad in %+v, %v", bad, err)
	}
	if _, err := l.LastBad("a"); !errors.Is(err, run.ErrNoRecord) {
		t.Errorf("a was never bad: %v", err)
	}
	recent, err := recentOf(l)
	want := map[string][]Moment{"a": {{run.Passed, 1, 0}, {run.Passed, 2, 0}}, "b": {{run.Failed, 1, 0}},
		"c": {{run.Passed, 1, 0}, {run.TimedOut, 2, 0}}, "d": {{run.Lost, 2, 0}}}
	if err != nil || !reflect.DeepEqual(recent, want) {
		t.Errorf("lately came %v, %v; want %v", recent, err, want)
	}
	companies := func(id string, ownBatch bool, most int) []Company {
		t.Helper()
		all, err := l.Companies([]string{id, "d"}, ownBatch, most)
		if err != nil {
			t.Fatal(err)
		}
		return all[id]
	}
	if got := companies("c", false, 9); len(got) != 2 || got[0].Outcome != run.TimedOut || got[0].Before != nil ||
		got[1].Outcome != run.Passed || !slices.Equal(got[1].Before, []string{"a"}) || got[1].Began.IsZero() {
		t.Errorf("the companies of c are %v", got)
	}
	if own := companies("c", true, 9); len(own) != 2 || own[1].Before != nil {
		t.Errorf("the companies of c in its own batch are %v", own)
	}
	if latest := companies("c", false, 1); len(latest) != 1 || latest[0].Outcome != run.TimedOut {
		t.Errorf("the latest company of c is %v", latest)
	}
	if none := companies("nobody", false, 9); none != nil {
		t.Errorf("the companies of nobody are %v", none)
	}
	for range 2 * recentKept {
		if _, err := l.Keep(run.Record{Meta: run.Meta{Workers: 1}}, runOf(0.25, "a passed")); err != nil {
			t.Fatal(err)
		}
	}
	if recent, err := recentOf(l); err != nil || len(recent["a"]) != recentKept || len(recent["b"]) != 1 {
		t.Errorf("%d moments of a are kept, %v", len(recent["a"]), err)
	}
}

// TestManyAtOnce keeps runs from several ledgers on one file at the same time.
func TestManyAtOnce(t *testing.T) {
	dir := t.TempDir()
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			l, err := Open(dir)
			if err != nil {
				t.Error(err)
				return
			}
			defer l.Close()
			for range 10 {
				if _, err := l.Keep(run.Record{Meta: run.Meta{Workers: 1}}, runOf(1, "a passed", "b failed")); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	if n, err := open(t, dir).Runs(); n != 40 || err != nil {
		t.Errorf("%d runs are kept, %v", n, err)
	}
}

func TestUnreadable(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "ledger.db"), []byte(strings.Repeat("not a database", 1000)), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); !Damaged(err) || !strings.Contains(err.Error(), "ledger.db") {
		t.Errorf("a damaged file gives %v", err)
	}
	note, err := SetAside(t.Context(), dir, errDamaged)
	if again, errAgain := SetAside(t.Context(), dir, errDamaged); note == "" || again != "" || err != nil || errAgain != nil {
		t.Errorf("set aside: %q, and then %q, %v, %v", note, again, err, errAgain)
	}
	aside, _ := filepath.Glob(filepath.Join(dir, "ledger-damaged-*.db"))
	if len(aside) != 1 || !strings.Contains(note, aside[0]) {
		t.Fatalf("%q names none of %q", note, aside)
	}
	if data, err := os.ReadFile(aside[0]); err != nil || !strings.HasPrefix(string(data), "not a database") {
		t.Errorf("%s holds %.20q, %v", aside[0], data, err)
	}
	if n, err := open(t, dir).Runs(); n != 0 || err != nil {
		t.Errorf("the new one has %d runs, %v", n, err)
	}
	newer := t.TempDir()
	l := open(t, newer)
	if _, err := l.db.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(newer); err == nil || !strings.Contains(err.Error(), "version 99") {
		t.Errorf("a newer file gives %v", err)
	}
}

func everyTest(string) bool { return true }

// recentOf returns what the ledger keeps of every test, by ID.
func recentOf(l *Ledger) (map[string][]Moment, error) {
	found := map[string][]Moment{}
	type test struct {
		id      string
		moments []Moment
	}
	return found, recent(l, everyTest, func(id string, moments []Moment) test { return test{id, slices.Clone(moments)} }, func(t test) { found[t.id] = t.moments })
}

// BenchmarkRecent opens the past of 20,000 tests with 20 runs each.
func BenchmarkRecent(b *testing.B) {
	l, err := Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	results := make([]string, 20_000)
	for i := range results {
		results[i] = fmt.Sprint("suite:group#test", i, " passed")
	}
	for range recentKept {
		if _, err := l.Keep(run.Record{Meta: run.Meta{Workers: 1}}, runOf(1, results...)); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		if _, err := recentOf(l); err != nil {
			b.Fatal(err)
		}
	}
}

// TestMigration opens a ledger that an earlier version wrote: its runs are there,
// and what they report setups.
func TestMigration(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	first, start := run.New(), time.UnixMilli(1_700_000_000_000)
	first.Apply(run.Event{Event: run.RunBegins, At: start})
	for i, id := range []string{"u:a#1", "u:b#1", "u:b#2", "u:c#1"} {
		at := start.Add(time.Duration(i) * 2 * time.Second)
		first.Apply(run.Event{Event: run.Started, ID: id, Worker: 1, Batch: max(1, i), At: at})
		first.Apply(run.Event{Event: run.Finished, ID: id, Worker: 1, Batch: max(1, i), Outcome: run.Passed, Seconds: run.Took(1.5), At: at.Add(1500 * time.Millisecond)})
	}
	first.Apply(run.Event{Event: run.RunEnds, At: start.Add(8 * time.Second)})
	for range 2 {
		if _, err := l.Keep(run.Record{Meta: run.Meta{Workers: 1}}, first); err != nil {
			t.Fatal(err)
		}
	}
	want, err := l.Setups()
	if err != nil || len(want["u:b"]) != 2 || want["u:c"][0] != 0.5 || want["u:a"] != nil {
		t.Fatalf("the setups are %v, %v", want, err)
	}
	dir = t.TempDir()
	early, err := connect(filepath.Join(dir, FileName), toWrite)
	if err != nil {
		t.Fatal(err)
	}
	statements := firstSchema + "PRAGMA user_version = 1;"
	for i, r := range first.Results {
		statements += fmt.Sprintf("INSERT INTO tests (key, id) VALUES (%d, '%s');", i+1, r.ID)
	}
	for number := 1; number <= 2; number++ {
		statements += fmt.Sprintf("INSERT INTO runs VALUES (%d, %d, %d, 'quick', 1);", number, start.UnixMilli(), first.Ended.UnixMilli())
		for i, r := range first.Results {
			statements += fmt.Sprintf("INSERT INTO results VALUES (%d, %d, %d, 1, %d, %d, 'passed', 1.5, '', 'a.go', 3, '', '');", number, i+1, i, r.Batch, r.Started.UnixMilli())
		}
	}
	if _, err := early.db.Exec(statements); err != nil {
		t.Fatal(err)
	}
	_ = early.Close()
	l = open(t, dir)
	if got, err := l.Setups(); err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("after the migration the setups are %v, %v; want %v", got, err, want)
	}
	if record, ran, err := l.Last(); err != nil || record.Number != 2 || len(ran.Results) != 4 || record.Pick != "quick" || record.Work != 6 || record.Counts[run.Passed] != 4 || ran.Result("u:b#2").Line != 3 {
		t.Errorf("after the migration the last run is %+v, %v", record, err)
	}
}
