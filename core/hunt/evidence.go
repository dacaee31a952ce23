package hunt

import (
	"math"
	"slices"
)

// rates are how often the victim's outcome differs from that in its first trial alone: without its culprits, and
// with them.
type rates struct{ without, with float64 }

// steady is what a hunt begins with: culprits always show. One trial then decides.
var steady = rates{1e-4, 1 - 1e-4}

// decisions is the number of decisions over which a hunt spreads its permitted error.
const decisions = 20

// decide asks for trials of each order until each is known to show or not to, by Wald's
// sequential probability ratio test ("Sequential Tests of Statistical Hypotheses",
// 1945). Identical trials that were made before count.
func (h *Hunt) decide(asked ...Trial) []bool {
	for !h.stopped && len(h.records) < mostTrials {
		var open, round []Trial
		for _, t := range asked {
			if math.Abs(h.leaning(t)) < math.Log(decisions/h.task.Error)+h.margin {
				open = append(open, t)
			}
		}
		if len(open) == 0 {
			break
		}
		for range max(1, h.task.Width/len(open)) {
			if round = append(round, open...); h.rates == steady {
				break
			}
		}
		h.round(round)
	}
	shows := make([]bool, len(asked))
	for i, t := range asked {
		shows[i] = !h.stopped && h.leaning(t) > 0
	}
	return shows
}

// leaning returns the logarithm of how much likelier the outcomes of an order's trials are if it shows than if it
// does not.
func (h *Hunt) leaning(t Trial) float64 {
	lean := 0.0
	for _, r := range h.records {
		switch {
		case !r.Done || r.Sum != t.Sum:
		case r.Shows:
			lean += math.Log(h.rates.with / h.rates.without)
		default:
			lean += math.Log((1 - h.rates.with) / (1 - h.rates.without))
		}
	}
	return lean
}

// looks is the number of trials that each side of a comparison has at each look.
var looks = []int{5, 10, 20, 40}

// reversedShare is the part of a look's error with which a company counts as the difference although the victim shows less often
// in it, as one that often fails alone and never after certain tests. All looks together leave as much.
const reversedShare = 1.0 / 16

// hopeless is the chance from which a company that shows less often is not looked at again.
const hopeless = 0.55

// compare repeats a trial and the victim alone until it is sure, within the stated error, that the trial shows
// more often, and reports whether it is. If it shows less often for sure, the victim alone counts as the bad one from then on, and
// the trial shows. Each look spends half of the error that is left, so that repeated looks do not add up to more. The finding
// holds the evidence.
func (h *Hunt) compare(with Trial) bool {
	allowed := h.task.Error
	without := h.after(Without, nil)
	for _, runs := range looks {
		round := h.lacking(without, runs)
		if with.Purpose == With {
			round = append(h.lacking(with, runs), round...)
		}
		h.round(round)
		if h.stopped {
			return false
		}
		f := &h.finding
		f.Without, f.With = h.count(without), Times{}
		if with.Purpose == With {
			f.With = h.count(with)
		}
		shown, base := h.showing(f.With), h.showing(f.Without)
		ever := h.countOf(func(r *Record) bool { return r.Sum == without.Sum }) // those that came first must not say otherwise
		f.Chance = max(chance(shown, f.With.Runs, base, f.Without.Runs), chance(shown, f.With.Runs, h.showing(ever), ever.Runs))
		allowed /= 2
		reversed := 1.0
		if with.Purpose == With {
			reversed = chance(base, f.Without.Runs, shown, f.With.Runs)
		}
		switch {
		case f.Chance <= allowed:
			return true
		case reversed <= allowed*reversedShare:
			h.reverse()
			f.Chance = reversed
			return true
		case shown*f.Without.Runs <= base*f.With.Runs && reversed > hopeless:
			return false
		}
	}
	return false
}

// reverse takes what the victim is alone for the other outcome than that of most of its trials: it is so more often than in company.
func (h *Hunt) reverse() {
	h.reversed = !h.reversed
	h.judge()
}

// lacking returns as many copies of a trial as are missing for a number of runs.
func (h *Hunt) lacking(t Trial, runs int) []Trial {
	return slices.Repeat([]Trial{t}, max(0, runs-h.count(t).Runs))
}

// learn takes over how often the victim shows with all suspects and alone. It moves the two rates toward each
// other by half their standard error, because they are known from a few trials only. Later trials must then be
// more certain, so that what misled one search does not mislead the next.
func (h *Hunt) learn(with Trial) {
	shown, base := h.count(with), h.count(h.after(Without, nil))
	rate := func(t Times, toward float64) float64 {
		p, n := (float64(h.showing(t))+0.5)/(float64(t.Runs)+1), float64(t.Runs)
		return p + toward*math.Sqrt(p*(1-p)/n)
	}
	h.rates = rates{without: rate(base, 0.5), with: rate(shown, -0.5)}
	h.margin += math.Log(10)
}

// count adds up the trials like this one that served to be sure.
func (h *Hunt) count(like Trial) Times {
	return h.countOf(func(r *Record) bool { return r.Sum == like.Sum && r.Purpose == like.Purpose })
}

// seen counts all trials that are identical to this one.
func (h *Hunt) seen(like Trial) int {
	n := 0
	for _, r := range h.records {
		if r.Sum == like.Sum {
			n++
		}
	}
	return n
}

// showing counts those in which the outcome was the other one than alone.
func (h *Hunt) showing(t Times) int {
	if h.alone() {
		return t.Runs - t.Failed
	}
	return t.Failed
}

// chance returns the probability that at least as many of the showing trials are on one side, if both sides show
// equally often: Fisher's exact test, one-sided.
func chance(shown, runs, base, baseRuns int) float64 {
	all := shown + base
	total := choose(runs+baseRuns, all)
	p := 0.0
	for k := shown; k <= min(all, runs); k++ {
		p += math.Exp(choose(runs, k) + choose(baseRuns, all-k) - total)
	}
	return min(p, 1)
}

// choose returns the logarithm of the number of ways to take k of n, -Inf if there are none.
func choose(n, k int) float64 {
	if k < 0 || k > n {
		return math.Inf(-1)
	}
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return a - b - c
}
