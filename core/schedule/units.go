package schedule

import (
	"maps"
	"math"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
)

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
	Whole *Unit  // that unit; nil for a whole one
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
func Units(tests []catalog.Test, together catalog.Level, shared ...string) ([]Unit, error) {
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
	if together == catalog.TestLevel || together == "" && catalog.CommonLevel(tests) == catalog.TestLevel {
		most = len(tests)
	}
	units := make([]Unit, 0, most)
	at := make(map[string]int, most)
	unitOf := make([]int, len(tests))
	several := slices.ContainsFunc(tests, func(t catalog.Test) bool { return t.Suite != tests[0].Suite })
	for i := range tests {
		t := &tests[i]
		name, label := together.Of(t).Place(t)
		if several && label == t.Group {
			label = t.GroupName() // another suite may have a group of that name
		}
		u, ok := at[name]
		if !ok {
			u = len(units)
			at[name] = u
			units = append(units, Unit{Name: name, Label: label})
		}
		unitOf[i] = u
		units[u].add(t)
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
	u.Deviation = math.Hypot(u.Deviation, t.Spread)
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

// Parts divides units whose tests hold different resources into parts, as a run does: a resource is held only while its part runs. No
// two parts of a unit run side by side, which counts as a resource that one of them may hold at a time. tests are those of the units.
func Parts(tests []catalog.Test, together catalog.Level, units []Unit, resources map[string]int) ([]Unit, map[string]int) {
	byUnit := testsByUnit(tests, together)
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
		resources[Exclusive(u.Name)] = 1
		out = append(out, parts...)
	}
	return out, resources
}

func testsByUnit(tests []catalog.Test, together catalog.Level) map[string][]*catalog.Test {
	byUnit := map[string][]*catalog.Test{}
	for i := range tests {
		if level := together.Of(&tests[i]); level == catalog.GroupLevel || level == catalog.SuiteLevel {
			name, _ := level.Place(&tests[i])
			byUnit[name] = append(byUnit[name], &tests[i])
		}
	}
	return byUnit
}

// partsOf returns the parts of a unit by what its tests hold.
func partsOf(u *Unit, tests []*catalog.Test) []Unit {
	var parts []Unit
	at := map[string]int{}
	for _, t := range tests {
		key := strings.Join(holds(t), "\n")
		p, known := at[key]
		if !known {
			p = len(parts)
			at[key] = p
			part := Unit{Name: u.Name, Label: u.Label, Of: u.Name, Whole: u, Uses: []string{Exclusive(u.Name)}}
			if key != "" {
				held := strings.Join(holds(t), ", ")
				part.Name, part.Label = u.Name+" with "+held, u.Label+" with "+held
			}
			parts = append(parts, part)
		}
		parts[p].add(t)
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
	sets := NewSets(len(units))
	holder := map[string]int{} // of a shared resource: the first unit that uses it
	for i := range tests {
		for _, id := range order.Dependencies(&tests[i]) {
			if other, ok := index[id]; ok {
				sets.Join(unitOf[i], unitOf[other])
			}
		}
		for _, r := range tests[i].Rules().Holds {
			if first, ok := holder[r]; ok {
				sets.Join(unitOf[i], first)
			} else if slices.Contains(shared, r) {
				holder[r] = unitOf[i]
			}
		}
	}
	whole, _ := Joined(units, sets)
	return whole
}

// Joined makes one unit of those in each set, and returns for each unit the set that it is in. The names decide
// which goes first, so that the order of the units does not.
func Joined(units []Unit, s Sets) (whole []Unit, in []int) {
	members := map[int][]int{} // by the first of the set
	for u := range units {
		first := s.Find(u)
		members[first] = append(members[first], u)
	}
	in = make([]int, len(units))
	for u := range units {
		if s.Find(u) != u {
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

// Sets is a partition; each set is known by its first member (Tarjan, "Efficiency of a good but not linear set
// union algorithm", 1975).
type Sets []int

// NewSets returns n sets of one member each.
func NewSets(n int) Sets {
	s := make(Sets, n)
	for i := range s {
		s[i] = i
	}
	return s
}

// Find returns the first member of the set that a member is in.
func (s Sets) Find(i int) int {
	for s[i] != i {
		s[i] = s[s[i]]
		i = s[i]
	}
	return i
}

// Join makes one set of those that two members are in.
func (s Sets) Join(i, j int) {
	a, b := s.Find(i), s.Find(j)
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
		if parts, err := Units(catalog.Only(tests, u.Tests), catalog.TestLevel); err == nil {
			out = append(out, parts...)
		}
	}
	return out
}

// Share returns the share of a processor that the unit uses when it runs alone.
func (u *Unit) Share() float64 { return u.Busy / max(u.Seconds, 1e-9) }

// Place is where the unit's process runs. Units of one place can share a batch.
func (u *Unit) Place() string {
	if len(u.Setups) == 1 {
		return u.Setups[0].Place
	}
	return u.Name
}
