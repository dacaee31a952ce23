// Package split plans shards: which tests go together to which worker or
// machine, so that all of them end at about the same time.
//
//	units, err := split.Units(picked, split.Group)
//	plan := split.Balance(units, 6)
package split

import (
	"container/heap"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
)

// Together says which tests must not be parted.
type Together string

// What may stay together.
const (
	Test  Together = "test"
	File  Together = "file"
	Group Together = "group"
)

// Unit is a piece of work that is not split further.
type Unit struct {
	Name    string // suite:group, suite:file or the test's ID
	Label   string // the same for people: the group, file or test alone
	Tests   []string
	Seconds float64
	Unknown int // how many of Tests were never measured
}

// Shard is a planned share of the tests.
type Shard struct {
	Number  int // from 1
	Seconds float64
	Units   []Unit // the longest first
}

// Tests lists the IDs of the shard's tests in the order planned.
func (s Shard) Tests() []string {
	ids := []string{}
	for _, u := range s.Units {
		ids = append(ids, u.Tests...)
	}
	return ids
}

// Plan is the tests of a pick dealt out to shards. Finish is when the last shard
// ends, Floor a time below which no plan of these units on as many shards can
// end, Spread the last end minus the first; all in seconds.
type Plan struct {
	Shards  []Shard
	Finish  float64
	Floor   float64
	Optimal bool // Finish is proven to be the least
	Spread  float64
	Work    float64 // all units together
	Unknown int
	Setter  *Unit // the unit that is the floor by its own length, if one is
}

// Format names the JSON form of a plan.
const Format = "fern-split/1"

// MarshalJSON writes the promised form of "split --json".
func (p Plan) MarshalJSON() ([]byte, error) {
	type shard struct {
		Shard   int      `json:"shard"`
		Seconds float64  `json:"seconds"`
		Tests   []string `json:"tests"`
	}
	shards := make([]shard, len(p.Shards))
	for i, s := range p.Shards {
		shards[i] = shard{s.Number, s.Seconds, s.Tests()}
	}
	return json.Marshal(struct {
		Format  string  `json:"format"`
		Shards  []shard `json:"shards"`
		Finish  float64 `json:"finish_s"`
		Floor   float64 `json:"floor_s"`
		Optimal bool    `json:"optimal"`
		Spread  float64 `json:"spread_s"`
		Unknown int     `json:"unknown"`
	}{Format, shards, p.Finish, p.Floor, p.Optimal, p.Spread, p.Unknown})
}

// Units folds tests into the units that stay together, in the order in which
// the tests first name them. A test without a file stays with its group. Units
// whose tests need each other, or come after each other, are one.
func Units(tests []catalog.Test, together Together) ([]Unit, error) {
	key, err := together.key()
	if err != nil {
		return nil, err
	}
	var units []Unit
	at := map[string]int{}
	for i := range tests {
		t := &tests[i]
		name, label := key(t)
		u, ok := at[name]
		if !ok {
			u = len(units)
			at[name] = u
			units = append(units, Unit{Name: name, Label: label})
		}
		units[u].Tests = append(units[u].Tests, t.ID)
		units[u].Seconds += t.Expected
		if !t.Known {
			units[u].Unknown++
		}
	}
	return chained(tests, units), nil
}

// chained joins the units that tests depend over, so that no shard waits for
// what another has.
func chained(tests []catalog.Test, units []Unit) []Unit {
	unitOf := make(map[string]int, len(tests)) // by test
	root := make([]int, len(units))            // the first of the units joined with each, or one nearer to it
	for u := range units {
		root[u] = u
		for _, id := range units[u].Tests {
			unitOf[id] = u
		}
	}
	find := func(u int) int {
		for root[u] != u {
			u = root[u]
		}
		return u
	}
	for i := range tests {
		for _, id := range order.Dependencies(&tests[i]) {
			if other, ok := unitOf[id]; ok {
				a, b := find(unitOf[tests[i].ID]), find(other)
				root[max(a, b)] = min(a, b)
			}
		}
	}
	joined := units[:0]
	at := make([]int, len(units))
	for u, unit := range units {
		first := find(u)
		if first == u {
			at[u] = len(joined)
			joined = append(joined, unit)
			continue
		}
		to := &joined[at[first]]
		to.Label += " + " + unit.Label
		to.Tests = append(to.Tests, unit.Tests...)
		to.Seconds += unit.Seconds
		to.Unknown += unit.Unknown
	}
	return joined
}

func (t Together) key() (func(*catalog.Test) (name, label string), error) {
	group := func(t *catalog.Test) (string, string) { return t.Suite + ":" + t.Group, t.Group }
	switch t {
	case Group:
		return group, nil
	case File:
		return func(t *catalog.Test) (string, string) {
			if t.File == "" {
				return group(t)
			}
			return t.Suite + ":" + t.File, t.File
		}, nil
	case Test:
		return func(t *catalog.Test) (string, string) { return t.ID, t.Name }, nil
	}
	return nil, fmt.Errorf("what stays together is %q: test, file or group is expected", string(t))
}

// Balance deals the units out to shards, each to the shard that is least loaded
// so far, the longest unit first (Graham, "Bounds on multiprocessing timing
// anomalies", 1969): at most 4/3 of the least finish. The plan does not depend
// on the order of the units. shards is at least 1.
func Balance(units []Unit, shards int) Plan {
	sorted := slices.Clone(units)
	slices.SortFunc(sorted, func(a, b Unit) int {
		if a.Seconds != b.Seconds {
			if a.Seconds > b.Seconds {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Name, b.Name)
	})
	loads := make(loadHeap, shards)
	plan := Plan{Shards: make([]Shard, shards)}
	for i := range plan.Shards {
		plan.Shards[i].Number = i + 1
		loads[i] = &plan.Shards[i]
	}
	for _, u := range sorted {
		least := loads[0]
		least.Units = append(least.Units, u)
		least.Seconds += u.Seconds
		heap.Fix(&loads, 0)
		plan.Work += u.Seconds
		plan.Unknown += u.Unknown
	}
	first := plan.Shards[0].Seconds
	for _, s := range plan.Shards {
		plan.Finish = max(plan.Finish, s.Seconds)
		first = min(first, s.Seconds)
	}
	plan.Spread = plan.Finish - first
	plan.Floor, plan.Setter = floor(sorted, shards, plan.Work)
	plan.Optimal = plan.Finish <= plan.Floor*(1+1e-9)
	return plan
}

// floor is the greatest of three bounds: the even share of the work, the longest
// unit, and the two that must share a shard when there are more units than
// shards. The units come longest first.
func floor(units []Unit, shards int, work float64) (float64, *Unit) {
	least := work / float64(shards)
	if len(units) > shards {
		least = max(least, units[shards-1].Seconds+units[shards].Seconds)
	}
	if len(units) > 0 && units[0].Seconds >= least {
		return units[0].Seconds, &units[0]
	}
	return least, nil
}

// loadHeap has the least loaded shard on top, of equal ones the lowest number.
type loadHeap []*Shard

func (h loadHeap) Len() int { return len(h) }
func (h loadHeap) Less(i, j int) bool {
	if h[i].Seconds != h[j].Seconds {
		return h[i].Seconds < h[j].Seconds
	}
	return h[i].Number < h[j].Number
}
func (h loadHeap) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *loadHeap) Push(x any)   { *h = append(*h, x.(*Shard)) }
func (h *loadHeap) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}
