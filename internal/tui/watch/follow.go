package watch

import (
	"context"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/app"
	"fernrelay/internal/fleet"
	"fernrelay/internal/progress"
)

// Start runs the request that the live run is of. The command waits for its end.
func Start(ctx context.Context, l *progress.Run, r *app.App, q app.Request) tea.Cmd {
	ctx, cancel := context.WithCancelCause(ctx)
	q.Control, q.Preparing, q.Whole = &app.Control{}, l.Preparing.Put, l.Whole
	l.Cancel, l.Control = cancel, q.Control
	return func() tea.Msg {
		ended := RunEndedMsg{Run: l}
		planned, _ := r.Planned(q) // here, as it takes longer for a larger suite
		l.Plans.Put(progress.Seconds{Planned: planned, Alone: r.AloneSeconds(q)})
		_, ended.Number, ended.Err = r.Run(ctx, q, l.Events.Put)
		return ended
	}
}

// FollowRun follows a run that another process does, from its journal. The command
// waits until it is known what the run is to do, and the second one for its end.
func FollowRun(ctx context.Context, r *app.App, journal string) tea.Cmd {
	return func() tea.Msg {
		found := make(chan tea.Msg, 1)
		ended := make(chan error, 1)
		var live *progress.Run
		go func() {
			ended <- r.Follow(ctx, journal, func(f app.Followed) {
				live = progress.New(f.Schedule, f.Workers, r.PastOf)
				live.Total = f.Tests
				found <- FollowedMsg{live, func() tea.Msg { return RunEndedMsg{Run: live, Err: <-ended} }}
			}, func(e run.Event) { live.Events.Put(e) })
		}()
		select {
		case msg := <-found:
			return msg
		case err := <-ended:
			return UnfollowedMsg{err}
		}
	}
}

// RunEndedMsg says that a run has ended, its number in the ledger, and why it is not kept.
type RunEndedMsg struct {
	Run    *progress.Run
	Number int
	Err    error
}

// FleetRun names a fleet run to follow.
type FleetRun struct {
	Station  fleet.Options
	ID       string
	Followed bool // until its end
}

// FollowFleet follows a fleet run. The command waits until it is known what the run is to do, and the second one for its end,
// when the run is brought into the ledger.
func FollowFleet(ctx context.Context, r *app.App, f *FleetRun) tea.Cmd {
	return func() tea.Msg {
		found := make(chan tea.Msg, 1)
		ended := make(chan RunEndedMsg, 1)
		go func() {
			var live *progress.Run
			number, err := r.WatchFleet(ctx, f.Station, f.ID, fleet.Follower{
				Begins: func(_ *fleet.Manifest, s *schedule.Schedule) {
					live = progress.NewFleet(f.ID, s, r.PastOf)
					found <- FollowedMsg{live, func() tea.Msg { return <-ended }}
				},
				Event:    func(e run.Event) { live.Events.Put(e) },
				Machines: func(machines []fleet.MachineStatus) { live.Fleet.Updates.Put(machines) },
			})
			ended <- RunEndedMsg{Run: live, Number: number, Err: err}
		}()
		select {
		case msg := <-found:
			return msg
		case msg := <-ended:
			return UnfollowedMsg{msg.Err}
		}
	}
}

type (
	// FollowedMsg brings a run that another process does. The command waits for its end.
	FollowedMsg struct {
		Run  *progress.Run
		Wait tea.Cmd
	}
	// UnfollowedMsg says why a run of another process cannot be followed.
	UnfollowedMsg struct{ Err error }
)

// Busy reports whether a run of this process goes on, or is not kept yet, or one of another process goes on.
func (v *View) Busy() bool { return v.Going() != nil }

// Going returns the run that keeps the leg busy, nil if none does. It need not be the one that is shown.
func (v *View) Going() *progress.Run {
	for _, r := range append([]*progress.Run{v.Run}, v.behind...) {
		if r != nil && isBusy(r) {
			return r
		}
	}
	return nil
}

func isBusy(r *progress.Run) bool {
	return !(r.Ended && (r.Number > 0 || r.Err != nil || r.Cancel == nil))
}

// Follow takes what happened in the run since the last frame.
func (v *View) Follow(now time.Time) tea.Cmd {
	if v.Run != nil {
		v.Run.Follow(now)
	}
	for _, r := range v.behind {
		r.Follow(now)
	}
	v.behind = slices.DeleteFunc(v.behind, func(r *progress.Run) bool { return !isBusy(r) })
	return nil
}

// Cancel ends the runs at once, unless another process does them.
func (v *View) Cancel() {
	for _, r := range append(v.behind, v.Run) {
		if r != nil && r.Cancel != nil {
			r.Cancel(nil)
		}
	}
}
