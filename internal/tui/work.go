package tui

import (
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/progress"
	huntleg "fernrelay/internal/tui/hunt"
	"fernrelay/internal/tui/leg"
	matrixleg "fernrelay/internal/tui/matrix"
	watchleg "fernrelay/internal/tui/watch"
)

// takeWork takes a message about runs, hunts and searches.
func (a *App) takeWork(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tickMsg:
		return a.tick(time.Time(msg))
	case runReadyMsg:
		return a.runReady(msg)
	case watchleg.RunEndedMsg:
		return a.runEnded(msg)
	case matrixleg.EndedMsg:
		return a.matrixEnded(msg)
	case matrixleg.HuntInMsg:
		return a.huntIn(msg)
	case huntleg.EndedMsg:
		a.huntEnded(msg)
		return tea.Batch(a.readAgain(), a.hunt.Recall(), a.ledger.ReadAgain())
	case huntleg.SearchEndedMsg:
		return a.searchEnded(msg)
	case huntleg.VictimsMsg:
		return a.huntVictims(msg)
	case lookMsg:
		if a.working() {
			return a.look()
		}
		return a.found()
	case watchleg.FollowedMsg:
		a.watch.Show(msg.Run)
		return tea.Batch(msg.Wait, a.startTicking(), a.look())
	case watchleg.UnfollowedMsg:
		a.complain(fmt.Errorf("the running run cannot be followed: %w", msg.Err))
		return a.look()
	}
	return nil
}

// tick follows what runs, and continues while anything does.
func (a *App) tick(now time.Time) tea.Cmd {
	explain := a.follow(now)
	if a.working() {
		return tea.Batch(explain, nextTick())
	}
	a.ticking = false
	if a.quits > 0 {
		return tea.Quit
	}
	return explain
}

func nextTick() tea.Cmd {
	return tea.Tick(frameTime, func(now time.Time) tea.Msg { return tickMsg(now) })
}

// follow lets each leg take what happened since the last frame.
func (a *App) follow(now time.Time) tea.Cmd {
	var cmds []tea.Cmd
	for _, l := range a.legs {
		cmds = append(cmds, l.Follow(now))
	}
	return tea.Batch(cmds...)
}

// working reports whether anything runs.
func (a *App) working() bool {
	return a.preparing || slices.ContainsFunc(a.legs, leg.Leg.Busy)
}

// busyWords says why nothing else begins.
const busyWords = "something runs already: x cancels it"

// lookEvery is the time between two looks for a run of another process.
const lookEvery = 500 * time.Millisecond

// look looks for a run of another process in a moment, if the application follows those.
func (a *App) look() tea.Cmd {
	if !a.watch.Follows {
		return nil
	}
	return tea.Tick(lookEvery, func(time.Time) tea.Msg { return lookMsg{} })
}

// found follows a run of another process if there is one.
func (a *App) found() tea.Cmd {
	ctx, r := a.ctx, a.session.App
	if f := a.watch.Fleet; f != nil {
		if f.Followed {
			return nil
		}
		return watchleg.FollowFleet(ctx, r, f)
	}
	return func() tea.Msg {
		journal, err := r.Running()
		if err != nil {
			return watchleg.UnfollowedMsg{Err: err}
		}
		if journal == "" {
			time.Sleep(lookEvery)
			return lookMsg{}
		}
		return watchleg.FollowRun(ctx, r, journal)()
	}
}

func (a *App) cancelAll() {
	for _, l := range a.legs {
		l.Cancel()
	}
}

func (a *App) runEnded(msg watchleg.RunEndedMsg) tea.Cmd {
	msg.Run.Follow(time.Now())
	if msg.Run.Fleet != nil && a.watch.Fleet != nil {
		a.watch.Fleet.Followed = true
	}
	msg.Run.Ended, msg.Run.Number, msg.Run.Err = true, msg.Number, msg.Err
	a.complain(msg.Err)
	recall := a.change(leg.Change{Apply: (*app.App).Recall})
	if victims := a.waiting; victims != nil {
		a.waiting = nil
		return tea.Batch(recall, a.startHunt(leg.StartHuntMsg{Victims: victims}))
	}
	return tea.Batch(recall, a.readAgain(), a.hunt.Recall(), a.ledger.ReadAgain())
}

// startRun prepares a run of tests beside the interface.
func (a *App) startRun(msg leg.StartRunMsg) tea.Cmd {
	if len(msg.Tests) == 0 {
		return nil
	}
	if a.working() {
		a.message = busyWords
		return nil
	}
	a.leg, a.preparing = legWatch, true
	var shared tea.Cmd
	if msg.Picked {
		shared = a.share(func(s *leg.Session) { s.Begun = s.Picked.Begin() })
	}
	r, text, workers := a.session.App, a.session.Picked.Text, a.split.Workers()
	return tea.Batch(shared, func() tea.Msg {
		tests := msg.Tests
		if msg.Needs {
			tests = r.WithNeeds(tests)
		}
		if p := msg.Plan; p != nil {
			return newRunReady(r)(r.PlanRequest(text, tests, p.Plan, p.Fleet))
		}
		return newRunReady(r)(r.NewRequest(text, tests, workers))
	})
}

// newRunReady returns a function that prepares to follow a run of a request.
func newRunReady(r *app.App) func(q app.Request, err error) tea.Msg {
	return func(q app.Request, err error) tea.Msg {
		if err != nil {
			return runReadyMsg{err: err}
		}
		q.Schedule = r.Schedule(q)
		live := progress.New(q.Schedule, q.Workers, r.PastOf)
		live.Behind = r.Behind(q.Pick)
		return runReadyMsg{request: q, live: live}
	}
}

// runReady starts a run that is prepared. One of changed files may have nothing to run.
func (a *App) runReady(msg runReadyMsg) tea.Cmd {
	a.preparing = false
	if msg.err != nil {
		a.complain(msg.err)
		return nil
	}
	if len(msg.request.Tests) == 0 {
		a.message = "the change touches no picked test"
		return nil
	}
	a.watch.Show(msg.live)
	return tea.Batch(a.job(watchleg.Start(a.ctx, msg.live, a.session.App, msg.request)), a.startTicking())
}

// huntVictims hunts the tests that failed in the latest run.
func (a *App) huntVictims(msg huntleg.VictimsMsg) tea.Cmd {
	switch {
	case msg.Err != nil:
		a.complain(msg.Err)
	case len(msg.Victims) == 0:
		a.message = "nothing failed in the latest run: there is nothing to hunt"
	default:
		return a.startHunt(leg.StartHuntMsg{Victims: msg.Victims})
	}
	return nil
}

func (a *App) startHunt(msg leg.StartHuntMsg) tea.Cmd {
	if going := a.watch.Going(); going != nil && going.Ended {
		a.waiting = msg.Victims // a moment, until the run is kept
		return nil
	}
	if a.working() {
		a.message = busyWords
		return nil
	}
	hunts, wait := huntleg.Start(a.ctx, a.session.App, msg.Victims, a.split.Workers(), msg.Verify)
	a.leg = legHunt
	a.hunt.Show(hunts)
	return tea.Batch(a.job(wait), a.startTicking())
}

// huntTest shows the hunt of a test, or starts it if there is none.
func (a *App) huntTest(id string) tea.Cmd {
	if a.hunt.GoTo(id) {
		a.leg = legHunt
		return nil
	}
	t, ok := a.session.Picked.Catalog.Lookup(id)
	if !ok {
		a.message = "the project no longer has " + plain.Line(id) + ": it cannot be hunted"
		return nil
	}
	return a.startHunt(leg.StartHuntMsg{Victims: []catalog.Test{*t}})
}

func (a *App) startTicking() tea.Cmd {
	if a.ticking {
		return nil
	}
	a.ticking = true
	return nextTick()
}

// frameTime is how often the screen follows what runs.
const frameTime = time.Second / 30
