// Package split plans shards: which tests go together to which worker or
// machine, so that all of them end at about the same time.
//
//	units, err := split.Units(picked, split.Group)
//	plan := split.Balance(units, 6)
package split

import (
	"encoding/json"
	"fmt"

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
