package matrix

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// Outcomes is how a test ended in crossings: by the crossing's key, for each time that it ran there, whether it was bad.
type Outcomes map[string][]bool

// Explanation says which values make tests fail.
type Explanation struct {
	Cause
	Tests    []string      // IDs
	Failures []*run.Result // of these tests; nil if [Matrix.Explain] did the explaining
	Same     []string      // names that make no difference, whichever explanation is the right one
	Rivals   []Rival       // explanations as short as this one that the crossings that ran do not distinguish from it
}

// Cause is the crossings in which a test fails: those with some values, all of them if there are none, or all but those.
type Cause struct {
	Where  Assignment
	Except bool
}

// Rival is another explanation, and what would decide between the two.
type Rival struct {
	Cause
	Decide Assignment // a crossing that has not run; nil if there is none
}

// Explained is the explanations of a matrix, and the tests that have none.
type Explained struct {
	Explanations []Explanation // those with more tests first
	Flaky        []string      // IDs of tests that differ within crossings
	Unexplained  []string      // IDs of tests that fail in crossings that no values describe
}

// Explain finds, for each test that fails somewhere, the fewest values that describe the crossings in which it fails, or those
// in which it does not, and joins tests with the same explanation. It is exact: a combination of values that agrees with all
// crossings that ran is found, and one that does not is none. Crossings in which a test differed from time to time are left out
// of its pattern; a test with more than a tenth of such crossings is flaky.
func (m *Matrix) Explain(tests map[string]Outcomes) Explained {
	x := newExplainer(m)
	var out Explained
	joined := map[string]*Explanation{}
	for _, id := range slices.Sorted(maps.Keys(tests)) {
		p := x.pattern(tests[id])
		found := x.searched(p)
		switch {
		case p.bad.Len() == 0 && p.mixed == 0:
			continue
		case 10*p.mixed > p.ran.Len()+p.mixed || p.mixed > 0 && (found == nil || p.bad.Len() == 0):
			out.Flaky = append(out.Flaky, id)
			continue
		case found == nil:
			out.Unexplained = append(out.Unexplained, id)
			continue
		}
		key := found.Cause.key()
		if joined[key] == nil {
			joined[key] = &Explanation{Cause: found.Cause, Same: slices.Clone(found.Same)}
		}
		joined[key].join(found, id)
	}
	share(joined)
	for _, key := range slices.Sorted(maps.Keys(joined)) {
		out.Explanations = append(out.Explanations, *joined[key])
	}
	slices.SortStableFunc(out.Explanations, func(a, b Explanation) int { return cmp.Compare(len(b.Tests), len(a.Tests)) })
	return out
}

// share moves tests whose explanation is open to one that is as good for them and certain for other tests: one explanation for
// all is likelier than two.
func share(joined map[string]*Explanation) {
	for _, key := range slices.Sorted(maps.Keys(joined)) {
		open := joined[key]
		for _, r := range open.Rivals {
			certain := joined[r.Cause.key()]
			if certain == nil || len(certain.Rivals) > 0 {
				continue
			}
			for _, id := range open.Tests {
				certain.join(&Explanation{Same: open.Same}, id)
			}
			slices.Sort(certain.Tests)
			certain.Rivals = []Rival{{open.Cause, r.Decide}}
			delete(joined, key)
			break
		}
	}
}

// join adds a test whose explanation has the same cause. What one test leaves open is open for all.
func (e *Explanation) join(other *Explanation, id string) {
	e.Tests = append(e.Tests, id)
	e.Same = slices.DeleteFunc(e.Same, func(name string) bool { return !slices.Contains(other.Same, name) })
	for _, r := range other.Rivals {
		if !slices.ContainsFunc(e.Rivals, func(known Rival) bool { return known.Cause.key() == r.Cause.key() }) {
			e.Rivals = append(e.Rivals, r)
		}
	}
}

func (c *Cause) key() string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(c.Where)) {
		parts = append(parts, name+"="+c.Where[name])
	}
	key := strings.Join(parts, ",")
	if c.Except {
		key = "but " + key
	}
	return key
}

// minus returns the crossings of a that b does not have.
func minus(a, b catalog.Set) catalog.Set {
	out := slices.Clone(a)
	out.AndNot(b)
	return out
}

// explainer has the crossings of a matrix as sets.
type explainer struct {
	m     *Matrix
	place map[string]int            // by key: of the crossing
	with  map[[2]string]catalog.Set // by name and value: the crossings that have it
	found map[string]*Explanation
}

func newExplainer(m *Matrix) *explainer {
	x := &explainer{m: m, place: map[string]int{}, with: map[[2]string]catalog.Set{}, found: map[string]*Explanation{}}
	for i := range m.Crossings {
		c := &m.Crossings[i]
		x.place[c.Key()] = i
		for name, value := range c.Of {
			at := [2]string{name, value}
			if x.with[at] == nil {
				x.with[at] = catalog.NewSet(len(m.Crossings))
			}
			x.with[at].Add(i)
		}
	}
	return x
}

// pattern is where a test ran and always had the same outcome, and where that was bad.
type pattern struct {
	ran, bad catalog.Set
	mixed    int // crossings in which it differed
}

func (x *explainer) pattern(o Outcomes) pattern {
	p := pattern{ran: catalog.NewSet(len(x.m.Crossings)), bad: catalog.NewSet(len(x.m.Crossings))}
	for key, times := range o {
		at, known := x.place[key]
		switch {
		case !known || len(times) == 0:
		case slices.Contains(times, !times[0]):
			p.mixed++
		default:
			p.ran.Add(at)
			if times[0] {
				p.bad.Add(at)
			}
		}
	}
	return p
}

// searched is search, which it calls once for each pattern, as many tests have the same.
func (x *explainer) searched(p pattern) *Explanation {
	key := fmt.Sprint(p.ran, p.bad)
	found, known := x.found[key]
	if !known {
		found = x.search(p)
		x.found[key] = found
	}
	return found
}

// candidate is a cause that agrees with a pattern.
type candidate struct {
	Cause
	fails catalog.Set // of all crossings
}

// search returns the shortest explanation of a pattern, nil if there is none.
//
// A combination of values that describes exactly the bad crossings has only values that all of these have, so that of 6 names
// 64 combinations are enough; the same holds for the good ones and their opposites.
func (x *explainer) search(p pattern) *Explanation {
	if p.bad.Len() == 0 {
		return nil
	}
	all := append(x.agreeing(p.bad, p.ran, false), x.agreeing(minus(p.ran, p.bad), p.ran, true)...)
	if len(all) == 0 {
		return nil
	}
	slices.SortStableFunc(all, func(a, b candidate) int { return cmp.Compare(len(a.Where), len(b.Where)) })
	best := all[0]
	found := &Explanation{Cause: best.Cause, Same: x.same(all)}
	for _, c := range all[1:] {
		if len(c.Where) > len(best.Where) {
			break
		}
		if !slices.Equal(c.fails, best.fails) { // else it is the same in other words
			found.Rivals = append(found.Rivals, Rival{c.Cause, x.decide(p.ran, best.fails, c.fails)})
		}
	}
	if found.Rivals == nil {
		found.Rivals = x.longerRival(p, best, all)
	}
	return found
}

// longerRival returns the shortest of the longer explanations that a crossing that has not run distinguishes from the best; none
// if there is no such crossing.
func (x *explainer) longerRival(p pattern, best candidate, all []candidate) []Rival {
	for _, c := range all {
		if len(c.Where) <= len(best.Where) {
			continue
		}
		if of := x.decide(p.ran, best.fails, c.fails); of != nil {
			return []Rival{{c.Cause, of}}
		}
	}
	return nil
}

// agreeing returns the causes whose values describe exactly some of the crossings that ran; except says that they fail
// elsewhere.
func (x *explainer) agreeing(described, ran catalog.Set, except bool) []candidate {
	common := x.common(described)
	whole := catalog.NewSet(len(x.m.Crossings))
	for i := range x.m.Crossings {
		whole.Add(i)
	}
	var all []candidate
	for chosen := range 1 << len(common) {
		where, in := Assignment{}, slices.Clone(whole)
		for i, at := range common {
			if chosen&(1<<i) != 0 {
				where[at[0]] = at[1]
				in.And(x.with[at])
			}
		}
		seen := slices.Clone(in)
		seen.And(ran)
		if !slices.Equal(seen, described) || except && len(where) == 0 {
			continue
		}
		if except {
			in = minus(whole, in)
		}
		all = append(all, candidate{Cause{where, except}, in})
	}
	return all
}

// common returns the names and values that all of some crossings have. Of no crossings it is none.
func (x *explainer) common(some catalog.Set) (common [][2]string) {
	for _, n := range x.m.Spec.Names {
		for at, with := range x.with {
			if at[0] == n.Name && some.Len() > 0 && minus(some, with).Len() == 0 {
				common = append(common, at)
			}
		}
	}
	return common
}

// same returns the names on which none of the causes depends.
func (x *explainer) same(all []candidate) (same []string) {
	for _, n := range x.m.Spec.Names {
		depends := func(c candidate) bool { _, ok := c.Where[n.Name]; return ok }
		if !slices.ContainsFunc(all, depends) {
			same = append(same, n.Name)
		}
	}
	return same
}

// decide returns a crossing that has not run and that distinguishes two explanations, nil if none does. Those that are left out
// do not run.
func (x *explainer) decide(ran, a, b catalog.Set) Assignment {
	for i := range x.m.Crossings {
		if c := &x.m.Crossings[i]; !ran.Has(i) && a.Has(i) != b.Has(i) && c.LeaveOut == "" {
			return c.Of
		}
	}
	return nil
}
