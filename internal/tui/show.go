package tui

import (
	"context"
	"errors"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/internal/app"
	"fernrelay/internal/fleet"
	"fernrelay/internal/processors"
	watchleg "fernrelay/internal/tui/watch"
)

// Run shows the application until it is quit.
func Run(ctx context.Context, r *app.App) error {
	return show(ctx, r, func(*App) {})
}

// Follow shows the application on the runs that other processes do in the project.
func Follow(ctx context.Context, r *app.App) error {
	return show(ctx, r, func(a *App) { a.watch.Follows, a.leg = true, legWatch })
}

// drawsPerSecond is how often a frame that has changed can be drawn: after a key, the next one is at most 8 ms away. What
// runs changes the frame less often, see frameTime.
const drawsPerSecond = 120

func show(ctx context.Context, r *app.App, prepare func(a *App)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a, err := New(ctx, r)
	if err != nil {
		return err
	}
	prepare(a)
	processors.Spare()
	p := tea.NewProgram(a, tea.WithContext(ctx), tea.WithFPS(drawsPerSecond))
	go func() {
		if err := r.Watch(ctx, func(files []string) { p.Send(filesMsg(files)) }); err != nil {
			p.Send(watchedMsg{err})
		}
	}()
	_, err = p.Run()
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		err = ctx.Err()
	}
	a.stop()
	return err
}

// stop ends what still runs and waits for it, so that no process is left.
func (a *App) stop() {
	a.cancelAll()
	ended := make(chan struct{})
	go func() {
		a.jobs.Wait()
		close(ended)
	}()
	patience := time.After(stopPatience)
	for {
		select {
		case <-ended:
			return
		case now := <-time.After(frameTime):
			a.follow(now) // a run is kept once it has been followed to its end
		case <-patience:
			return
		}
	}
}

// stopPatience is how long runs and hunts may take to end after they are cancelled.
const stopPatience = 5 * time.Second

// job is a command that the application waits for before it ends.
func (a *App) job(cmd tea.Cmd) tea.Cmd {
	a.jobs.Add(1)
	return func() tea.Msg {
		defer a.jobs.Done()
		return cmd()
	}
}

// FollowFleet shows the application on a run of many machines.
func FollowFleet(ctx context.Context, r *app.App, station fleet.Options, id string) error {
	return show(ctx, r, func(a *App) {
		station.Report = nil // the frame shows what fails
		a.watch.Follows, a.watch.Fleet, a.leg = true, &watchleg.FleetRun{Station: station, ID: id}, legWatch
	})
}
