package hunt

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
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/leg"
)

// EndedMsg says that hunts have ended, or why they could not go on.
type EndedMsg struct {
	Hunts []*progress.Hunt
	Err   error
}

// Start hunts victims side by side, or only tries what is known about them once more.
func Start(ctx context.Context, r *app.App, victims []catalog.Test, workers int, verify bool) ([]*progress.Hunt, tea.Cmd) {
	ctx, cancel := context.WithCancel(ctx)
	hunts := progress.NewHunts(victims, cancel)
	byID := map[string]*progress.Hunt{}
	for _, h := range hunts {
		byID[h.Victim.ID] = h
	}
	return hunts, func() tea.Msg {
		defer cancel()
		o := hunting.Options{Workers: workers}
		var err error
		if verify {
			o.Known, err = hunting.Of(r).Culprits()
		}
		if err == nil {
			_, err = hunting.Of(r).Hunt(ctx, victims, o, func(p hunt.Progress) { byID[p.Victim].Steps.Put(p) })
		}
		return EndedMsg{hunts, err}
	}
}

// SearchEndedMsg says that the search has ended.
type SearchEndedMsg struct{ Err error }

// searchBudget is how long a search lasts at most.
const searchBudget = 5 * time.Minute

// SavedMsg brings the hunts that the ledger keeps, and the orders that have run.
type SavedMsg struct {
	Hunts []*progress.Hunt
	Gauge order.Gauge
	Err   error
}

// mostHunts is how many of the kept hunts are shown.
const mostHunts = 100

// Busy reports whether hunts, a search or the trials of a patch go on.
func (v *View) Busy() bool {
	return v.stopMending != nil || v.Search != nil || slices.ContainsFunc(v.Hunts, func(h *progress.Hunt) bool { return !h.Ended })
}

// Cancel stops them at once.
func (v *View) Cancel() {
	for _, h := range v.Hunts {
		h.Cancel()
	}
	if v.Search != nil {
		v.Search.Cancel()
	}
	if v.stopMending != nil {
		v.stopMending()
	}
}

// Follow takes what they reported since the last frame. Victims that a search finds are shown.
func (v *View) Follow(time.Time) tea.Cmd {
	for _, h := range v.Hunts {
		h.Follow()
	}
	if v.Search == nil {
		return nil
	}
	began := v.Search.Follow()
	if v.Search.Orders > 0 {
		v.Gauge = v.Search.Gauge
	}
	if began == nil {
		return nil
	}
	v.Show(began)
	return func() tea.Msg { return leg.GoToMsg(v.Name()) }
}

// Show puts hunts before the others, in place of earlier hunts of the same victims.
func (v *View) Show(hunts []*progress.Hunt) {
	earlier := func(h *progress.Hunt) bool {
		return slices.ContainsFunc(hunts, func(other *progress.Hunt) bool { return other.Victim.ID == h.Victim.ID })
	}
	v.Hunts = append(hunts, slices.DeleteFunc(v.Hunts, earlier)...)
	v.at = 0
}

// add adds the hunts of the ledger after those of this session.
func (v *View) add(msg SavedMsg) {
	v.Gauge = msg.Gauge
	for _, k := range msg.Hunts {
		if !slices.ContainsFunc(v.Hunts, func(h *progress.Hunt) bool { return h.Victim.ID == k.Victim.ID }) {
			v.Hunts = append(v.Hunts, k)
		}
	}
}

// StartSearch runs the picked tests in orders that have not been tried, on some workers, and hunts the victims that it finds. The
// command waits for its end.
func (v *View) StartSearch(ctx context.Context, workers int) tea.Cmd {
	ctx, cancel := context.WithCancel(ctx)
	v.Search = &progress.Search{Cancel: cancel}
	steps, r := &v.Search.Steps, v.session.App
	how := hunting.Search{Tests: v.session.Picked.Selected, Budget: searchBudget, Enough: 1, Hunt: hunting.Options{Workers: workers}}
	return func() tea.Msg {
		defer cancel()
		_, err := hunting.Of(r).Search(ctx, how, hunting.SearchProgress{
			Order:   func(o hunting.Revealed) { steps.Put(progress.SearchStep{Order: o.Order, Gauge: o.Gauge}) },
			Victims: func(victims []catalog.Test) { steps.Put(progress.SearchStep{Victims: victims}) },
			Hunt:    func(p hunt.Progress) { steps.Put(progress.SearchStep{Progress: &p}) },
		})
		return SearchEndedMsg{Err: err}
	}
}

// EndSearch takes the end of the search, and returns the hunts of victims that it found.
func (v *View) EndSearch() []*progress.Hunt {
	v.Follow(time.Time{})
	hunts := v.Search.Hunts
	v.Search = nil
	return hunts
}

// End takes the end of hunts.
func (v *View) End(hunts []*progress.Hunt, err error) {
	for _, h := range hunts {
		h.End(err)
	}
}

// Mend looks for a patch of what makes a victim fail. The command waits for it.
func (v *View) Mend(ctx context.Context, f hunt.Finding) tea.Cmd {
	ctx, cancel := context.WithCancel(ctx)
	v.stopMending, v.Patching = cancel, true
	v.Repairs[f.ID] = &Repair{Looking: true}
	r := v.session.App
	return func() tea.Msg {
		defer cancel()
		p, err := hunting.Of(r).Mend(ctx, f, func(string) {})
		return MendedMsg{Victim: f.ID, Patch: p, Err: err}
	}
}

// Recall reads what the ledger keeps of hunts.
func (v *View) Recall() tea.Cmd {
	r := v.session.App
	return func() tea.Msg {
		var msg SavedMsg
		var kept []hunt.Saved
		if kept, msg.Err = hunting.Of(r).Hunts(); msg.Err != nil {
			return msg
		}
		for _, k := range kept[:min(len(kept), mostHunts)] {
			h := &progress.Hunt{Ended: true, Cancel: func() {}}
			if h.Progress, msg.Err = r.Ledger().Progress(k); msg.Err != nil {
				return msg
			}
			t, _ := r.Catalog.Lookup(k.Victim)
			h.Victim = *t
			msg.Hunts = append(msg.Hunts, h)
		}
		tests, err := r.Pick("")
		if err != nil {
			msg.Err = err
			return msg
		}
		msg.Gauge, _, msg.Err = hunting.Of(r).Coverage(tests)
		return msg
	}
}
