package watch

import (
	"context"
	"testing"
	"time"

	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
)

// TestRunGoesOnOutOfSight shows a crossing's run while another run goes on: that one is followed to its end all the same, the leg is
// busy until it is kept, and what cancels the leg cancels it.
func TestRunGoesOnOutOfSight(t *testing.T) {
	var v *View
	legtest.New(t, legtest.Made(3, 2, 2), func(s *leg.Session) leg.Leg {
		v = New(s)
		return v
	})
	made := func(cancel context.CancelCauseFunc) *progress.Run {
		r := progress.New(schedule.Of(nil, nil), 1, func(string) []run.Outcome { return nil })
		r.Cancel = cancel
		return r
	}
	canceled := false
	goesOn, crossing := made(func(error) { canceled = true }), made(nil)
	v.Show(goesOn)
	crossing.Ended = true
	v.Show(crossing)
	if !v.Busy() {
		t.Error("while a run goes on out of sight the leg is not busy")
	}
	whole := make(chan *run.Run)
	go func() { whole <- goesOn.Whole() }()
	goesOn.Events.Put(run.Event{Event: run.Finished, ID: "u:g#a", Outcome: run.Passed})
	goesOn.Events.Put(run.Event{Event: run.RunEnds})
	v.Follow(time.Now())
	if r := <-whole; r.Done() != 1 {
		t.Errorf("the run that is not shown has %d outcomes", r.Done())
	}
	if v.Cancel(); !canceled || !v.Busy() {
		t.Errorf("before it is kept: canceled %v, busy %v", canceled, v.Busy())
	}
	goesOn.Number = 7
	if v.Follow(time.Now()); v.Busy() || v.Run != crossing {
		t.Errorf("once it is kept the leg is busy: %v", v.Busy())
	}
}
