package tui

import (
	"context"
	"slices"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/internal/app"
	"fernrelay/internal/hunting"
)

// startSearch runs the picked tests in orders that have not been tried, and hunts the victims that it finds.
func (a *App) startSearch() tea.Cmd {
	if a.working() {
		a.message = "something runs already: x cancels it"
		return nil
	}
	ctx, cancel := context.WithCancel(a.ctx)
	a.hunt.search = &search{cancel: cancel}
	steps, r := &a.hunt.search.steps, a.session.app
	how := hunting.Search{Tests: a.session.picked.tests, Budget: searchBudget, Enough: 1, Hunt: hunting.Options{Workers: a.split.workers()}}
	return tea.Batch(a.startTicking(), a.job(func() tea.Msg {
		defer cancel()
		_, err := hunting.Of(r).Search(ctx, how, hunting.SearchProgress{
			Order:   func(o hunting.Revealed) { steps.put(searchStep{revealed: &o}) },
			Victims: func(victims []catalog.Test) { steps.put(searchStep{victims: victims}) },
			Hunt:    func(p hunt.Progress) { steps.put(searchStep{progress: &p}) },
		})
		return searchEndedMsg{err}
	}))
}

// followSearch takes the steps of the search since the last frame.
func (a *App) followSearch() {
	s := a.hunt.search
	for _, step := range s.steps.take() {
		switch {
		case step.revealed != nil:
			s.orders, a.hunt.gauge = step.revealed.Order, step.revealed.Gauge
		case step.victims != nil:
			hunts := newLiveHunts(step.victims, s.cancel)
			s.hunts = append(s.hunts, hunts...)
			a.showHunts(hunts)
		}
		for _, h := range s.hunts {
			if step.progress != nil && h.victim.ID == step.progress.Victim {
				h.advance(*step.progress)
			}
		}
	}
}

// showHunts puts hunts before the others, in place of earlier hunts of the same victims.
func (a *App) showHunts(hunts []*liveHunt) {
	a.leg = legHunt
	earlier := func(h *liveHunt) bool {
		return slices.ContainsFunc(hunts, func(other *liveHunt) bool { return other.victim.ID == h.victim.ID })
	}
	a.hunt.hunts = append(hunts, slices.DeleteFunc(a.hunt.hunts, earlier)...)
	a.hunt.reset()
}

func (a *App) searchEnded(msg searchEndedMsg) tea.Cmd {
	a.followSearch()
	hunts := a.hunt.search.hunts
	a.hunt.search = nil
	if msg.err == nil && len(hunts) == 0 {
		a.message = "every test had the same outcome as before"
	}
	a.huntEnded(huntEndedMsg{hunts, msg.err})
	return tea.Batch(a.change(change{apply: (*app.App).Recall}), a.recallHunts(), a.ledger.readAgain())
}

// recallHunts reads what the ledger keeps of hunts.
func (a *App) recallHunts() tea.Cmd {
	r := a.session.app
	return func() tea.Msg {
		var msg savedHuntsMsg
		var kept []hunt.Saved
		if kept, msg.err = hunting.Of(r).Hunts(); msg.err != nil {
			return msg
		}
		for _, k := range kept[:min(len(kept), mostHunts)] {
			h := &liveHunt{ended: true, cancel: func() {}}
			if h.progress, msg.err = r.Ledger().Progress(k); msg.err != nil {
				return msg
			}
			t, _ := r.Catalog.Lookup(k.Victim)
			h.victim = *t
			msg.hunts = append(msg.hunts, h)
		}
		tests, err := r.Pick("")
		if err != nil {
			msg.err = err
			return msg
		}
		msg.gauge, _, msg.err = hunting.Of(r).Coverage(tests)
		return msg
	}
}

// addHunts adds the hunts of the ledger after those of this session.
func (a *App) addHunts(msg savedHuntsMsg) {
	if msg.err != nil {
		a.complain(msg.err)
		return
	}
	a.hunt.gauge = msg.gauge
	for _, k := range msg.hunts {
		if !slices.ContainsFunc(a.hunt.hunts, func(h *liveHunt) bool { return h.victim.ID == k.victim.ID }) {
			a.hunt.hunts = append(a.hunt.hunts, k)
		}
	}
}

// mend looks for a patch beside the interface.
func (a *App) mend(msg mendMsg) tea.Cmd {
	if a.working() {
		a.message = "something runs already: x cancels it"
		return nil
	}
	ctx, cancel := context.WithCancel(a.ctx)
	a.stopMending, a.hunt.patching = cancel, true
	a.hunt.repairs[msg.finding.ID] = &repair{looking: true}
	r := a.session.app
	return a.job(func() tea.Msg {
		defer cancel()
		p, err := hunting.Of(r).Mend(ctx, msg.finding, func(string) {})
		return mendedMsg{msg.finding.ID, p, err}
	})
}
