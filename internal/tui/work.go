package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/internal/app"
)

// updateWork takes a message about runs, hunts and searches.
func (a *App) updateWork(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tickMsg:
		return a.tick(time.Time(msg))
	case runEndedMsg:
		return a.runEnded(msg)
	case huntEndedMsg:
		a.huntEnded(msg)
		return tea.Batch(a.readAgain(), a.recallHunts(), a.ledger.readAgain())
	case searchEndedMsg:
		return a.searchEnded(msg)
	case victimsMsg:
		return a.huntVictims(msg)
	case keptHuntsMsg:
		a.keepHunts(msg)
	case lookMsg:
		if a.working() {
			return a.look()
		}
		return a.found()
	case followedMsg:
		a.session.run = msg.run
		a.watch.reset()
		return tea.Batch(msg.wait, a.startTicking(), a.look())
	case unfollowedMsg:
		a.complain(fmt.Errorf("the run that goes on cannot be followed: %w", msg.err))
		return a.look()
	}
	return nil
}

// tick follows what runs, and goes on ticking while anything does.
func (a *App) tick(now time.Time) tea.Cmd {
	a.follow(now)
	if a.working() {
		return nextTick()
	}
	a.ticking = false
	if a.quits > 0 {
		return tea.Quit
	}
	return nil
}

func nextTick() tea.Cmd {
	return tea.Tick(frameTime, func(now time.Time) tea.Msg { return tickMsg(now) })
}

func (a *App) follow(now time.Time) {
	if a.session.run != nil {
		a.session.run.follow(now)
	}
	for _, h := range a.session.hunts {
		h.follow()
	}
	if a.session.search != nil {
		a.followSearch()
	}
}

func (a *App) working() bool {
	return a.running() || a.session.search != nil || slices.ContainsFunc(a.session.hunts, func(h *liveHunt) bool { return !h.ended })
}

func (a *App) running() bool {
	run := a.session.run
	return run != nil && !(run.ended && (run.number > 0 || run.err != nil || run.cancel == nil))
}

// lookEvery is how often it is looked for a run of another process.
const lookEvery = 500 * time.Millisecond

// look looks for a run of another process in a moment, where that is wanted.
func (a *App) look() tea.Cmd {
	if !a.watch.follows {
		return nil
	}
	return tea.Tick(lookEvery, func(time.Time) tea.Msg { return lookMsg{} })
}

// found follows a run of another process where one goes on.
func (a *App) found() tea.Cmd {
	ctx, r := a.ctx, a.session.app
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
	if run := a.session.run; run != nil && run.cancel != nil {
		run.cancel(nil)
	}
	for _, h := range a.session.hunts {
		h.cancel()
	}
	if s := a.session.search; s != nil {
		s.cancel()
	}
}

func (a *App) runEnded(msg runEndedMsg) tea.Cmd {
	msg.run.follow(time.Now())
	msg.run.ended, msg.run.number, msg.run.err = true, msg.number, msg.err
	a.complain(msg.err)
	recall := a.change(change{apply: (*app.App).Recall})
	if victims := a.waiting; victims != nil {
		a.waiting = nil
		return tea.Batch(recall, a.startHunt(victims, false))
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

// startRun runs tests, as they are planned or else from one queue.
func (a *App) startRun(tests []catalog.Test, p *planning) tea.Cmd {
	s := a.session
	if a.working() {
		a.message = "something runs already: x cancels it"
		return nil
	}
	var request app.Request
	var err error
	if p != nil {
		request, err = s.app.PlanRequest(s.picked.text, tests, p.plan, p.study.Fleet)
	} else {
		request, err = s.app.NewRequest(s.picked.text, tests, s.workers())
	}
	if err != nil {
		a.complain(err)
		return nil
	}
	a.leg = legWatch
	return a.start(request)
}

// start runs a request.
func (a *App) start(request app.Request) tea.Cmd {
	var wait tea.Cmd
	a.session.run, wait = startRun(a.ctx, a.session.app, request)
	a.watch.reset()
	return tea.Batch(a.job(wait), a.startTicking())
}

// huntVictims hunts the tests that failed in the latest run.
func (a *App) huntVictims(msg victimsMsg) tea.Cmd {
	switch {
	case msg.err != nil:
		a.complain(msg.err)
	case len(msg.victims) == 0:
		a.message = "nothing failed in the latest run: there is nothing to hunt"
	default:
		return a.startHunt(msg.victims, false)
	}
	return nil
}

func (a *App) startHunt(victims []catalog.Test, verify bool) tea.Cmd {
	s := a.session
	if a.running() && s.run.ended {
		a.waiting = victims // a moment, until the run is kept
		return nil
	}
	if a.working() {
		a.message = "something runs already: x cancels it"
		return nil
	}
	hunts, wait := startHunt(a.ctx, s.app, victims, s.workers(), verify)
	a.showHunts(hunts)
	return tea.Batch(a.job(wait), a.startTicking())
}

func (a *App) startTicking() tea.Cmd {
	if a.ticking {
		return nil
	}
	a.ticking = true
	return nextTick()
}
