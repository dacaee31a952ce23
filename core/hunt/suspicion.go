package hunt

import (
	"cmp"
	"math"
	"slices"
)

// Past is what came of a victim in an earlier run, and what ran before it.
type Past struct {
	Bad    bool
	Before []string
}

// How much an earlier run says of a test that does not fit the thought that it alone
// decides the victim's outcome: little enough is left for pairs, for tests that undo
// the work of others, and for chance.
const (
	absent = 0.05 // the outcome was the other one than alone, and the test was not before
	before = 0.3  // the outcome was that of the victim alone, and the test was before
)

// doubt is the part of all suspicion that is shared evenly, whatever the past says: so
// a past that misleads costs only a few trials.
const doubt = 0.1

// accused is the share of all suspicion that those bear whom the past accuses.
const accused = 0.9 * (1 - doubt)

// suspicion weighs suspects against each other by what earlier runs say of them, where
// alone is whether the victim is bad by itself. The weights add up to 1.
func suspicion(suspects []string, past []Past, alone bool) map[string]float64 {
	logs := make([]float64, len(suspects))
	for _, p := range past {
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

// part parts suspects into the few that bear a share of all suspicion, the most
// suspected, and of those alike the ones that ran later, and the others. Both keep their
// order, and neither is empty.
func part(suspects []string, weights map[string]float64, share float64) (most, others []string) {
	total := 0.0
	for _, id := range suspects {
		total += weights[id]
	}
	ranked := make([]int, len(suspects))
	for i := range ranked {
		ranked[i] = i
	}
	slices.SortFunc(ranked, func(a, b int) int {
		return cmp.Or(cmp.Compare(weights[suspects[b]], weights[suspects[a]]), b-a)
	})
	chosen := make([]bool, len(suspects))
	sum := 0.0
	for n, i := range ranked[:len(ranked)-1] {
		if n > 0 && sum >= share*total-1e-12 {
			break
		}
		chosen[i] = true
		sum += weights[suspects[i]]
	}
	for i, id := range suspects {
		if chosen[i] {
			most = append(most, id)
		} else {
			others = append(others, id)
		}
	}
	return most, others
}
