package ledger

import (
	"reflect"
	"testing"

	"fernrelay/core/hunt"
	"fernrelay/core/order"
	"fernrelay/core/run"
)

// TestHunts keeps a hunt that is interrupted and goes on, its finding, and that it is mended.
func TestHunts(t *testing.T) {
	l := open(t, t.TempDir())
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	first, made, err := l.BeginHunt("u:g#v", "before")
	must(err)
	record := hunt.Record{Trial: hunt.Trial{Number: 1, Purpose: hunt.Halve, Sum: "s", Ran: 3, LeftOut: 4, Share: 0.5}, Done: true, Outcome: run.Failed, Seconds: 0.25, Shows: true}
	must(l.KeepTrial(first, record))
	again, reported, err := l.BeginHunt("u:g#v", "before")
	if must(err); again != first || len(made) != 0 || !reflect.DeepEqual(reported, []hunt.Record{record}) {
		t.Errorf("hunt %d goes on as %d with %+v", first, again, reported)
	}
	changed, reported, err := l.BeginHunt("u:g#v", "after")
	if must(err); changed == first || len(reported) != 0 {
		t.Errorf("after a change the hunt goes on as %d with %+v", changed, reported)
	}
	finding := hunt.Finding{ID: "u:g#v", Verdict: hunt.Polluted, Culprits: [][]string{{"u:g#c"}}, Order: []string{"u:g#c", "u:g#v"}, Changed: []hunt.Change{}}
	must(l.EndHunt(changed, finding))
	known := func() []hunt.Saved {
		hunts, err := l.Hunts()
		must(err)
		return hunts
	}
	if got := known(); len(got) != 1 || !got[0].Known() || !reflect.DeepEqual(*got[0].Finding, finding) {
		t.Errorf("known are %+v", got)
	}
	must(l.EndHunt(changed, hunt.Finding{ID: "u:g#v", Verdict: hunt.Flaky}))
	_, err = l.db.Exec(`UPDATE hunts SET finding = replace(finding, '"flaky"', '"unstable"')`) // as earlier versions wrote it
	must(err)
	if got := known(); len(got) != 1 || got[0].Finding.Verdict != hunt.Flaky {
		t.Errorf("of an earlier version, known are %+v", got)
	}
	must(l.Mend(changed))
	if got := known(); got[0].Known() || got[0].Mended.IsZero() {
		t.Errorf("after mending, known are %+v", got)
	}
	if next, _, err := l.BeginHunt("u:g#v", "after"); err != nil || next == changed {
		t.Errorf("a hunt that ended goes on: %v", err)
	}
}

// TestCoverage grows with each run: only pairs of one group in one batch count.
func TestCoverage(t *testing.T) {
	l := open(t, t.TempDir())
	for _, ids := range [][]string{{"u:a#1", "u:a#2", "u:a#3", "u:b#1"}, {"u:a#3", "u:a#2", "u:a#1"}} {
		r := run.New()
		for _, id := range ids {
			r.Apply(run.Event{Event: run.Started, ID: id, Worker: 1, Batch: 1})
			r.Apply(run.Event{Event: run.Finished, ID: id, Worker: 1, Batch: 1, Outcome: run.Passed, Seconds: run.Took(1)})
		}
		if _, err := l.Keep(run.Record{Meta: run.Meta{Workers: 1}}, r); err != nil {
			t.Fatal(err)
		}
	}
	c, err := l.Coverage("u:a")
	if g := c.Of([]string{"1", "2", "3", "4"}); err != nil || g != (order.Gauge{Neighbours: 4, Before: 6, Pairs: 12}) {
		t.Errorf("the gauge is %+v, %v", g, err)
	}
	if c, err := l.Coverage("u:b"); err != nil || len(c.Before) != 0 {
		t.Errorf("of one test there is %+v, %v", c, err)
	}
}
