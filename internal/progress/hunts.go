package progress

import (
	"context"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/order"
)

// Hunt is the hunt of one victim as the application follows it.
type Hunt struct {
	Victim   catalog.Test
	Steps    Inbox[hunt.Progress]
	Progress hunt.Progress // the latest
	Ended    bool
	Err      error // why it ended without a verdict
	Cancel   context.CancelFunc
}

// NewHunts returns the hunts of victims, all of which cancel ends.
func NewHunts(victims []catalog.Test, cancel context.CancelFunc) []*Hunt {
	hunts := make([]*Hunt, len(victims))
	for i, v := range victims {
		hunts[i] = &Hunt{Victim: v, Cancel: cancel}
	}
	return hunts
}

// Follow takes what the hunt reported since the last frame: how far it has come, or a note at its end.
func (h *Hunt) Follow() {
	for _, p := range h.Steps.Take() {
		if p.Note != "" {
			h.Progress.Note = p.Note
			continue
		}
		p.Note = h.Progress.Note
		h.Progress = p
	}
}

// End notes that the hunt has ended, with an error if it has no verdict.
func (h *Hunt) End(err error) {
	h.Follow()
	if h.Ended = true; h.Progress.Finding.Verdict == "" {
		h.Err = err
	}
}

// IsMended reports whether known culprits were found to do no more harm.
func (h *Hunt) IsMended() bool { return len(h.Progress.Finding.Mended) > 0 }

// Search is the search for victims that nobody has named, as the application follows it.
type Search struct {
	Steps  Inbox[SearchStep]
	Orders int         // that have run
	Gauge  order.Gauge // of what they cover, if any has run
	Hunts  []*Hunt     // of the victims that it found
	Cancel context.CancelFunc
}

// SearchStep is one of: what an order covers, victims whose hunt begins, or the progress of a hunt.
type SearchStep struct {
	Order    int // from 1; 0 for another step
	Gauge    order.Gauge
	Victims  []catalog.Test
	Progress *hunt.Progress
}

// Follow takes what the search reported since the last frame. It returns the hunts that began.
func (s *Search) Follow() (began []*Hunt) {
	for _, step := range s.Steps.Take() {
		switch {
		case step.Order > 0:
			s.Orders, s.Gauge = step.Order, step.Gauge
		case step.Progress != nil:
			s.progress(*step.Progress)
		default:
			began = append(began, NewHunts(step.Victims, s.Cancel)...)
			s.Hunts = append(s.Hunts, began[len(began)-len(step.Victims):]...)
		}
	}
	return began
}

func (s *Search) progress(p hunt.Progress) {
	at := slices.IndexFunc(s.Hunts, func(h *Hunt) bool { return h.Victim.ID == p.Victim })
	if at < 0 {
		return
	}
	s.Hunts[at].Steps.Put(p)
	s.Hunts[at].Follow()
}
