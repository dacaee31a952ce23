package hunt

import (
	"math"
	"slices"
)

// Past is the outcome of a victim in an earlier run, and what ran before it.
type Past struct {
	Bad    bool
	Before []string
}

// The weight of an earlier run against the assumption that a test alone decides the victim's outcome: small enough
// to leave room for pairs, for tests that undo the work of others, and for chance.
const (
	absent = 0.05 // the outcome was the other one than alone, and the test was not before
	before = 0.3  // the outcome was that of the victim alone, and the test was before
)

// doubt is the part of all suspicion that is shared evenly, whatever the past says: so
// a past that misleads costs only a few trials.
const doubt = 0.1

// suspicion weighs suspects against each other by earlier runs and by the task's favour. The weights add up to 1.
func (h *Hunt) suspicion(suspects []string) map[string]float64 {
	if len(suspects) == 0 { // the victim is the only test
		return nil
	}
	logs, alone := make([]float64, len(suspects)), h.alone()
	for _, p := range h.task.Past {
		was := make(map[string]bool, len(p.Before))
		for _, id := range p.Before {
			was[id] = true
		}
		for i, id := range suspects {
			switch {
			case p.Bad != alone && !was[id]:
				logs[i] += math.Log(absent)
			case p.Bad == alone && was[id]:
				logs[i] += math.Log(before)
			}
		}
	}
	for i, id := range suspects {
		if times, ok := h.task.Suspicion[id]; ok {
			logs[i] += math.Log(times)
		}
	}
	greatest, sum := slices.Max(logs), 0.0
	for _, l := range logs {
		sum += math.Exp(l - greatest)
	}
	weights := make(map[string]float64, len(suspects))
	for i, id := range suspects {
		weights[id] = (1-doubt)*math.Exp(logs[i]-greatest)/sum + doubt/float64(len(suspects))
	}
	return weights
}

// cuts returns the places within a span that divide suspicion evenly into parts, one more than there are cuts,
// none of them empty.
func (q *quest) cuts(ranked []string, s span) []int {
	all, sum := q.weigh(ranked[s.low:s.high]), 0.0
	wanted := min(q.h.task.Width, s.high-s.low-1)
	cuts := make([]int, 0, wanted)
	for i := s.low; i < s.high && len(cuts) < wanted; i++ {
		sum += q.weights[ranked[i]]
		left := s.high - (i + 1) // tests behind a cut here
		if sum >= all*float64(len(cuts)+1)/float64(wanted+1)-1e-12 || left == wanted-len(cuts) {
			cuts = append(cuts, i+1)
		}
	}
	return cuts
}

func (q *quest) weigh(tests []string) float64 {
	sum := 0.0
	for _, id := range tests {
		sum += q.weights[id]
	}
	return sum
}
