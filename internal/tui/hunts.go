package tui

import (
	"context"
	"errors"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/internal/ledger"
	"fernrelay/internal/relay"
)

// liveHunt is the hunt of one victim as the application follows it.
type liveHunt struct {
	victim   catalog.Test
	progress relay.Progress
	ended    bool
	err      error
	cancel   context.CancelFunc
	told     inbox[relay.Progress]
}

type huntEndedMsg struct {
	hunts []*liveHunt
	err   error
}

// startHunt hunts victims side by side, or only tries once more what is known of them.
func startHunt(ctx context.Context, r *relay.Relay, victims []catalog.Test, workers int, verify bool) ([]*liveHunt, tea.Cmd) {
	ctx, cancel := context.WithCancel(ctx)
	hunts := make([]*liveHunt, len(victims))
	byID := map[string]*liveHunt{}
	for i, v := range victims {
		hunts[i] = &liveHunt{victim: v, cancel: cancel}
		byID[v.ID] = hunts[i]
	}
	return hunts, func() tea.Msg {
		defer cancel()
		p := relay.Pursuit{Workers: workers}
		var err error
		if verify {
			p.Known, err = r.Known()
		}
		if err == nil {
			_, err = r.Hunt(ctx, victims, p, func(p relay.Progress) { byID[p.Victim].told.put(p) })
		}
		return huntEndedMsg{hunts, err}
	}
}

// follow takes the latest progress.
func (h *liveHunt) follow() {
	if told := h.told.take(); len(told) > 0 {
		h.progress = told[len(told)-1]
	}
}

// mended reports whether known culprits were found to do no harm any more.
func (h *liveHunt) mended() bool { return len(h.progress.Finding.Mended) > 0 }

// search is the search for victims that nobody has named.
type search struct {
	orders int // that have run
	told   inbox[relay.Revealed]
	cancel context.CancelFunc
}

type searchEndedMsg struct {
	victims []catalog.Test
	err     error
}

// searchBudget is how long victims are looked for.
const searchBudget = 5 * time.Minute

// startSearch runs what is picked in orders that have not been tried.
func (a *App) startSearch() tea.Cmd {
	s := a.session
	if a.working() {
		a.message = "something runs already: x cancels it"
		return nil
	}
	ctx, cancel := context.WithCancel(a.ctx)
	s.search = &search{cancel: cancel}
	looking, r := s.search, s.relay
	how := relay.Search{Tests: s.picked.tests, Workers: s.workers(), Budget: searchBudget, Enough: 1}
	return tea.Batch(a.startTicking(), a.job(func() tea.Msg {
		defer cancel()
		victims, err := r.Reveal(ctx, how, looking.told.put)
		return searchEndedMsg{victims, err}
	}))
}

func (a *App) searchEnded(msg searchEndedMsg) tea.Cmd {
	a.session.search = nil
	recall := tea.Batch(a.change(change{apply: (*relay.Relay).Recall}), a.recallHunts(), a.ledger.readAgain())
	switch {
	case msg.err != nil && !errors.Is(msg.err, context.Canceled):
		a.complain(msg.err)
	case msg.err == nil && len(msg.victims) == 0:
		a.message = "no test came out otherwise than before"
	case msg.err == nil:
		return tea.Batch(recall, a.startHunt(msg.victims, false))
	}
	return recall
}

// keptHuntsMsg brings the hunts that the ledger keeps, and the orders that have run.
type keptHuntsMsg struct {
	hunts []*liveHunt
	gauge order.Gauge
	err   error
}

// mostHunts is how many of the kept hunts are shown.
const mostHunts = 100

// recallHunts reads what the ledger keeps of hunts.
func (a *App) recallHunts() tea.Cmd {
	r := a.session.relay
	return func() tea.Msg {
		var msg keptHuntsMsg
		var kept []ledger.Hunt
		if kept, msg.err = r.Hunts(); msg.err != nil {
			return msg
		}
		for _, k := range kept[:min(len(kept), mostHunts)] {
			h := &liveHunt{ended: true, cancel: func() {}}
			if h.progress, msg.err = r.HuntProgress(k); msg.err != nil {
				return msg
			}
			t, _ := r.Catalog.Lookup(k.Victim)
			h.victim = *t
			msg.hunts = append(msg.hunts, h)
		}
		msg.gauge, _, msg.err = r.Gauge(r.Catalog.Tests)
		return msg
	}
}

// keepHunts puts the hunts that are kept behind those of this session.
func (a *App) keepHunts(msg keptHuntsMsg) {
	if msg.err != nil {
		a.complain(msg.err)
		return
	}
	s := a.session
	s.gauge = msg.gauge
	for _, k := range msg.hunts {
		if !slices.ContainsFunc(s.hunts, func(h *liveHunt) bool { return h.victim.ID == k.victim.ID }) {
			s.hunts = append(s.hunts, k)
		}
	}
}
