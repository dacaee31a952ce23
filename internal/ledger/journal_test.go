package ledger

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/run"
)

// TestFollow reads along while a run is written down: its task, its events, the output
// of what failed, and its end; then it is no more found.
func TestFollow(t *testing.T) {
	store := t.TempDir()
	if name, err := Running(store); name != "" || err != nil {
		t.Fatalf("running is %q, %v", name, err)
	}
	task := Task{PID: os.Getpid(), Meta: run.Meta{Pick: "wet", Workers: 2}, Tests: []string{"u:g#a", "u:g#b"}, Batches: []TaskBatch{{Worker: 1, Tests: []int{1, 0}}}}
	j, err := BeginJournal(store, task)
	if err != nil {
		t.Fatal(err)
	}
	name, err := Running(store)
	if err != nil || name == "" {
		t.Fatalf("running is %q, %v", name, err)
	}
	var reported []string
	var heard Task
	followed := make(chan error)
	r := run.New()
	seen := make(chan string, 100)
	go func() {
		followed <- Follow(context.Background(), name, func(task Task) { heard = task }, func(e run.Event) {
			r.Apply(e)
			reported = append(reported, strings.TrimSpace(string(e.Event)+" "+e.ID))
			seen <- reported[len(reported)-1]
		})
	}()
	wait := func(want string) {
		t.Helper()
		for {
			select {
			case got := <-seen:
				if got == want {
					return
				}
			case <-time.After(10 * time.Second):
				t.Fatalf("%q was never reported, but %v", want, reported)
			}
		}
	}
	failed := run.Event{Event: run.Finished, ID: "u:g#a", Outcome: run.Failed, Failure: run.Failure{Message: "leaks"}, Worker: 1, Batch: 1}
	j.Write(run.Event{Event: run.RunBegins})
	j.Write(run.Event{Event: run.Started, ID: "u:g#a"})
	j.Write(run.Event{Event: run.Output, ID: "u:g#a", Text: "water\n"})
	wait("started u:g#a")
	j.Write(failed)
	wait("finished u:g#a")
	j.Write(run.Event{Event: run.RunEnds})
	if err := j.End(); err != nil {
		t.Fatal(err)
	}
	if err := <-followed; err != nil {
		t.Fatal(err)
	}
	want := []string{"run", "started u:g#a", "output u:g#a", "finished u:g#a", "end"}
	if !slices.Equal(reported, want) || heard.Pick != "wet" || len(heard.Batches) != 1 || heard.Batches[0].Tests[0] != 1 || string(r.Result("u:g#a").Output) != "water\n" {
		t.Errorf("reported %v of %+v, want %v", reported, heard, want)
	}
	if name, err := Running(store); name != "" || err != nil {
		t.Errorf("afterwards running is %q, %v", name, err)
	}
}

// TestFollowKilled ends a run that is followed when its process is gone, and gives up
// when its context ends.
func TestFollowKilled(t *testing.T) {
	store := t.TempDir()
	j, err := BeginJournal(store, Task{Tests: []string{"u:g#a"}})
	if err != nil {
		t.Fatal(err)
	}
	name, err := Running(store)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer cancel()
	if err := Follow(ctx, name, func(Task) {}, func(run.Event) {}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a run that goes on is followed to %v", err)
	}
	j.Write(run.Event{Event: run.Started, ID: "u:g#a"})
	_ = j.lines.Close()
	_ = j.file.Close() // as when its process dies
	var last run.Event
	if err := Follow(context.Background(), name, func(Task) {}, func(e run.Event) { last = e }); err != nil || last.Event != run.RunEnds || last.Message == "" {
		t.Errorf("it ends with %+v, %v", last, err)
	}
	if err := os.WriteFile(name, []byte("no task\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := Follow(context.Background(), name, func(Task) {}, func(run.Event) {}); err == nil || !strings.Contains(err.Error(), name) {
		t.Errorf("a broken journal: %v", err)
	}
}

// TestFloodsGo holds that the output of a run stays until the next run begins, and no
// longer.
func TestFloodsGo(t *testing.T) {
	store := t.TempDir()
	first, err := BeginJournal(store, Task{})
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.MkdirAll(first.Floods(), 0o755), os.WriteFile(filepath.Join(first.Floods(), "output.txt"), nil, 0o644)); err != nil {
		t.Fatal(err)
	}
	beside, err := BeginJournal(store, Task{}) // at the same time
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(first.Floods()); err != nil {
		t.Errorf("the output of a run that goes on is gone: %v", err)
	}
	if err := errors.Join(first.End(), beside.End()); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(first.Floods()); err != nil {
		t.Errorf("the output is gone with its run: %v", err)
	}
	if _, err := BeginJournal(store, Task{}); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(first.Floods()); err == nil {
		t.Error("the output outlives the next run's beginning")
	}
}

// TestMakeRoom holds that a full disk gets room from what runs left that could not be kept, and that
// their outcomes stay.
func TestMakeRoom(t *testing.T) {
	store := t.TempDir()
	j, err := BeginJournal(store, Task{Tests: []string{"u:a#1", "u:a#2"}})
	if err != nil {
		t.Fatal(err)
	}
	ran := run.New()
	report := func(e run.Event) {
		j.Write(e)
		ran.Apply(e)
	}
	report(run.Event{Event: run.RunBegins, At: time.Now(), Format: run.Format})
	for range 5000 {
		report(run.Event{Event: run.StepDone, ID: "u:a#1", Step: "a step", Outcome: run.Passed})
	}
	report(run.Event{Event: run.Finished, ID: "u:a#1", Outcome: run.Failed, Failure: run.Failure{Message: "leaks"}, At: time.Now()})
	report(run.Event{Event: run.Finished, ID: "u:a#2", Outcome: run.Passed, At: time.Now()})
	if err := os.MkdirAll(j.Floods(), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(j.Floods(), "output-1.txt"), make([]byte, 1000), 0o644); err != nil {
		t.Fatal(err)
	}
	if freed := MakeRoom(store); freed != 0 {
		t.Errorf("%d bytes are taken from a run that goes on", freed)
	}
	if err := j.Leave(ran); err != nil {
		t.Fatal(err)
	}
	if freed := MakeRoom(store); freed < 300_000 {
		t.Errorf("%d bytes are freed", freed)
	}
	l := open(t, store)
	k, number, err := l.Killed(store)
	if err != nil || k == nil || number != 1 {
		t.Fatalf("kept is %+v as %d, %v", k, number, err)
	}
	if r := k.Run.Result("u:a#1"); k.Run.Done() != 2 || r.Outcome != run.Failed || r.Message != "leaks" {
		t.Errorf("kept are %d outcomes, the first %+v", k.Run.Done(), r)
	}
	var none *Journal
	none.Write(run.Event{Event: run.Finished})
	if err := errors.Join(none.Leave(ran), none.End()); err != nil || none.Name()+none.Floods() != "" {
		t.Errorf("no journal is %q, %v", none.Name(), err)
	}
}
