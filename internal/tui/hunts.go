package tui

import (
	"context"
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

// savedHuntsMsg brings the hunts that the ledger keeps, and the orders that have run.
type savedHuntsMsg struct {
	hunts []*liveHunt
	gauge order.Gauge
	err   error
}

// mostHunts is how many of the kept hunts are shown.
const mostHunts = 100
