package order

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
)

func sample() []catalog.Test {
	var tests []catalog.Test
	for _, id := range []string{"u:a#1", "u:a#2", "u:a#Fuzz", "u:b#1", "u:b#2", "u:c#1"} {
		group, name, _ := strings.Cut(strings.TrimPrefix(id, "u:"), "#")
		kind := catalog.KindTest
		if name == "Fuzz" {
			kind = catalog.KindFuzz
		}
		tests = append(tests, catalog.Test{ID: id, Suite: "u", Group: group, Name: name, Kind: kind})
	}
	return tests
}

func ids(tests []catalog.Test) string {
	var out []string
	for _, t := range tests {
		out = append(out, strings.TrimPrefix(t.ID, "u:"))
	}
	return strings.Join(out, " ")
}

func apply(t *testing.T, name string, seed uint64) string {
	t.Helper()
	o, err := Named(name, seed)
	if err != nil {
		t.Fatal(err)
	}
	tests, err := o.Apply(sample())
	if err != nil {
		t.Fatal(err)
	}
	return ids(tests)
}

func TestOrders(t *testing.T) {
	if got := apply(t, AsWritten, 0); got != ids(sample()) {
		t.Errorf("as-written: %s", got)
	}
	if got := apply(t, Backwards, 0); got != "c#1 b#2 b#1 a#2 a#1 a#Fuzz" {
		t.Errorf("backwards: %s", got)
	}
	seen := map[string]bool{}
	for seed := range uint64(5) {
		got := apply(t, Shuffled, seed)
		if got != apply(t, Shuffled, seed) {
			t.Errorf("seed %d: not the same twice", seed)
		}
		seen[got] = true
		parts := strings.Fields(got)
		slices.Sort(parts)
		if strings.Join(parts, " ") != ids(sample()) {
			t.Errorf("seed %d: no order of the tests: %s", seed, got)
		}
		if !strings.Contains(got, "a#Fuzz b") && !strings.Contains(got, "a#Fuzz c") && !strings.HasSuffix(got, "a#Fuzz") {
			t.Errorf("seed %d: the fuzz seeds do not close their group: %s", seed, got)
		}
	}
	if len(seen) < 3 {
		t.Errorf("five seeds make %d orders", len(seen))
	}
}

// TestCover holds that in the series every test of a group comes to stand right before
// every other, as often as any other.
func TestCover(t *testing.T) {
	for n := range 12 {
		var tests []catalog.Test
		for i := range n {
			tests = append(tests, catalog.Test{ID: string(rune('a' + i)), Suite: "u", Group: "g"})
		}
		orders := n * (1 + n%2)
		pairs := map[string]int{}
		for number := range orders {
			rule, err := Named(NewPairs, uint64(number))
			if err != nil {
				t.Fatal(err)
			}
			mixed, err := rule.Apply(tests)
			if err != nil || len(mixed) != n {
				t.Fatal(mixed, err)
			}
			for i := range n - 1 {
				pairs[mixed[i].ID+mixed[i+1].ID]++
			}
		}
		if len(pairs) != n*max(0, n-1) {
			t.Errorf("of %d tests %d pairs come to stand side by side", n, len(pairs))
		}
		for pair, times := range pairs {
			if times != 1+n%2 {
				t.Errorf("of %d tests %s stands so %d times", n, pair, times)
			}
		}
	}
}

// TestRevealing follows the most revealing orders until all pairs have run: two orders have
// every test before every other, and for n tests about 2n have every one right before every
// other. Groups that are not followed stay as they are.
func TestRevealing(t *testing.T) {
	var tests []catalog.Test
	for i := range 9 {
		tests = append(tests, catalog.Test{Suite: "s", Group: "g", Name: fmt.Sprint(i)})
	}
	for i := range 4 {
		tests = append(tests, catalog.Test{Suite: "s", Group: "large", Name: fmt.Sprint("l", i)})
	}
	var g Gauge
	c := &Coverage{}
	of := func(group string) *Coverage {
		if group == "s:g" {
			return c
		}
		return nil
	}
	unknown := func([]catalog.Test) Shares { return nil }
	orders := 0
	for ; orders < 40; orders++ {
		ordered, gain := Revealing(tests, of, unknown, uint64(orders))
		if gain == 0 {
			break
		}
		var names, large []string
		for _, test := range ordered {
			if test.Group == "g" {
				names = append(names, test.Name)
			} else {
				large = append(large, test.Name)
			}
		}
		if !slices.Equal(large, []string{"l0", "l1", "l2", "l3"}) {
			t.Fatalf("what is not followed runs as %v", large)
		}
		before := g
		c.Add(names)
		if g = c.Of(names); g.Neighbours+g.Before-before.Neighbours-before.Before != gain {
			t.Errorf("order %d promised %d pairs", orders, gain)
		}
		if orders == 1 && g.Before != g.Pairs {
			t.Errorf("after two orders %+v have run", g)
		}
	}
	if g.Neighbours != 72 || g.Pairs != 72 || orders > 20 {
		t.Errorf("after %d orders %+v have run", orders, g)
	}
}

// TestRevealingSharing holds, for random relations between tests, that after both directions orders of only those that share
// state come first, until each such pair has run as neighbours, and then orders of all.
func TestRevealingSharing(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 1))
		n := 8 + r.IntN(12)
		var tests []catalog.Test
		for i := range n {
			test := catalog.Test{Suite: "s", Group: "g", Name: fmt.Sprint(i)}
			if r.IntN(4) == 0 {
				test.Kind = catalog.KindFuzz
			}
			tests = append(tests, test)
		}
		c := &Coverage{Tests: strings.Split("0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19", " ")[:n]}
		c.Add(c.Tests)
		reversed := slices.Clone(c.Tests)
		slices.Reverse(reversed)
		c.Add(reversed)
		shares := make(Shares, n)
		for i := range shares {
			shares[i] = catalog.NewSet(n)
		}
		left := map[string]bool{} // pairs that can run as neighbours and have not
		for i := range n * n {
			if a, b := i/n, i%n; a != b && a%3 == 0 && b%3 == 0 && r.IntN(3) == 0 {
				shares[a].Add(b)
				if tests[a].Kind == tests[b].Kind && !c.Neighbours.Has(a, b) {
					left[fmt.Sprint(a, ">", b)] = true
				}
			}
		}
		next := func() (names []string) {
			ordered, _ := Revealing(tests, func(string) *Coverage { return c }, func([]catalog.Test) Shares { return shares }, 0)
			for i, test := range ordered {
				names = append(names, test.Name)
				if i > 0 && fuzzLast(ordered[i-1]) > fuzzLast(test) {
					t.Fatalf("seed %d: a test runs behind a seed in %v", seed, names)
				}
			}
			c.Add(names)
			return names
		}
		for len(left) > 0 {
			names, before := next(), len(left)
			for i := range names[1:] {
				delete(left, names[i]+">"+names[i+1])
			}
			if gained := before - len(left); 2*gained < len(names) {
				t.Fatalf("seed %d: %v adds %d of %d pairs", seed, names, gained, before)
			}
		}
		if names := next(); len(names) != n {
			t.Fatalf("seed %d: after all pairs that share run %v", seed, names)
		}
	}
}

func TestListed(t *testing.T) {
	tests, err := Listed("f", []string{"u:c#1", "u:a#1", "u:b#2"}).Apply(sample())
	if err != nil || ids(tests) != "c#1 a#1 b#2" {
		t.Errorf("%s, %v", ids(tests), err)
	}
	for _, list := range [][]string{{"u:a#1", "u:z#9"}, {"u:a#1", "u:a#1"}} {
		if _, err := Listed("f", list).Apply(sample()); err == nil || !strings.Contains(err.Error(), "line 2") {
			t.Errorf("%v: %v", list, err)
		}
	}
	tests, err = Recorded("f", []string{"u:c#1", "u:z#9", "u:a#1"}).Apply(sample())
	if err != nil || ids(tests) != "c#1 a#1" {
		t.Errorf("of a report: %s, %v", ids(tests), err)
	}
}

// TestOldNames holds that an order of an earlier version is refused with its name of today, and shown so where a run kept it.
func TestOldNames(t *testing.T) {
	for _, c := range []struct{ old, flags, words string }{
		{"declared", "--order as-written", "as-written"},
		{"reverse", "--order backwards", "backwards"},
		{"seed:7", "--order shuffled --seed 7", "shuffled 7"},
		{"cover:3", "--order new-pairs --seed 3", "new-pairs 3"},
		{"file:a:b.txt", "--order-from a:b.txt", "from a:b.txt"},
	} {
		if _, err := Named(c.old, 0); err == nil || !strings.HasSuffix(err.Error(), "which is now "+c.flags) {
			t.Errorf("Named(%q): %v", c.old, err)
		}
		if got := Words(c.old); got != c.words {
			t.Errorf("Words(%q) = %q, want %q", c.old, got, c.words)
		}
	}
	for _, name := range append(Names(), "of run 12") {
		if Words(name) != name {
			t.Errorf("Words(%q) = %q", name, Words(name))
		}
	}
	if _, err := Named("sorted", 0); err == nil || !strings.Contains(err.Error(), "shuffled") {
		t.Errorf("of no order: %v", err)
	}
}
