package progress

import (
	"errors"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/order"
)

// TestSearchFollows takes the steps of a search: the orders, a victim that it finds, and how far its hunt comes. A note stays when
// more is reported, and what ends a hunt with a verdict is no error.
func TestSearchFollows(t *testing.T) {
	s := &Search{Cancel: func() {}}
	s.Steps.Put(SearchStep{Order: 3, Gauge: order.Gauge{Pairs: 12, Neighbours: 7}})
	s.Steps.Put(SearchStep{Victims: []catalog.Test{{ID: "u:g#a"}, {ID: "u:g#b"}}})
	s.Steps.Put(SearchStep{Progress: &hunt.Progress{Victim: "u:g#b", Note: "the state was not read"}})
	s.Steps.Put(SearchStep{Progress: &hunt.Progress{Victim: "u:g#b", Finding: hunt.Finding{Verdict: hunt.Polluted}}})
	s.Steps.Put(SearchStep{Progress: &hunt.Progress{Victim: "u:g#gone"}})
	began := s.Follow()
	if s.Orders != 3 || s.Gauge.Neighbours != 7 || len(began) != 2 || len(s.Hunts) != 2 || s.Follow() != nil {
		t.Fatalf("%d orders, %+v, %d hunts began of %d", s.Orders, s.Gauge, len(began), len(s.Hunts))
	}
	a, b := s.Hunts[0], s.Hunts[1]
	if b.Progress.Note != "the state was not read" || b.Progress.Finding.Verdict != hunt.Polluted || a.Progress.Note != "" {
		t.Errorf("the hunts have come to %+v and %+v", a.Progress, b.Progress)
	}
	stopped := errors.New("stopped")
	a.End(stopped)
	b.End(stopped)
	if a.Err != stopped || b.Err != nil || !a.Ended || !b.Ended {
		t.Errorf("the hunts ended with %v and %v; want an error of the one without a verdict", a.Err, b.Err)
	}
}
