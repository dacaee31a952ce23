package ledger

import (
	"math/rand/v2"
	"testing"
	"time"

	"fernrelay/core/run"
)

// TestRedate moves runs to random times, and holds that everything in a run moves by the same time and nothing else
// changes, and that the runs are ordered by their new dates.
func TestRedate(t *testing.T) {
	l, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	random := rand.New(rand.NewPCG(7, 7))
	start := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	for n := range 12 {
		ran := run.New()
		at := start.Add(time.Duration(n) * time.Hour)
		ran.Apply(run.Event{Event: run.RunBegins, At: at})
		for range 1 + random.IntN(20) {
			id := string(rune('a' + random.IntN(8)))
			seconds := float64(random.IntN(5000)) / 1000
			at = at.Add(time.Duration(random.IntN(3000)) * time.Millisecond)
			ran.Apply(run.Event{Event: run.Started, At: at, ID: "u:g#" + id, Worker: 1 + random.IntN(3), Batch: 1})
			ran.Apply(run.Event{Event: run.Finished, At: at.Add(time.Duration(seconds * 1e9)), ID: "u:g#" + id, Worker: 1, Batch: 1, Outcome: run.Outcomes[random.IntN(4)], Seconds: &seconds, Failure: run.Failure{Message: "m" + id, Line: n}})
		}
		ran.Apply(run.Event{Event: run.RunEnds, At: at.Add(time.Second)})
		if _, err := l.Keep(run.Record{Meta: run.Meta{Workers: 3, Pick: "p"}}, ran); err != nil {
			t.Fatal(err)
		}
	}
	type kept struct {
		record *run.Record
		ran    *run.Run
	}
	all := func() map[int]kept {
		runs, err := l.List()
		if err != nil {
			t.Fatal(err)
		}
		found := map[int]kept{}
		for _, k := range runs {
			ran, err := l.Results(k)
			if err != nil {
				t.Fatal(err)
			}
			found[k.Number] = kept{k, ran}
		}
		return found
	}
	before := all()
	moved := map[int]time.Duration{}
	for number := range before {
		moved[number] = time.Duration(random.Int64N(int64(1000*time.Hour))).Truncate(time.Millisecond) - 500*time.Hour
	}
	if err := l.Redate(func(k *run.Record) time.Time { return k.Began.Add(moved[k.Number]) }); err != nil {
		t.Fatal(err)
	}
	after := all()
	for number, was := range before {
		now, by := after[number], moved[number]
		if !now.record.Began.Equal(was.record.Began.Add(by)) || !now.record.Ended.Equal(was.record.Ended.Add(by)) || now.record.Work != was.record.Work || now.record.Pick != was.record.Pick {
			t.Errorf("run %d moved by %s is %+v, was %+v", number, by, now.record, was.record)
		}
		if len(now.ran.Results) != len(was.ran.Results) {
			t.Fatalf("run %d has %d results, had %d", number, len(now.ran.Results), len(was.ran.Results))
		}
		for i, r := range now.ran.Results {
			old := was.ran.Results[i]
			if r.ID != old.ID || r.Outcome != old.Outcome || r.Seconds != old.Seconds || r.Message != old.Message || r.Line != old.Line || r.Worker != old.Worker {
				t.Errorf("run %d: %+v was %+v", number, r, old)
			}
			if !r.Started.Equal(old.Started.Add(by)) {
				t.Errorf("run %d: %s started %s, was %s, moved by %s", number, r.ID, r.Started, old.Started, by)
			}
		}
	}
	runs, err := l.List()
	if err != nil {
		t.Fatal(err)
	}
	for i := 1; i < len(runs); i++ {
		if runs[i].Began.Before(runs[i-1].Began) {
			t.Errorf("run %d of %s comes after run %d of %s", runs[i].Number, runs[i].Began, runs[i-1].Number, runs[i-1].Began)
		}
	}
	if err := l.Check(t.Context()); err != nil {
		t.Error(err)
	}
}
