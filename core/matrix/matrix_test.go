package matrix

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/run"
)

// varying returns names with numbers of values.
func varying(values ...int) []Name {
	names := make([]Name, len(values))
	for i, n := range values {
		names[i].Name = fmt.Sprintf("n%d", i)
		for v := range n {
			names[i].Values = append(names[i].Values, fmt.Sprintf("v%d", v))
		}
	}
	return names
}

// TestProduct compares random matrices with a plain reading of the rules: which crossings there are, and what each brings along.
func TestProduct(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	for round := range 500 {
		s := Spec{Names: varying(1+random.IntN(3), 1+random.IntN(3), 1+random.IntN(2))}
		part := func() Assignment {
			a := Assignment{}
			for len(a) == 0 {
				for _, n := range s.Names {
					if random.IntN(2) == 0 {
						a[n.Name] = n.Values[random.IntN(len(n.Values))]
					}
				}
			}
			return a
		}
		for range random.IntN(6) {
			w := With{Of: part(), Env: map[string]string{}}
			if random.IntN(2) == 0 {
				w.Env["K"] = fmt.Sprint(len(s.With))
			}
			if random.IntN(5) == 0 {
				w.MayFail = fmt.Sprint("because ", len(s.With))
			}
			s.With = append(s.With, w)
		}
		m, err := New(s)
		if err != nil {
			t.Fatal(err)
		}
		want := len(s.Names[0].Values) * len(s.Names[1].Values) * len(s.Names[2].Values)
		if len(m.Crossings) != want {
			t.Fatalf("round %d: %d crossings, want %d", round, len(m.Crossings), want)
		}
		for _, c := range m.Crossings {
			env, mayFail, size, failSize := "", "", 0, 0
			for _, w := range s.With {
				if !w.Of.Within(c.Of) {
					continue
				}
				if v, ok := w.Env["K"]; ok && len(w.Of) >= size {
					env, size = v, len(w.Of)
				}
				if w.MayFail != "" && len(w.Of) >= failSize {
					mayFail, failSize = w.MayFail, len(w.Of)
				}
			}
			if c.Env["K"] != env || c.MayFail != mayFail {
				t.Fatalf("round %d: %s brings %q and %q, want %q and %q, of %+v", round, c.Key(), c.Env["K"], c.MayFail, env, mayFail, s.With)
			}
		}
	}
}

// TestMistakes holds what is refused, and where the mistake is said to be.
func TestMistakes(t *testing.T) {
	names := []Name{{"store", []string{"memory", "redis"}}, {"season", []string{"winter", "summer"}}}
	full := Assignment{"store": "memory", "season": "winter"}
	for want, s := range map[string]Spec{
		"vary 0 : nothing varies":                      {},
		"vary 0 store: store has no values":            {Names: []Name{{Name: "store"}}},
		"vary 0 store: store has the value a twice":    {Names: []Name{{"store", []string{"a", "a"}}}},
		"with 0 of: stroe does not vary":               {Names: names, With: []With{{Of: Assignment{"stroe": "redis"}}}},
		"with 1 of: store has no value mysql":          {Names: names, With: []With{{Of: full}, {Of: Assignment{"store": "mysql"}}}},
		"with 0 of: an entry says":                     {Names: names, With: []With{{}}},
		"with 0 may-fail: what is left out":            {Names: names, With: []With{{Of: full, LeaveOut: "a", MayFail: "b"}}},
		"add 0 of: the crossing memory winter is":      {Names: names, Add: []Assignment{full}},
		"add 0 of: a crossing gives a value":           {Names: names, Add: []Assignment{{"store": "file"}}},
		"add 0 of: colour does not vary":               {Names: names, Add: []Assignment{{"store": "file", "season": "winter", "colour": "red"}}},
		"with 0 leave-out: all crossings are left out": {Names: []Name{{"a", []string{"x"}}}, With: []With{{Of: Assignment{"a": "x"}, LeaveOut: "why"}}},
		"vary 2 n2: there are more than":               {Names: varying(100, 100, 100)},
	} {
		_, err := New(s)
		wrong, ok := err.(*Error)
		if !ok {
			t.Errorf("%s: the error is %v", want, err)
			continue
		}
		if got := fmt.Sprintf("%s %d %s: %s", wrong.Table, wrong.Entry, wrong.Name, wrong.What); !strings.HasPrefix(got, want) {
			t.Errorf("the error is %q, want %q", got, want)
		}
	}
	if m, err := New(Spec{Names: names, Add: []Assignment{{"store": "file", "season": "winter"}}}); err != nil || len(m.Crossings) != 5 || m.Crossings[4].Label() != "file winter" {
		t.Errorf("with an added crossing: %+v, %v", m, err)
	}
}

// uncovered counts the values, and pairs of them, that crossings which run have and chosen ones do not.
func uncovered(m *Matrix, chosen []Crossing) int {
	pairs := func(crossings []Crossing) map[string]bool {
		all := map[string]bool{}
		for _, c := range crossings {
			if c.LeaveOut != "" {
				continue
			}
			for i, a := range c.Names {
				all[a+c.Of[a]] = true
				for _, b := range c.Names[i+1:] {
					all[a+c.Of[a]+b+c.Of[b]] = true
				}
			}
		}
		return all
	}
	have, missing := pairs(chosen), 0
	for pair := range pairs(m.Crossings) {
		if !have[pair] {
			missing++
		}
	}
	return missing
}

// TestPairs holds that all pairs are covered, near the best known numbers of crossings (Colbourn's tables of covering arrays),
// and that what is left out is never chosen.
func TestPairs(t *testing.T) {
	for _, c := range []struct{ names, values, best int }{{4, 3, 9}, {5, 4, 16}, {10, 2, 6}, {1, 4, 4}, {2, 3, 9}} {
		m, err := New(Spec{Names: varying(slices.Repeat([]int{c.values}, c.names)...)})
		if err != nil {
			t.Fatal(err)
		}
		chosen := m.Pairs(Thorough)
		if n := uncovered(m, chosen); n > 0 {
			t.Errorf("%d^%d: %d pairs are not covered", c.values, c.names, n)
		}
		if 10*len(chosen) > 12*c.best {
			t.Errorf("%d^%d: %d crossings, the best known are %d", c.values, c.names, len(chosen), c.best)
		}
	}
	single, err := New(Spec{Names: varying(3), With: []With{{LeaveOut: "no", Of: Assignment{"n0": "v0"}}}})
	if err != nil {
		t.Fatal(err)
	}
	if chosen := single.Pairs(Quick); len(chosen) != 2 || uncovered(single, chosen) > 0 {
		t.Errorf("of one name without its first value: %v", chosen)
	}
	random := rand.New(rand.NewPCG(2, 2))
	for range 50 {
		s := Spec{Names: varying(2+random.IntN(3), 2+random.IntN(3), 2+random.IntN(2), 2)}
		for range random.IntN(4) {
			s.With = append(s.With, With{LeaveOut: "no", Of: Assignment{"n0": fmt.Sprintf("v%d", random.IntN(2)), "n1": fmt.Sprintf("v%d", random.IntN(2))}})
		}
		m, err := New(s)
		if err != nil {
			t.Fatal(err)
		}
		chosen := m.Pairs(Quick)
		if n := uncovered(m, chosen); n > 0 || slices.ContainsFunc(chosen, func(c Crossing) bool { return c.LeaveOut != "" }) {
			t.Errorf("%d pairs are not covered by %d crossings", n, len(chosen))
		}
	}
}

// failsIn reports whether a cause makes a crossing fail.
func (c Cause) failsIn(of Assignment) bool { return c.Where.Within(of) != c.Except }

// TestExplain explains random truths among crossings of which some are missing, and some differ from time to time. The truth is
// the explanation, or one of its rivals, or longer than it; and a name that is said to make no difference makes none.
func TestExplain(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	const rounds = 5000
	right := 0
	for round := range rounds {
		values := make([]int, 2+random.IntN(3))
		for i := range values {
			values[i] = 2 + random.IntN(3)
		}
		m, err := New(Spec{Names: varying(values...)})
		if err != nil {
			t.Fatal(err)
		}
		truth := Cause{Where: Assignment{}, Except: random.IntN(3) == 0}
		for _, n := range m.Spec.Names {
			if random.IntN(len(values)) == 0 {
				truth.Where[n.Name] = n.Values[random.IntN(len(n.Values))]
			}
		}
		if len(truth.Where) == 0 {
			truth.Except = false
		}
		o, bad, good, mixed := Outcomes{}, 0, 0, 0
		for _, c := range m.Crossings {
			if random.IntN(5) == 0 {
				continue // it has not run
			}
			fails := truth.failsIn(c.Of)
			o[c.Key()] = []bool{fails, fails}
			if random.IntN(50) == 0 {
				o[c.Key()][1] = !fails // noise
				mixed++
			} else if fails {
				bad++
			} else {
				good++
			}
		}
		out := m.Explain(map[string]Outcomes{"a": o})
		if bad == 0 || 10*mixed > len(o) && len(out.Flaky) == 1 {
			right++
			continue
		}
		if len(out.Explanations) != 1 {
			continue // too much noise
		}
		e := out.Explanations[0]
		matches := func(c Cause) bool { return c.Except == truth.Except && maps.Equal(c.Where, truth.Where) }
		agrees := matches(e.Cause) || len(truth.Where) > len(e.Where) || slices.ContainsFunc(e.Rivals, func(r Rival) bool { return matches(r.Cause) })
		if !agrees { // the same in other words, as where a name has two values
			agrees = !slices.ContainsFunc(m.Crossings, func(c Crossing) bool { return e.failsIn(c.Of) != truth.failsIn(c.Of) })
		}
		if agrees {
			right++
		} else {
			t.Errorf("round %d: the truth is %+v, found %+v", round, truth, e)
		}
		for _, r := range e.Rivals {
			if r.Decide != nil && (r.failsIn(r.Decide) == e.failsIn(r.Decide) || o[(&Crossing{Of: r.Decide, Names: m.Crossings[0].Names}).Key()] != nil && !slices.Contains(o[(&Crossing{Of: r.Decide, Names: m.Crossings[0].Names}).Key()], true)) {
				t.Errorf("round %d: %v does not decide between %+v and %+v", round, r.Decide, e.Cause, r.Cause)
			}
		}
		for _, name := range e.Same {
			if _, depends := truth.Where[name]; depends && good > 0 && !equivalent(m, truth, name) {
				t.Errorf("round %d: %s is said to make no difference, and the truth is %+v", round, name, truth)
			}
		}
	}
	if 100*right < 99*rounds {
		t.Errorf("%d of %d truths are found", right, rounds)
	}
}

// equivalent reports whether a cause depends on a name in no crossing of a matrix.
func equivalent(m *Matrix, c Cause, name string) bool {
	without := Cause{Where: maps.Clone(c.Where), Except: c.Except}
	delete(without.Where, name)
	return !slices.ContainsFunc(m.Crossings, func(x Crossing) bool { return c.failsIn(x.Of) != without.failsIn(x.Of) })
}

// TestJoins joins tests with the same explanation, and distinguishes flaky and unexplained ones.
func TestJoins(t *testing.T) {
	m, err := New(Spec{Names: []Name{{"store", []string{"memory", "redis", "postgres"}}, {"season", []string{"winter", "summer"}}}})
	if err != nil {
		t.Fatal(err)
	}
	outcomes := func(bad ...string) Outcomes {
		o := Outcomes{}
		for _, c := range m.Crossings {
			o[c.Key()] = []bool{slices.Contains(bad, c.Label())}
		}
		return o
	}
	shaky := outcomes("redis winter")
	shaky["store=redis,season=winter"] = []bool{true, false}
	open := outcomes("redis summer") // that it did not run elsewhere in summer leaves open whether the store matters
	delete(open, "store=memory,season=summer")
	delete(open, "store=postgres,season=summer")
	out := m.Explain(map[string]Outcomes{
		"a": outcomes("postgres winter", "postgres summer"), "b": outcomes("postgres summer", "postgres winter"), "c": outcomes("redis summer"), "h": open,
		"d": outcomes("memory winter", "redis summer"), "e": shaky, "f": outcomes(),
		"g": outcomes("memory winter", "memory summer", "redis winter", "redis summer", "postgres winter"),
	})
	var got []string
	for _, e := range out.Explanations {
		line := fmt.Sprint(e.Cause.key(), " ", e.Tests, " same ", e.Same)
		for _, r := range e.Rivals {
			line += fmt.Sprint(" or ", r.Cause.key(), " by ", r.Decide)
		}
		got = append(got, line)
	}
	want := []string{"season=summer,store=redis [c h] same [] or season=summer by map[season:summer store:memory]", "store=postgres [a b] same [season]", "but season=summer,store=postgres [g] same []"}
	if !slices.Equal(got, want) || !slices.Equal(out.Flaky, []string{"e"}) || !slices.Equal(out.Unexplained, []string{"d"}) {
		t.Errorf("%q, flaky %v, unexplained %v", got, out.Flaky, out.Unexplained)
	}
}

func ExampleMatrix_Explain() {
	m, _ := New(Spec{Names: []Name{{"store", []string{"memory", "postgres"}}, {"season", []string{"winter", "summer"}}}})
	out := m.Explain(map[string]Outcomes{"drip#TestSoaks": {
		"store=memory,season=winter": {false}, "store=memory,season=summer": {false}, "store=postgres,season=winter": {true}, "store=postgres,season=summer": {true},
	}})
	fmt.Println(out.Explanations[0].Where, "whichever", out.Explanations[0].Same)
	// Output: map[store:postgres] whichever [season]
}

// TestJoin joins parts of a matrix, and refuses those of another.
func TestJoin(t *testing.T) {
	m, err := New(Spec{Names: varying(2, 2)})
	if err != nil {
		t.Fatal(err)
	}
	part := func(c Crossing, bad bool) *File {
		r := NewResults(m, []Crossing{c}, "")
		ran := run.New()
		e := run.Event{Event: run.Finished, ID: "a", Outcome: run.Passed, Seconds: run.Took(1)}
		if bad {
			e.Outcome, e.Message = run.Failed, "too dry"
		}
		ran.Apply(e)
		r.Results[0].End(1, ran)
		var text bytes.Buffer
		if err := r.Write(&text); err != nil {
			t.Fatal(err)
		}
		f, err := Read(&text)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	joined, err := Join(m, []*File{part(m.Crossings[0], false), part(m.Crossings[1], true), part(m.Crossings[1], false)})
	if err != nil || joined.Results[0].Outcome != run.Passed || joined.Results[1].Outcome != run.Failed || joined.Results[2].State != Waiting || joined.ExitStatus() != 3 {
		t.Errorf("joined are %+v, %v", joined, err)
	}
	if x := joined.Explain(); len(x.Explanations) != 1 || len(x.Explanations[0].Failures) != 1 || x.Explanations[0].Failures[0].Message != "too dry" {
		t.Errorf("the explanation is %+v", x)
	}
	for _, of := range []Assignment{{}, {"n0": "v0"}, {"n0": "v0", "n1": "nothing"}} {
		if _, err := Join(m, []*File{{Format: Format, Crossings: []FileCrossing{{Of: of}}}}); err == nil {
			t.Errorf("the crossing %v is taken", of)
		}
	}
	for _, text := range []string{"", "[]", `{"format":"fern-events/1"}`, "\x00"} {
		if _, err := Read(strings.NewReader(text)); err == nil {
			t.Errorf("%q is read", text)
		}
	}
}

// BenchmarkExplain explains 20,000 tests that all fail in some of twelve crossings.
func BenchmarkExplain(b *testing.B) {
	m, err := New(Spec{Names: varying(3, 2, 2)})
	if err != nil {
		b.Fatal(err)
	}
	tally := NewTally(m)
	for i := range 20_000 {
		for j := range m.Crossings {
			o := run.Passed
			if j%(2+i%3) == 0 {
				o = run.Failed
			}
			tally.Add(m.Crossings[j].Key(), &run.Result{ID: fmt.Sprint("t", i), Outcome: o})
		}
	}
	for b.Loop() {
		tally.Explain()
	}
}
