package split

import (
	"cmp"
	"fmt"
	"maps"
	"math"
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
	Suite Together = "suite"
)

// of returns the level for a test: t, or what the test says if t is empty.
func (t Together) of(test *catalog.Test) Together { return cmp.Or(t, Together(test.Together), Group) }

// Common returns the level that all tests have, or "" if they differ.
func Common(tests []catalog.Test) Together {
	var common Together
	for i := range tests {
		level := common.of(&tests[i])
		if own := Together("").of(&tests[i]); own != level {
			return ""
		}
		common = level
	}
	return cmp.Or(common, Group)
}

// Levels lists them, the coarsest first.
var Levels = []Together{Suite, Group, File, Test}

// Unit is a piece of work that is not split further.
type Unit struct {
	Name      string // the suite, suite:group, suite:file or the test's ID
	Label     string // the same without the suite
	Tests     []string
	Seconds   float64 // of the tests
	Deviation float64 // of Seconds: its standard deviation
	Busy      float64 // seconds of a processor that the tests use
	Unknown   int     // how many of Tests were never measured
	Estimated float64 // the part of Seconds that these take
	Setups    []Setup // what a shard must begin for it, once for all units that share it
	Uses      []string

	Of    string // the name of the unit that it is a part of; empty for a whole one
	whole *Unit  // that unit; nil for a whole one
}

// Setup is what it costs to begin a batch of one place, such as the start of a
// process, whatever runs in it.
type Setup struct {
	Place   string // suite:group
	Seconds float64
}

// Alone is what the unit takes on a shard of its own.
func (u *Unit) Alone() float64 {
	seconds := u.Seconds
	for _, s := range u.Setups {
		seconds += s.Seconds
	}
	return seconds
}

// join takes another unit in, so that the two are not parted.
func (u *Unit) join(other Unit) {
	u.Label += " + " + other.Label
	u.Tests = append(slices.Clip(u.Tests), other.Tests...)
	u.Seconds += other.Seconds
	u.Busy += other.Busy
	u.Deviation = math.Hypot(u.Deviation, other.Deviation)
	u.Unknown += other.Unknown
	u.Estimated += other.Estimated
	for _, s := range other.Setups {
		if !slices.ContainsFunc(u.Setups, func(own Setup) bool { return own.Place == s.Place }) {
			u.Setups = append(slices.Clip(u.Setups), s)
		}
	}
	for _, r := range other.Uses {
		if !slices.Contains(u.Uses, r) {
			u.Uses = append(slices.Clip(u.Uses), r)
		}
	}
}

// Units folds tests into the units that stay together, in the order in which the tests first name them: at one level,
// or at the level of each test if together is empty. A test without a file stays with its group. Units whose tests need each other, come after each other, or hold the same
// resource that all machines share, are one. An error names tests that wait for each other in a circle.
func Units(tests []catalog.Test, together Together, shared ...string) ([]Unit, error) {
	if err := together.Check(); err != nil {
		return nil, err
	}
	chains := len(shared) > 0
	for i := 0; i < len(tests) && !chains; i++ {
		chains = len(tests[i].Rules().Needs)+len(tests[i].Rules().After) > 0
	}
	if chains {
		if _, err := order.Settle(tests); err != nil {
			return nil, err
		}
	}
	most := 0
	if together == Test || together == "" && Common(tests) == Test {
		most = len(tests)
	}
	units, squares := make([]Unit, 0, most), make([]float64, 0, most) // the variance of each
	at := make(map[string]int, most)
	unitOf := make([]int, len(tests))
	several := slices.ContainsFunc(tests, func(t catalog.Test) bool { return t.Suite != tests[0].Suite })
	for i := range tests {
		t := &tests[i]
		name, label := together.of(t).key(t)
		if several && label == t.Group {
			label = t.GroupName() // another suite may have a group of that name
		}
		u, ok := at[name]
		if !ok {
			u = len(units)
			at[name] = u
			units = append(units, Unit{Name: name, Label: label})
			squares = append(squares, 0)
		}
		unitOf[i] = u
		units[u].add(t)
		squares[u] += t.Spread * t.Spread
	}
	for u := range units {
		units[u].Deviation = math.Sqrt(squares[u])
	}
	if !chains {
		return units, nil
	}
	return chained(tests, units, unitOf, shared), nil
}

func (u *Unit) add(t *catalog.Test) {
	u.Tests = append(u.Tests, t.ID)
	u.Seconds += t.Expected
	u.Busy += t.Expected * t.Share
	if !t.Known {
		u.Unknown++
		u.Estimated += t.Expected
	}
	if t.Setup > 0 && !slices.ContainsFunc(u.Setups, func(s Setup) bool { return s.Place == t.GroupName() }) {
		u.Setups = append(u.Setups, Setup{t.GroupName(), t.Setup})
	}
	for _, r := range t.Rules().Holds {
		if !slices.Contains(u.Uses, r) {
			u.Uses = append(u.Uses, r)
		}
	}
}

// inParts divides units whose tests hold different resources into parts, as a run does: a resource is held only while its part runs. No
// two parts of a unit run side by side, which counts as a resource that one of them may hold at a time. tests are those of the units.
func inParts(tests []catalog.Test, together Together, units []Unit, resources map[string]int) ([]Unit, map[string]int) {
	byUnit := map[string][]*catalog.Test{}
	for i := range tests {
		if level := together.of(&tests[i]); level == Group || level == Suite {
			name, _ := level.key(&tests[i])
			byUnit[name] = append(byUnit[name], &tests[i])
		}
	}
	out := make([]Unit, 0, len(units))
	resources = maps.Clone(resources)
	for i := range units {
		u := &units[i]
		own := byUnit[u.Name]
		depends := slices.ContainsFunc(own, func(t *catalog.Test) bool { return len(order.Dependencies(t)) > 0 })
		var parts []Unit
		if !depends && len(own) == len(u.Tests) { // else others are joined to it
			parts = partsOf(u, own)
		}
		if len(parts) < 2 {
			out = append(out, *u)
			continue
		}
		resources[apartSign+u.Name] = 1
		out = append(out, parts...)
	}
	return out, resources
}

// partsOf returns the parts of a unit by what its tests hold.
func partsOf(u *Unit, tests []*catalog.Test) []Unit {
	var parts []Unit
	var squares []float64
	at := map[string]int{}
	for _, t := range tests {
		key := strings.Join(holds(t), "\n")
		p, known := at[key]
		if !known {
			p = len(parts)
			at[key] = p
			part := Unit{Name: u.Name, Label: u.Label, Of: u.Name, whole: u, Uses: []string{apartSign + u.Name}}
			if key != "" {
				held := strings.Join(holds(t), ", ")
				part.Name, part.Label = u.Name+" with "+held, u.Label+" with "+held
			}
			parts, squares = append(parts, part), append(squares, 0)
		}
		parts[p].add(t)
		squares[p] += t.Spread * t.Spread
	}
	for p := range parts {
		parts[p].Deviation = math.Sqrt(squares[p])
	}
	return parts
}

// chained joins the units that tests depend over, or that share what only one
// shard may use, so that no shard waits for what another has.
func chained(tests []catalog.Test, units []Unit, unitOf []int, shared []string) []Unit {
	index := make(map[string]int, len(tests))
	for i := range tests {
		index[tests[i].ID] = i
	}
	sets := newSets(len(units))
	holder := map[string]int{} // of a shared resource: the first unit that uses it
	for i := range tests {
		for _, id := range order.Dependencies(&tests[i]) {
			if other, ok := index[id]; ok {
				sets.join(unitOf[i], unitOf[other])
			}
		}
		for _, r := range tests[i].Rules().Holds {
			if first, ok := holder[r]; ok {
				sets.join(unitOf[i], first)
			} else if slices.Contains(shared, r) {
				holder[r] = unitOf[i]
			}
		}
	}
	whole, _ := joined(units, sets)
	return whole
}

// joined makes one unit of those in each set, and returns for each unit the set that it is in. The names decide
// which goes first, so that the order of the units does not.
func joined(units []Unit, s sets) (whole []Unit, in []int) {
	members := map[int][]int{} // by the first of the set
	for u := range units {
		first := s.find(u)
		members[first] = append(members[first], u)
	}
	in = make([]int, len(units))
	for u := range units {
		if s.find(u) != u {
			continue
		}
		slices.SortFunc(members[u], func(a, b int) int { return strings.Compare(units[a].Name, units[b].Name) })
		one := units[members[u][0]]
		for _, other := range members[u][1:] {
			one.join(units[other])
		}
		for _, member := range members[u] {
			in[member] = len(whole)
		}
		whole = append(whole, one)
	}
	return whole, in
}

// sets is a partition; each set is known by its first member (Tarjan, "Efficiency of a good but not linear set
// union algorithm", 1975).
type sets []int

func newSets(n int) sets {
	s := make(sets, n)
	for i := range s {
		s[i] = i
	}
	return s
}

func (s sets) find(i int) int {
	for s[i] != i {
		s[i] = s[s[i]]
		i = s[i]
	}
	return i
}

func (s sets) join(i, j int) {
	a, b := s.find(i), s.find(j)
	s[max(a, b)] = min(a, b)
}

// Apart returns the units with one of them divided into its tests, which are among others; tests that depend on
// each other still stay together.
func Apart(units []Unit, name string, tests []catalog.Test) []Unit {
	var out []Unit
	for _, u := range units {
		if u.Name != name {
			out = append(out, u)
			continue
		}
		if parts, err := Units(only(tests, u.Tests), Test); err == nil {
			out = append(out, parts...)
		}
	}
	return out
}

// only keeps the tests with some IDs.
func only(tests []catalog.Test, ids []string) []catalog.Test {
	wanted := make(map[string]bool, len(ids))
	for _, id := range ids {
		wanted[id] = true
	}
	var own []catalog.Test
	for _, t := range tests {
		if wanted[t.ID] {
			own = append(own, t)
		}
	}
	return own
}

// key returns the name and the label of the unit that a test belongs to at this level.
func (t Together) key(test *catalog.Test) (name, label string) {
	switch {
	case t == Suite:
		return test.Suite, test.Suite
	case t == File && test.File != "":
		return test.Suite + ":" + test.File, test.File
	case t == Test:
		return test.ID, test.GroupLabel() + "#" + test.Name
	}
	return test.GroupName(), test.GroupLabel()
}

// Check refuses what is no level. Empty means the level of each test.
func (t Together) Check() error {
	if t != "" && !slices.Contains(Levels, t) {
		return fmt.Errorf("what stays together is %q: test, file, group or suite is expected", string(t))
	}
	return nil
}
