// Package history holds everything that past runs say about a test, with one estimator for each figure: the
// expected time, the pass rate, the changes of outcome and of time, the trouble. Screens, reports, picks and
// plans read the same figure.
//
//	h := history.NewHistory(ids, runs)
//	h.Set(test, run, history.NewCell(run.Passed, 0.3)) // for each result
//	figures := h.Figures()
//	expected, ok := history.Expected(h.Past(test)) // the same as figures[test].Seconds
//
// A skipped or lost result is evidence of nothing. An owed or surprise one is not bad.
//
// Expected times are rounded to three digits, so that a ledger and a file of timings lead to the same plan.
package history

import (
	"math"
	"slices"

	"fernrelay/core/internal/parallel"
	"fernrelay/core/run"
)

// Cell is the outcome and the time of a test in one run of a history.
type Cell struct {
	code    uint8 // 0 if it is not in the run, else 1 + its place in run.Outcomes
	Seconds float32
}

// NewCell makes the cell of an outcome.
func NewCell(o run.Outcome, seconds float64) Cell {
	return CellOf(slices.Index(run.Outcomes, o), float32(seconds))
}

// CellOf makes the cell of an outcome by its place in All.
func CellOf(place int, seconds float32) Cell { return Cell{uint8(1 + place), seconds} }

// Outcome returns the cell's outcome, "" if the test is not in the run.
func (c Cell) Outcome() run.Outcome {
	if c.code == 0 {
		return ""
	}
	return run.Outcomes[c.code-1]
}

// evidence reports whether the outcome of the cell is bad, and whether it counts at all.
func (c Cell) evidence() (bad, counts bool) {
	said := saying[c.code]
	return said.bad, said.something
}

// saying is what the cells say, by their codes.
var saying = func() (said [1 + mostOutcomes]struct{ bad, something bool }) {
	for i, o := range run.Outcomes {
		said[1+i].bad, said[1+i].something = o.Evidence()
	}
	return said
}()

const mostOutcomes = 8

// Figures sum up the past of a test. Runs are given by their places in the past, from 0 for the oldest; -1 is
// none.
type Figures struct {
	Ran, Bad int // runs that count as evidence, and those in which it was bad
	Rate     float64
	Flips    int      // the number of changes between good and bad
	Flaky    Interval // how likely it is to do so from one run to the next
	Trouble  float64  // what its bad runs weigh, each half as much as one halfLife later

	FirstBad, LastBad, LastWell int

	Seconds float64 // that it is expected to take, see Expected
	Before  float64 // seconds before its time changed; 0 if no change is significant
	Changed int     // the run since which it takes another time; -1 if no change is significant
}

// halfLife is the number of runs after which a failure weighs half.
const halfLife = 10

// Figure works out the figures of a test from its past, the oldest run first.
func Figure(past []Cell) Figures {
	f := figure(past)
	f.FindChange(past)
	return f
}

// figure works out all but since when the test takes another time.
func figure(past []Cell) Figures {
	f := Figures{FirstBad: -1, LastBad: -1, LastWell: -1, Changed: -1, Rate: math.NaN()}
	before, pairs := false, 0
	for i, c := range past {
		bad, counts := c.evidence()
		if !counts {
			continue
		}
		if f.Ran > 0 {
			pairs++
			if bad != before {
				f.Flips++
			}
		}
		f.Ran++
		before = bad
		if !bad {
			f.LastWell = i
			continue
		}
		if f.Bad++; f.FirstBad < 0 {
			f.FirstBad = i
		}
		f.LastBad = i
		f.Trouble += math.Exp2(-float64(len(past)-1-i) / halfLife)
	}
	if f.Ran > 0 {
		f.Rate = float64(f.Ran-f.Bad) / float64(f.Ran)
	}
	f.Flaky = Share(f.Flips, pairs)
	expected, _ := Expected(past)
	f.Seconds = expected.Seconds
	return f
}

// Interval is a share with how far it may be from what is measured: 19 of 20 such intervals
// hold the true one.
type Interval struct {
	Share float64 `json:"share"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// Share returns the 95 % interval of a share that was seen in some of n cases (Wilson, "Probable inference, the
// law of succession, and statistical inference", 1927). Without cases it is from 0 to 1.
func Share(some, of int) Interval {
	if of == 0 {
		return Interval{High: 1}
	}
	const z = 1.959964 // of the normal distribution, 2.5 % above
	n, p := float64(of), float64(some)/float64(of)
	middle := (p + z*z/(2*n)) / (1 + z*z/n)
	reach := z / (1 + z*z/n) * math.Sqrt(p*(1-p)/n+z*z/(4*n*n))
	return Interval{p, max(0, middle-reach), min(1, middle+reach)}
}

// A change of time is significant if chance makes the ranks of the times before and after differ as much once in
// this many cases, and if the medians differ by this factor and by this much.
const (
	changeChance  = 1e-3
	changeFactor  = 1.2
	changeSeconds = 0.01
	fewestBefore  = 5
	fewestAfter   = 3
)

// latestResults is the number of a test's latest results that its expected time is based on.
const latestResults = 20

// Expected returns how long a test takes, from its past, the oldest run first: based on its latest 20 results,
// those in which it ran to its end, or else those in which it failed. ok is false if there are none.
func Expected(past []Cell) (t Time, ok bool) {
	var well, failed [latestResults]float64 // the latest first
	wells, fails, seen := 0, 0, 0
	for _, c := range slices.Backward(past) {
		if seen == latestResults {
			break
		}
		if c.code == 0 {
			continue
		}
		seen++
		switch bad, counts := c.evidence(); {
		case !counts:
		case !bad:
			well[wells] = float64(c.Seconds)
			wells++
		case c.Outcome() == run.Failed:
			failed[fails] = float64(c.Seconds)
			fails++
		}
	}
	switch {
	case wells > 0:
		return Learn(well[:wells]), true
	case fails > 0:
		return Learn(failed[:fails]), true
	}
	return Time{}, false
}

// FindChange works out since when the test takes another time, from its past.
func (f *Figures) FindChange(past []Cell) {
	var seconds []float64 // of the runs in which it went all its way
	var runs []int
	for i, c := range past {
		if bad, counts := c.evidence(); counts && !bad {
			seconds, runs = append(seconds, float64(c.Seconds)), append(runs, i)
		}
	}
	at := changePoint(seconds)
	if at < 0 {
		return
	}
	before, after := medianOf(seconds[:at]), medianOf(seconds[at:])
	if max(before, after) < changeFactor*min(before, after) || math.Abs(after-before) < changeSeconds {
		return
	}
	f.Changed, f.Before = runs[at], before
}

// changePoint returns the place at which the ranks of the values before and after differ most (Mann and Whitney,
// "On a test of whether one of two random variables is stochastically larger", 1947); -1 if chance explains the
// difference.
func changePoint(values []float64) int {
	n := len(values)
	if n < fewestBefore+fewestAfter || alikeTimes(values) {
		return -1
	}
	ranks := ranksOf(values)
	sum, best, at := 0.0, changeChance, -1
	for k := 1; k <= n-fewestAfter; k++ {
		sum += ranks[k-1]
		if k < fewestBefore {
			continue
		}
		if p := rankChance(sum, k, n); p < best {
			best, at = p, k
		}
	}
	return at
}

// alikeTimes reports whether all values are so close to each other that no change of them is significant; it saves
// most of the work.
func alikeTimes(values []float64) bool {
	low, high := slices.Min(values), slices.Max(values)
	return high < changeFactor*low || high-low < changeSeconds
}

// rankChance returns the probability that the ranks of the first k of n values have a sum as far from the expected
// one. It is exact if they are all below or above the others.
func rankChance(sum float64, k, n int) float64 {
	u := sum - float64(k*(k+1))/2
	all := float64(k * (n - k))
	if u == 0 || u == all { // at which the normal distribution is furthest off
		chance := 2.0
		for i := range min(k, n-k) {
			chance *= float64(i+1) / float64(n-i)
		}
		return chance
	}
	z := (math.Abs(u-all/2) - 0.5) / math.Sqrt(all*float64(n+1)/12)
	return math.Erfc(z / math.Sqrt2)
}

// ranksOf returns the rank of every value, from 1; equal values share a rank.
func ranksOf(values []float64) []float64 {
	order := make([]uint64, len(values)) // the bits of floats that are not negative have their order
	for i, v := range values {
		order[i] = uint64(math.Float32bits(float32(v)))<<32 | uint64(i)
	}
	slices.Sort(order)
	ranks := make([]float64, len(values))
	for i := 0; i < len(order); {
		same := i + 1
		for same < len(order) && order[same]>>32 == order[i]>>32 {
			same++
		}
		for _, at := range order[i:same] {
			ranks[at&math.MaxUint32] = float64(i+1+same) / 2
		}
		i = same
	}
	return ranks
}

// medianOf is the median of values, 0 of none.
func medianOf(values []float64) float64 {
	if len(values) == 0 {
		return 0
	}
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}

// Quantile returns the value that a part of sorted values does not exceed: 0.5 for the median. There is at least one.
func Quantile(sorted []float64, part float64) float64 {
	return sorted[min(len(sorted)-1, int(part*float64(len(sorted))))]
}

// History is the outcomes and times of tests in a series of runs.
type History struct {
	IDs   []string
	Runs  int
	cells []Cell // by test and then run, the oldest first
	at    map[string]int
}

// NewHistory returns a history of tests in n runs, of which nothing is known yet.
func NewHistory(ids []string, runs int) *History {
	return &History{IDs: ids, Runs: runs, cells: make([]Cell, len(ids)*runs)}
}

// Set sets the cell of a test in a run, both given by their places.
func (h *History) Set(test, run int, c Cell) { h.cells[test*h.Runs+run] = c }

// Past returns the cells of a test, the oldest run first.
func (h *History) Past(test int) []Cell { return h.cells[test*h.Runs : (test+1)*h.Runs] }

// Index finds a test by its ID.
func (h *History) Index(id string) (test int, ok bool) {
	if h.at == nil {
		h.at = make(map[string]int, len(h.IDs))
		for i, id := range h.IDs {
			h.at[id] = i
		}
	}
	test, ok = h.at[id]
	return test, ok
}

// Figures works out the figures of every test, all but since when it takes another time:
// FindChanges does that, which takes longer.
func (h *History) Figures() []Figures {
	figures := make([]Figures, len(h.IDs))
	parallel.Do(len(h.IDs), func(test int) { figures[test] = figure(h.Past(test)) })
	return figures
}

// FindChanges returns the figures with the changes of time.
func (h *History) FindChanges(figures []Figures) []Figures {
	changed := slices.Clone(figures)
	parallel.Do(len(h.IDs), func(test int) { changed[test].FindChange(h.Past(test)) })
	return changed
}

// Change returns the logarithm of the factor by which the time of the test changed; 0 if no change is significant.
func (f *Figures) Change() float64 {
	if f.Changed < 0 || f.Before <= 0 || f.Seconds <= 0 {
		return 0
	}
	return math.Log2(f.Seconds / f.Before)
}

// Spread returns how far the times of a past's latest runs are from their median, in seconds: the median of the
// distances, times 1.48, which estimates a standard deviation.
func Spread(past []Cell) float64 {
	var seconds []float64
	for _, c := range past[max(0, len(past)-2*halfLife):] {
		if bad, counts := c.evidence(); counts && !bad {
			seconds = append(seconds, float64(c.Seconds))
		}
	}
	m := medianOf(seconds)
	for i, s := range seconds {
		seconds[i] = math.Abs(s - m)
	}
	return 1.4826 * medianOf(seconds)
}
