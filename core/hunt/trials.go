package hunt

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
)

// shows asks for trials of one order until it is known whether it shows.
func (h *Hunt) shows(t Trial) bool { return h.decide(t)[0] }

// round asks for trials and waits for their outcomes.
func (h *Hunt) round(trials []Trial) {
	if h.stopped || len(trials) == 0 {
		return
	}
	for i := range trials {
		trials[i].Number = len(h.records) + 1
		h.records = append(h.records, Record{Trial: trials[i]})
	}
	if !h.yield(trials) {
		h.stopped = true
	}
}

func (h *Hunt) trial(purpose Purpose, order, beside []string) Trial {
	digest := sha256.New()
	fmt.Fprintln(digest, h.times)
	for _, ids := range [][]string{order, beside} {
		for _, id := range ids {
			digest.Write([]byte(id))
			digest.Write([]byte{0})
		}
		digest.Write([]byte{1})
	}
	return Trial{Purpose: purpose, Order: order, Beside: beside, Times: h.times, Sum: hex.EncodeToString(digest.Sum(nil)[:12])}
}

func (h *Hunt) company(order int) Trial {
	purpose := Company
	if order > 0 {
		purpose = Rest
	}
	t := h.after(purpose, h.task.Orders[order])
	t.Ran = len(h.task.Orders[order])
	return t
}

// after is the trial of the victim after some tests.
func (h *Hunt) after(purpose Purpose, before []string) Trial {
	return h.trial(purpose, append(slices.Clone(before), h.task.Victim), nil)
}

// beside is the trial of the victim while some tests run elsewhere.
func (h *Hunt) beside(purpose Purpose, others []string) Trial {
	return h.trial(purpose, []string{h.task.Victim}, slices.Clone(others))
}

// everShows asks for identical trials and reports whether any of them shows.
func (h *Hunt) everShows(trials []Trial) bool {
	h.round(trials)
	return h.showed(trials[0])
}

// showed reports whether a trial, or one that is identical, has shown.
func (h *Hunt) showed(t Trial) bool {
	return slices.ContainsFunc(h.records, func(r Record) bool { return r.Shows && r.Sum == t.Sum })
}

// companions returns the trials in which tests accompany the victim.
func (h *Hunt) companions(overlap bool) func(Purpose, []string) Trial {
	if overlap {
		return h.beside
	}
	return h.after
}
