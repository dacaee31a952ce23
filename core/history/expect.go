package history

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// Default is the time assumed for a test, in seconds, if nothing is known.
const Default = 0.1

// Time is a duration in seconds.
type Time struct {
	Seconds float64
	Spread  float64 // one standard deviation
	Share   float64 // processors that are busy meanwhile; 0 if that is not known
}

// Timings know how long tests take.
type Timings interface {
	Of(id string) (t Time, known bool)
}

// ByID are timings by the IDs of tests.
type ByID map[string]Time

// Of returns how long a test takes.
func (b ByID) Of(id string) (t Time, known bool) {
	t, known = b[id]
	return t, known
}

// FirstOf are several timings, of which the first that knows a test counts.
type FirstOf []Timings

// Of returns how long a test takes.
func (f FirstOf) Of(id string) (t Time, known bool) {
	for _, timings := range f {
		if t, known = timings.Of(id); known {
			return t, true
		}
	}
	return Time{}, false
}

// Times is the knowledge before a run.
type Times struct {
	Tests  Timings            // nil for none
	Setups map[string]float64 // by suite:group: what it costs to begin a batch there
}

// fading is what a measurement weighs, as compared with the next younger one.
const fading = 0.8

// Learn returns one figure for measured seconds, the latest first, of which there is at least one: their median,
// in which recent ones weigh more, so that neither an odd run nor an old habit bends it. The spread is the median
// distance from it, widened if the measurements are few.
func Learn(past []float64) Time {
	var fewWeights, fewApart [latestResults]float64 // of the usual number of measurements, without an allocation
	weights, apart := fewWeights[:0], fewApart[:0]
	weight := 1.0
	for range past {
		weights = append(weights, weight)
		weight *= fading
	}
	middle := median(past, weights)
	if len(past) == 1 {
		return Time{Seconds: Round(middle), Spread: Round(middle / 2)}
	}
	for _, s := range past {
		apart = append(apart, math.Abs(s-middle))
	}
	// 1.4826 makes a median distance the deviation of a normal distribution.
	return Time{Seconds: Round(middle), Spread: Round(1.4826 * median(apart, weights) * (1 + 1/float64(len(past))))}
}

// median returns the value below which half of the weight is.
func median(values, weights []float64) float64 {
	type weighed struct{ value, weight float64 }
	var few [32]weighed // of the usual number of values, without an allocation
	order := few[:0]
	half := 0.0
	for i, value := range values {
		order = append(order, weighed{value, weights[i]})
		half += weights[i] / 2
	}
	slices.SortFunc(order, func(a, b weighed) int { return cmp.Compare(a.value, b.value) })
	below := 0.0
	for n, v := range order {
		below += v.weight
		switch {
		case math.Abs(below-half) < 1e-9 && n+1 < len(order):
			return (v.value + order[n+1].value) / 2
		case below > half:
			return v.value
		}
	}
	return order[len(order)-1].value
}

// Round returns seconds with three digits, in whole microseconds.
func Round(seconds float64) float64 {
	rounded, err := strconv.ParseFloat(strconv.FormatFloat(seconds, 'e', 2, 64), 64)
	if err != nil {
		return seconds
	}
	return math.Round(rounded*1e6) / 1e6
}

// Expect sets the expected time of every test. One never measured gets the median of its group, then of its suite,
// then of all, then Default, and the same for its spread; a group without a known setup gets the median of its
// suite. A skipped test takes no time.
func Expect(tests []catalog.Test, times Times) {
	type place struct{ suite, group string }
	groups, suites := map[place][]float64{}, map[string][]float64{}
	var all []float64
	setups := suiteSetups(times.Setups)
	timings := times.Tests
	if timings == nil {
		timings = ByID{}
	}
	for i := range tests {
		t := &tests[i]
		var begun bool
		if t.Setup, begun = times.Setups[t.GroupName()]; !begun {
			t.Setup = setups[t.Suite]
		}
		known, ok := timings.Of(t.ID)
		t.Known = ok || t.SkipReason != ""
		if t.SkipReason != "" {
			t.Expected, t.Spread, t.Setup = 0, 0, 0
			continue
		}
		if !ok {
			continue
		}
		t.Expected, t.Spread, t.Share = known.Seconds, known.Spread, known.Share
		at := place{t.Suite, t.Group}
		groups[at] = append(groups[at], t.Expected)
		suites[t.Suite] = append(suites[t.Suite], t.Expected)
		all = append(all, t.Expected)
	}
	groupMedian, suiteMedian := medians(groups), medians(suites)
	otherwise := Default
	if len(all) > 0 {
		otherwise = Round(medianOf(all))
	}
	for i := range tests {
		t := &tests[i]
		if t.Known {
			continue
		}
		t.Expected = otherwise
		if m, ok := suiteMedian[t.Suite]; ok {
			t.Expected = m
		}
		if m, ok := groupMedian[place{t.Suite, t.Group}]; ok {
			t.Expected = m
		}
		t.Spread = t.Expected
	}
}

// suiteSetups returns for each suite the cost of a batch of a group that was always the first of its worker: that
// of the other groups.
func suiteSetups(groups map[string]float64) map[string]float64 {
	suites := map[string][]float64{}
	for place, seconds := range groups {
		suite, _, _ := strings.Cut(place, ":")
		suites[suite] = append(suites[suite], seconds)
	}
	return medians(suites)
}

func medians[K comparable](values map[K][]float64) map[K]float64 {
	out := make(map[K]float64, len(values))
	for at, seconds := range values {
		out[at] = Round(medianOf(seconds))
	}
	return out
}

// leastSetup is what it must cost to begin a batch to be counted, in seconds.
const leastSetup = 0.001

// LearnSetup makes one figure out of what it cost to begin batches of a group.
func LearnSetup(past []float64) float64 {
	if setup := Learn(past).Seconds; setup >= leastSetup {
		return setup
	}
	return 0
}

// Setups returns what it cost in a run to begin a batch of each group, suite:group, in seconds: how long its worker was busy without
// a test since the batch before, or what its process took beside its tests if that is more, as for the first batch of a worker, and
// for programs that report their tests only at their end.
func Setups(ran *run.Run) map[string]float64 {
	workers := map[int][]*run.Result{}
	for _, r := range ran.Results {
		if r.Worker > 0 && !r.Started.IsZero() {
			workers[r.Worker] = append(workers[r.Worker], r)
		}
	}
	setups := map[string]float64{}
	for _, results := range workers {
		slices.SortStableFunc(results, func(a, b *run.Result) int { return a.Started.Compare(b.Started) })
		batch, ended := results[0].Batch, results[0].Ended
		for _, r := range results[1:] {
			if r.Batch != batch {
				batch = r.Batch
				place, _, _ := strings.Cut(r.ID, "#")
				setups[place] = max(0, r.Started.Sub(ended).Seconds())
			}
			if r.Ended.After(ended) {
				ended = r.Ended
			}
		}
	}
	for place, seconds := range ran.Begun {
		setups[place] = max(setups[place], seconds)
	}
	return setups
}
