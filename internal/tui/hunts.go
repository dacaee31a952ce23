package tui

import (
	"context"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/order"
	"fernrelay/internal/app"
	"fernrelay/internal/hunting"
)

// liveHunt is the hunt of one victim as the application follows it.
type liveHunt struct {
	victim     catalog.Test
	progress   hunt.Progress
	ended      bool
	err        error
	cancel     context.CancelFunc
	progressed inbox[hunt.Progress]
}

type huntEndedMsg struct {
	hunts []*liveHunt
	err   error
}

// startHunt hunts victims side by side, or only tries what is known about them once more.
func startHunt(ctx context.Context, r *app.App, victims []catalog.Test, workers int, verify bool) ([]*liveHunt, tea.Cmd) {
	ctx, cancel := context.WithCancel(ctx)
	hunts := newLiveHunts(victims, cancel)
	byID := map[string]*liveHunt{}
	for _, h := range hunts {
		byID[h.victim.ID] = h
	}
	return hunts, func() tea.Msg {
		defer cancel()
		o := hunting.Options{Workers: workers}
		var err error
		if verify {
			o.Known, err = hunting.Of(r).Culprits()
		}
		if err == nil {
			_, err = hunting.Of(r).Hunt(ctx, victims, o, func(p hunt.Progress) { byID[p.Victim].progressed.put(p) })
		}
		return huntEndedMsg{hunts, err}
	}
}

func newLiveHunts(victims []catalog.Test, cancel context.CancelFunc) []*liveHunt {
	hunts := make([]*liveHunt, len(victims))
	for i, v := range victims {
		hunts[i] = &liveHunt{victim: v, cancel: cancel}
	}
	return hunts
}

// follow takes the latest progress.
func (h *liveHunt) follow() {
	for _, p := range h.progressed.take() {
		h.advance(p)
	}
}

// advance takes what a hunt reports: how far it has come, or a note at its end.
func (h *liveHunt) advance(p hunt.Progress) {
	if p.Note != "" {
		h.progress.Note = p.Note
		return
	}
	p.Note = h.progress.Note
	h.progress = p
}

// mended reports whether known culprits were found to be harmless.
func (h *liveHunt) mended() bool { return len(h.progress.Finding.Mended) > 0 }

// search is the search for victims that nobody has named.
type search struct {
	orders int         // that have run
	hunts  []*liveHunt // of victims that it found
	steps  inbox[searchStep]
	cancel context.CancelFunc
}

// searchStep is one of: what an order showed, victims whose hunt begins, or the progress of a hunt.
type searchStep struct {
	revealed *hunting.Revealed
	victims  []catalog.Test
	progress *hunt.Progress
}

type searchEndedMsg struct{ err error }

// searchBudget is how long a search lasts at most.
const searchBudget = 5 * time.Minute

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

// savedHuntsMsg brings the hunts that the ledger keeps, and the orders that have run.
type savedHuntsMsg struct {
	hunts []*liveHunt
	gauge order.Gauge
	err   error
}

// mostHunts is how many of the kept hunts are shown.
const mostHunts = 100

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
