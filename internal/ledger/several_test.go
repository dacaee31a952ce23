package ledger

import (
	"bufio"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"fernrelay/core/run"
)

// writerFolder names the store to which this test program adds runs when it is started again
// as a writer.
const writerFolder = "FERN_LEDGER_WRITER"

func TestMain(m *testing.M) {
	if store := os.Getenv(writerFolder); store != "" {
		writeRuns(store)
		return
	}
	os.Exit(m.Run())
}

// writeRuns keeps runs, and reports the number of each once it is kept, until it is killed.
func writeRuns(store string) {
	l, err := Open(store)
	if err != nil {
		fmt.Println(err)
		return
	}
	for {
		number, err := l.Keep(run.Record{Meta: run.Meta{Workers: 2}}, runOf(0.01, "u:a#1 passed", "u:a#2 failed", "u:b#1 passed", fmt.Sprint("u:b#", rand.IntN(50), " passed")))
		if err != nil {
			fmt.Println(err)
			return
		}
		fmt.Println(number)
	}
}

// TestWritersAreKilled has two processes add 500 runs each to a ledger at once, one of them
// killed again and again. Whatever was reported to be kept is there, whole, and nothing else is
// half there.
func TestWritersAreKilled(t *testing.T) {
	t.Parallel()
	const runs = 500
	store := t.TempDir()
	var mu sync.Mutex
	reported := map[int]bool{}
	// writer starts a process that adds so many runs, unless it is killed before.
	writer := func(most int, patience func() time.Duration) (n int) {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), writerFolder+"="+store)
		out, err := cmd.StdoutPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			t.Error(err)
			return most
		}
		if patience != nil {
			defer time.AfterFunc(patience(), func() { _ = cmd.Process.Kill() }).Stop()
		}
		for lines := bufio.NewScanner(out); n < most && lines.Scan(); n++ {
			var number int
			if _, err := fmt.Sscan(lines.Text(), &number); err != nil {
				t.Errorf("a writer says %q", lines.Text())
			}
			mu.Lock()
			reported[number] = true
			mu.Unlock()
		}
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		return n
	}
	var both sync.WaitGroup
	both.Go(func() { writer(runs, nil) })
	both.Go(func() {
		kills := 0
		for n := 0; n < runs; kills++ {
			n += writer(runs-n, func() time.Duration { return time.Duration(15+rand.IntN(80)) * time.Millisecond })
		}
		t.Logf("killed %d times", kills)
	})
	both.Wait()
	l := open(t, store)
	if err := l.Check(t.Context()); err != nil {
		t.Errorf("the ledger is not whole: %v", err)
	}
	records, err := l.List()
	if err != nil || len(records) < 2*runs || len(reported) != 2*runs {
		t.Fatalf("%d runs are kept, %d reported, %v", len(records), len(reported), err)
	}
	for _, k := range records {
		delete(reported, k.Number)
		results, err := l.Results(k)
		if err != nil || len(results.Results) < 3 || k.Tests() != len(results.Results) || results.Counts[run.Failed] != 1 {
			t.Fatalf("run %d is half there: %+v, %v", k.Number, k, err)
		}
	}
	if len(reported) > 0 {
		t.Errorf("lost are %v", reported)
	}
}

// TestFullDisk keeps a run where there is no room: it is reported, what was kept stays, and once
// there is room the next run is kept.
func TestFullDisk(t *testing.T) {
	l := open(t, t.TempDir())
	l.db.SetMaxOpenConns(1) // as the limit is one connection's
	if _, err := l.Keep(run.Record{}, runOf(1, "u:a#1 passed")); err != nil {
		t.Fatal(err)
	}
	var pages int
	if err := l.db.QueryRow("PRAGMA page_count").Scan(&pages); err != nil {
		t.Fatal(err)
	}
	if _, err := l.db.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages+1)); err != nil {
		t.Fatal(err)
	}
	large := runOf(1)
	for i := range 2000 {
		large.Apply(run.Event{Event: run.Finished, ID: fmt.Sprintf("u:a#%d-%d", i, rand.Int()), Outcome: run.Passed})
	}
	if number, err := l.Keep(run.Record{}, large); err == nil || Damaged(err) {
		t.Errorf("on a full disk the run is kept as %d, %v", number, err)
	}
	if n, err := l.Runs(); n != 1 || err != nil {
		t.Errorf("%d runs are kept, %v", n, err)
	}
	if _, err := l.db.Exec("PRAGMA max_page_count = 1000000"); err != nil {
		t.Fatal(err)
	}
	if number, err := l.Keep(run.Record{}, large); err != nil || number != 2 {
		t.Errorf("with room again it is kept as %d, %v", number, err)
	}
}

// TestDamaged damages a page in the middle of the file, as a failing disk does, and begins anew.
func TestDamaged(t *testing.T) {
	store := t.TempDir()
	l := open(t, store)
	for range 50 {
		if _, err := l.Keep(run.Record{}, runOf(1, "u:a#1 passed", "u:a#2 failed")); err != nil {
			t.Fatal(err)
		}
	}
	_ = l.Compact()
	_ = l.Close()
	file, err := os.OpenFile(filepath.Join(store, FileName), os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	info, _ := file.Stat()
	for at := int64(4096); at < info.Size(); at += 4096 {
		_, _ = file.WriteAt(make([]byte, 100), at)
	}
	_ = file.Close()
	if l, err = Open(store); err == nil {
		err = l.Probe()
		_ = l.Close()
	}
	if !Damaged(err) {
		t.Fatalf("a damaged file gives %v", err)
	}
	if note, err := SetAside(t.Context(), store, err); err != nil || note == "" {
		t.Errorf("set aside: %q, %v", note, err)
	}
	if n, err := open(t, store).Keep(run.Record{}, runOf(1, "u:a#1 passed")); n != 1 || err != nil {
		t.Errorf("the new one keeps its first run as %d, %v", n, err)
	}
}

// TestKeptOnce keeps a run twice by its journal, as when a process is killed after its run was
// kept and before the journal was removed.
func TestKeptOnce(t *testing.T) {
	store := t.TempDir()
	l := open(t, store)
	journal, err := BeginJournal(store, Task{Meta: run.Meta{Pick: "quick"}, Tests: []string{"a"}})
	if err != nil {
		t.Fatal(err)
	}
	if n, err := l.Keep(Task{Meta: run.Meta{Pick: "quick"}}.Record(journal.Name()), runOf(1, "a passed")); n != 1 || err != nil {
		t.Fatalf("kept as %d, %v", n, err)
	}
	_ = journal.file.Close() // as the end of the process does
	if killed, _, err := l.Killed(store); killed != nil || err != nil {
		t.Errorf("a run that is kept is reported as killed: %+v, %v", killed, err)
	}
	if n, _ := l.Runs(); n != 1 {
		t.Errorf("it is kept %d times", n)
	}
	if running, err := Running(store); running != "" || err != nil {
		t.Errorf("its journal %s is still there, %v", running, err)
	}
	if _, err := os.Stat(journal.Name()); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("its journal is still there: %v", err)
	}
}

// TestForeign imports runs out of order among runs of ours, and forgets the old ones.
func TestForeign(t *testing.T) {
	l := open(t, t.TempDir())
	at := func(days int, results ...string) *run.Run {
		r := runOf(1, results...)
		r.Started = time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, days)
		r.Ended = r.Started.Add(time.Second)
		return r
	}
	if _, err := l.Keep(run.Record{}, at(10, "a passed", "b passed")); err != nil {
		t.Fatal(err)
	}
	into := l.NewImporter()
	err := into.Add([]Foreign{
		{run.Record{Imported: "five.xml"}, at(5, "a failed", "c skipped"), []File{{"5", "five.xml"}}},
		{run.Record{Imported: "two.xml"}, at(2, "a failed", "b timed-out"), []File{{"2", "two.xml"}}},
	})
	if err == nil {
		err = into.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := into.Add([]Foreign{{run.Record{Imported: "again.xml"}, at(3, "a passed"), []File{{"5", "again.xml"}}}}); err == nil {
		t.Error("a file is counted twice")
	}
	recent, err := recentOf(l)
	if got := fmt.Sprint(recent); err != nil || got != "map[a:[{failed 1 0} {failed 1 0} {passed 1 0}] b:[{timed-out 1 0} {passed 1 0}] c:[{skipped 1 0}]]" {
		t.Errorf("lately came %s, %v", got, err)
	}
	runs, h, err := l.History(10, nil)
	if err != nil || len(runs) != 3 || runs[0].Imported != "two.xml" || runs[2].Number != 1 {
		t.Fatalf("the history is of %v, %v", runs, err)
	}
	a, _ := h.Index("a")
	if f := h.Figures()[a]; f.Bad != 2 || f.LastWell != 2 || f.FirstBad != 0 {
		t.Errorf("the figures of a are %+v", f)
	}
	if _, h, err := l.History(10, runs[1]); err != nil || h.Runs != 2 {
		t.Errorf("up to the second there are %d runs, %v", h.Runs, err)
	}
	if first, err := l.FirstBad("a"); err != nil || first.Imported != "two.xml" {
		t.Errorf("a was bad first in %+v, %v", first, err)
	}
	if well, err := l.LastWell("b", runs[2]); !errors.Is(err, run.ErrNoRecord) {
		t.Errorf("b was well before in %+v, %v", well, err)
	}
	if n, err := l.Forget(0, 6, time.Date(2026, 11, 11, 1, 0, 0, 0, time.UTC)); n != 1 || err != nil {
		t.Errorf("%d runs are forgotten, %v", n, err)
	}
	if n, err := l.Forget(1, 0, time.Now()); n != 1 || err != nil {
		t.Errorf("%d runs are forgotten, %v", n, err)
	}
	if record, left, err := l.Last(); err != nil || record.Number != 1 || left.Result("a") == nil || left.Result("b") == nil {
		t.Errorf("left is %+v, %v", record, err)
	}
	if err := errors.Join(l.Check(t.Context()), l.Compact()); err != nil {
		t.Error(err)
	}
}

// TestBeginnersAreKilled kills processes while they make a ledger. The next one opens what they leave.
func TestBeginnersAreKilled(t *testing.T) {
	t.Parallel()
	for range 60 {
		store := t.TempDir()
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), writerFolder+"="+store)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		for {
			if _, err := os.Stat(filepath.Join(store, "ledger.lock")); err == nil {
				break
			}
		}
		time.Sleep(rand.N(8 * time.Millisecond))
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		open(t, store)
	}
}
