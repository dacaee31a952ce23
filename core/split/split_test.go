package split

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
)

// best tries every way to deal lengths out to shards and gives the least finish.
func best(lengths []float64, loads []float64) float64 {
	if len(lengths) == 0 {
		finish := 0.0
		for _, l := range loads {
			finish = math.Max(finish, l)
		}
		return finish
	}
	least := math.Inf(1)
	for i := range loads {
		loads[i] += lengths[0]
		least = math.Min(least, best(lengths[1:], loads))
		loads[i] -= lengths[0]
		if loads[i] == 0 {
			break // the empty shards are alike
		}
	}
	return least
}

// TestAgainstBruteForce compares plans of small random instances with the best
// there is.
func TestAgainstBruteForce(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 2000 {
		shards := 1 + random.IntN(4)
		units := make([]Unit, 1+random.IntN(8))
		lengths := make([]float64, len(units))
		for i := range units {
			lengths[i] = float64(random.IntN(20))
			units[i] = Unit{Name: fmt.Sprint(i), Tests: []string{fmt.Sprint(i)}, Seconds: lengths[i]}
		}
		p := Balance(units, shards)
		least := best(lengths, make([]float64, shards))
		if math.Abs(p.Finish-least) > 1e-9 || math.Abs(p.Floor-least) > 1e-9 || !p.Optimal {
			t.Fatalf("%v on %d: floor %g, finish %g, optimal %t; the best is %g", lengths, shards, p.Floor, p.Finish, p.Optimal, least)
		}
		check(t, p, units)
		random.Shuffle(len(units), func(i, j int) { units[i], units[j] = units[j], units[i] })
		if again := Balance(units, shards); !reflect.DeepEqual(again.Shards, p.Shards) {
			t.Fatalf("the plan depends on the order of the units")
		}
	}
}

// TestManyUnits holds that plans of many units come close to a floor that is one,
// and closer than dealing the longest first alone.
func TestManyUnits(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 9))
	sooner := 0
	for range 60 {
		shards := 2 + random.IntN(12)
		units := make([]Unit, shards*(2+random.IntN(12)))
		lengths := make([]float64, len(units))
		for i := range units {
			lengths[i] = 1 + 9*random.Float64()
			units[i] = Unit{Name: fmt.Sprint(i), Tests: []string{fmt.Sprint(i)}, Seconds: lengths[i]}
		}
		p := Balance(units, shards)
		check(t, p, units)
		if p.Finish < p.Floor*(1-1e-9) || p.Finish > p.Floor*1.2 {
			t.Errorf("%d units on %d: finish %g, floor %g", len(units), shards, p.Finish, p.Floor)
		}
		slices.SortFunc(lengths, func(a, b float64) int { return int(math.Copysign(1, b-a)) })
		plain := longestFirst(lengths, shards).finish()
		if p.Finish > plain*(1+1e-9) {
			t.Errorf("finish %g, longest first alone %g", p.Finish, plain)
		}
		if p.Finish < plain*(1-1e-6) {
			sooner++
		}
	}
	if sooner < 15 {
		t.Errorf("only %d of 60 plans end sooner than longest first", sooner)
	}
}

// check holds that every unit stands in one shard and that the sums are right.
func check(t *testing.T, p Plan, units []Unit) {
	t.Helper()
	seen := map[string]bool{}
	first, last := math.Inf(1), 0.0
	for _, s := range p.Shards {
		sum := 0.0
		for _, id := range s.Tests() {
			if seen[id] {
				t.Fatalf("%s stands in two shards", id)
			}
			seen[id] = true
		}
		for _, u := range s.Units {
			sum += u.Seconds
		}
		if math.Abs(sum-s.Seconds) > 1e-9 {
			t.Fatalf("shard %d says %g s, its units take %g s", s.Number, s.Seconds, sum)
		}
		first, last = math.Min(first, sum), math.Max(last, sum)
	}
	if len(seen) != len(units) || math.Abs(last-p.Finish) > 1e-9 || math.Abs(last-first-p.Spread) > 1e-9 {
		t.Fatalf("%d of %d units are planned, finish %g, spread %g", len(seen), len(units), p.Finish, p.Spread)
	}
}

func TestUnits(t *testing.T) {
	tests := []catalog.Test{
		{ID: "u:a#1", Suite: "u", Group: "a", Name: "1", File: "a/x.go", Expected: 1, Known: true},
		{ID: "u:b#1", Suite: "u", Group: "b", Name: "1", Expected: 2},
		{ID: "u:a#2", Suite: "u", Group: "a", Name: "2", File: "a/y.go", Expected: 3, Known: true},
	}
	for together, want := range map[Together]string{
		Group: "u:a[u:a#1 u:a#2]4+0 u:b[u:b#1]2+1",
		File:  "u:a/x.go[u:a#1]1+0 u:b[u:b#1]2+1 u:a/y.go[u:a#2]3+0",
		Test:  "u:a#1[u:a#1]1+0 u:b#1[u:b#1]2+1 u:a#2[u:a#2]3+0",
	} {
		units, err := Units(tests, together)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, u := range units {
			got = append(got, fmt.Sprintf("%s%v%g+%d", u.Name, u.Tests, u.Seconds, u.Unknown))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %v, want %s", together, got, want)
		}
	}
	if _, err := Units(tests, "row"); err == nil || !strings.Contains(err.Error(), "row") {
		t.Errorf("no error for a wrong word: %v", err)
	}
}

func TestEmptyPlan(t *testing.T) {
	text, err := json.Marshal(Balance(nil, 2))
	want := `{"format":"fern-split/1","shards":[{"shard":1,"seconds":0,"tests":[]},{"shard":2,"seconds":0,"tests":[]}],` +
		`"finish_s":0,"floor_s":0,"optimal":true,"spread_s":0,"unknown":0}`
	if err != nil || string(text) != want {
		t.Errorf("got %s, %v", text, err)
	}
}

func BenchmarkBalance(b *testing.B) {
	random := rand.New(rand.NewPCG(5, 6))
	units := make([]Unit, 100_000)
	for i := range units {
		units[i] = Unit{Name: fmt.Sprint(i), Seconds: random.Float64()}
	}
	for b.Loop() {
		Balance(units, 256)
	}
}

// TestChains holds that what depends on each other stays together, over any
// number of groups, and that nothing else is joined.
func TestChains(t *testing.T) {
	test := func(id string, needs ...string) catalog.Test {
		group, _, _ := strings.Cut(id, "#")
		return catalog.Test{ID: id, Group: group, Name: id, Expected: 1, Marks: catalog.Marks{Needs: needs}}
	}
	tests := []catalog.Test{test("a#1"), test("b#1"), test("c#1", "a#1"), test("d#1"), test("e#1", "d#1", "gone#1"), test("a#2", "e#1"), test("b#2", "b#1")}
	units, err := Units(tests, Group)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, u := range units {
		got = append(got, fmt.Sprintf("%s %g %s", u.Label, u.Seconds, strings.Join(u.Tests, " ")))
	}
	want := []string{"a + c + d + e 5 a#1 a#2 c#1 d#1 e#1", "b 2 b#1 b#2"}
	if !slices.Equal(got, want) {
		t.Errorf("the units are %q, want %q", got, want)
	}
}
