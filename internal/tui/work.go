package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
)

// takeWork takes a message about runs, hunts and searches.
func (a *App) takeWork(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tickMsg:
		return a.tick(time.Time(msg))
	case runReadyMsg:
		return a.runReady(msg)
	case runEndedMsg:
		return a.runEnded(msg)
	case matrixEndedMsg:
		return a.matrixEnded(msg)
	case huntInMsg:
		return a.huntIn(msg)
	case huntEndedMsg:
		a.huntEnded(msg)
		return tea.Batch(a.readAgain(), a.recallHunts(), a.ledger.readAgain())
	case searchEndedMsg:
		return a.searchEnded(msg)
	case victimsMsg:
		return a.huntVictims(msg)
	case savedHuntsMsg:
		a.addHunts(msg)
	case lookMsg:
		if a.working() {
			return a.look()
		}
		return a.found()
	case followedMsg:
		a.watch.show(msg.run)
		return tea.Batch(msg.wait, a.startTicking(), a.look())
	case unfollowedMsg:
		a.complain(fmt.Errorf("the running run cannot be followed: %w", msg.err))
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

func (a *App) follow(now time.Time) tea.Cmd {
	if a.watch.run != nil {
		a.watch.run.follow(now)
	}
	for _, h := range a.hunt.hunts {
		h.follow()
	}
	if a.hunt.search != nil {
		a.followSearch()
	}
	return a.matrix.follow(now)
}

func (a *App) working() bool {
	return a.preparing || a.stopMending != nil || a.running() || a.matrix.running() || a.hunt.search != nil || slices.ContainsFunc(a.hunt.hunts, func(h *liveHunt) bool { return !h.ended })
}

func (a *App) running() bool {
	run := a.watch.run
	return run != nil && !(run.ended && (run.number > 0 || run.err != nil || run.cancel == nil))
}

// lookEvery is the time between two looks for a run of another process.
const lookEvery = 500 * time.Millisecond

// look looks for a run of another process in a moment, if the application follows those.
func (a *App) look() tea.Cmd {
	if !a.watch.follows {
		return nil
	}
	return tea.Tick(lookEvery, func(time.Time) tea.Msg { return lookMsg{} })
}

// found follows a run of another process if there is one.
func (a *App) found() tea.Cmd {
	ctx, r := a.ctx, a.session.app
	if f := a.watch.fleet; f != nil {
		if f.followed {
			return nil
		}
		return followFleet(ctx, r, f)
	}
	return func() tea.Msg {
		journal, err := r.Running()
		if err != nil {
			return unfollowedMsg{err}
		}
		if journal == "" {
			time.Sleep(lookEvery)
			return lookMsg{}
		}
		return followRun(ctx, r, journal)()
	}
}

func (a *App) cancelAll() {
	if run := a.watch.run; run != nil && run.cancel != nil {
		run.cancel(nil)
	}
	for _, h := range a.hunt.hunts {
		h.cancel()
	}
	if live := a.matrix.live; live != nil {
		live.cancel()
	}
	if s := a.hunt.search; s != nil {
		s.cancel()
	}
	if a.stopMending != nil {
		a.stopMending()
	}
}

func (a *App) runEnded(msg runEndedMsg) tea.Cmd {
	msg.run.follow(time.Now())
	if msg.run.fleet != nil && a.watch.fleet != nil {
		a.watch.fleet.followed = true
	}
	msg.run.ended, msg.run.number, msg.run.err = true, msg.number, msg.err
	a.complain(msg.err)
	recall := a.change(change{apply: (*app.App).Recall})
	if victims := a.waiting; victims != nil {
		a.waiting = nil
		return tea.Batch(recall, a.startHunt(startHuntMsg{victims: victims}))
	}
	return tea.Batch(recall, a.readAgain(), a.recallHunts(), a.ledger.readAgain())
}

func (a *App) huntEnded(msg huntEndedMsg) {
	for _, h := range msg.hunts {
		h.follow()
		h.ended = true
		if h.progress.Finding.Verdict == "" {
			h.err = msg.err
		}
	}
	if !errors.Is(msg.err, context.Canceled) {
		a.complain(msg.err)
	}
}

// startRun prepares a run of tests beside the interface.
func (a *App) startRun(msg startRunMsg) tea.Cmd {
	if len(msg.tests) == 0 {
		return nil
	}
	if a.working() {
		a.message = "something runs already: x cancels it"
		return nil
	}
	a.leg, a.preparing = legWatch, true
	var shared tea.Cmd
	if msg.picked {
		shared = a.share(func(s *session) { s.begun = s.picked.begin() })
	}
	r, text, workers := a.session.app, a.session.picked.text, a.split.workers()
	return tea.Batch(shared, func() tea.Msg {
		tests := msg.tests
		if msg.needs {
			tests = r.WithNeeds(tests)
		}
		if p := msg.plan; p != nil {
			return newRunReady(r)(r.PlanRequest(text, tests, p.plan, p.fleet))
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
		live := newLiveRun(q.Schedule, q.Workers, r.PastOf)
		live.behind = r.Behind(q.Pick)
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
	a.watch.show(msg.live)
	return tea.Batch(a.job(start(a.ctx, msg.live, a.session.app, msg.request)), a.startTicking())
}

// huntVictims hunts the tests that failed in the latest run.
func (a *App) huntVictims(msg victimsMsg) tea.Cmd {
	switch {
	case msg.err != nil:
		a.complain(msg.err)
	case len(msg.victims) == 0:
		a.message = "nothing failed in the latest run: there is nothing to hunt"
	default:
		return a.startHunt(startHuntMsg{victims: msg.victims})
	}
	return nil
}

func (a *App) startHunt(msg startHuntMsg) tea.Cmd {
	if a.running() && a.watch.run.ended {
		a.waiting = msg.victims // a moment, until the run is kept
		return nil
	}
	if a.working() {
		a.message = "something runs already: x cancels it"
		return nil
	}
	hunts, wait := startHunt(a.ctx, a.session.app, msg.victims, a.split.workers(), msg.verify)
	a.showHunts(hunts)
	return tea.Batch(a.job(wait), a.startTicking())
}

// huntTest shows the hunt of a test, or starts it if there is none.
func (a *App) huntTest(id string) tea.Cmd {
	if a.hunt.goTo(id) {
		a.leg = legHunt
		return nil
	}
	t, ok := a.session.picked.Catalog.Lookup(id)
	if !ok {
		a.message = "the project no longer has " + plain.Line(id) + ": it cannot be hunted"
		return nil
	}
	return a.startHunt(startHuntMsg{victims: []catalog.Test{*t}})
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
