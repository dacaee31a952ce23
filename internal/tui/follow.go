package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/app"
	"fernrelay/internal/fleet"
)

// start runs the request that the live run is of. The command waits for its end.
func start(ctx context.Context, l *liveRun, r *app.App, q app.Request) tea.Cmd {
	ctx, cancel := context.WithCancelCause(ctx)
	q.Control, q.Preparing = &app.Control{}, l.preparing.put
	l.cancel, l.control = cancel, q.Control
	return func() tea.Msg {
		ended := runEndedMsg{run: l}
		planned, _ := r.Planned(q) // here, as it takes longer for a larger suite
		l.plans.put(seconds{planned, r.AloneSeconds(q)})
		_, ended.number, ended.err = r.Run(ctx, q, l.events.put)
		return ended
	}
}

// followRun follows a run that another process does, from its journal. The command
// waits until it is known what the run is to do, and the second one for its end.
func followRun(ctx context.Context, r *app.App, journal string) tea.Cmd {
	return func() tea.Msg {
		found := make(chan tea.Msg, 1)
		ended := make(chan error, 1)
		var live *liveRun
		go func() {
			ended <- r.Follow(ctx, journal, func(f app.Followed) {
				live = newLiveRun(f.Schedule, f.Workers, r.PastOf)
				live.total = f.Tests
				found <- followedMsg{live, func() tea.Msg { return runEndedMsg{run: live, err: <-ended} }}
			}, func(e run.Event) { live.events.put(e) })
		}()
		select {
		case msg := <-found:
			return msg
		case err := <-ended:
			return unfollowedMsg{err}
		}
	}
}

type runEndedMsg struct {
	run    *liveRun
	number int
	err    error
}

// fleetRun names a fleet run to follow.
type fleetRun struct {
	station  fleet.Options
	id       string
	followed bool // until its end
}

// followFleet follows a fleet run. The command waits until it is known what the run is to do, and the second one for its end,
// when the run is brought into the ledger.
func followFleet(ctx context.Context, r *app.App, f *fleetRun) tea.Cmd {
	return func() tea.Msg {
		found := make(chan tea.Msg, 1)
		ended := make(chan runEndedMsg, 1)
		go func() {
			var live *liveRun
			number, err := r.WatchFleet(ctx, f.station, f.id, fleet.Follower{
				Begins: func(_ *fleet.Manifest, s *schedule.Schedule) {
					live = newLiveRun(s, 0, r.PastOf)
					live.processors = 0 // of several machines: what they do shows how fast they are
					live.fleet = &liveFleet{id: f.id, gone: map[string]*returned{}, backFrom: map[int]string{}}
					found <- followedMsg{live, func() tea.Msg { return <-ended }}
				},
				Event:    func(e run.Event) { live.events.put(e) },
				Machines: func(machines []fleet.MachineStatus) { live.fleet.updates.put(machines) },
			})
			ended <- runEndedMsg{run: live, number: number, err: err}
		}()
		select {
		case msg := <-found:
			return msg
		case msg := <-ended:
			return unfollowedMsg{msg.err}
		}
	}
}

type (
	// followedMsg brings a run that another process does. The command waits for its end.
	followedMsg struct {
		run  *liveRun
		wait tea.Cmd
	}
	// unfollowedMsg says why a run of another process cannot be followed.
	unfollowedMsg struct{ err error }
)
