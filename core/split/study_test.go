package split

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
)

// anyTests makes tests with everything that a plan has to mind.
func anyTests(random *rand.Rand) []catalog.Test {
	tests := make([]catalog.Test, 1+random.IntN(40))
	for i := range tests {
		group := fmt.Sprint("g", random.IntN(8))
		t := &tests[i]
		*t = catalog.Test{Suite: "u", Group: group, Name: fmt.Sprint("t", i), File: fmt.Sprint(group, "/", i%2), Known: i%5 > 0, Setup: 0.2,
			Expected: math.Round(100*random.ExpFloat64()) / 100, Spread: random.Float64()}
		t.ID = catalog.ID(t.Suite, t.Group, t.Name)
		if i > 0 && random.IntN(8) == 0 {
			t.AddRules(catalog.Rules{Needs: []string{tests[random.IntN(i)].ID}}, "")
		}
		if random.IntN(5) == 0 {
			t.AddRules(catalog.Rules{Holds: []string{[]string{"bus", "licence"}[random.IntN(2)]}}, "")
		}
	}
	return tests
}

// anyFleet makes a fleet of any kind.
func anyFleet(random *rand.Rand) Fleet {
	f := Fleet{Shards: 1 + random.IntN(6), Starts: map[int]float64{}, Speeds: map[int]float64{}}
	if random.IntN(2) == 0 {
		f.Starts[1+random.IntN(f.Shards)] = float64(random.IntN(5))
	}
	if random.IntN(3) == 0 {
		f.Speeds[1+random.IntN(f.Shards)] = 0.5 + random.Float64()
	} else if random.IntN(3) == 0 {
		f.Limit = 1 + random.IntN(f.Shards)
	}
	if random.IntN(3) == 0 {
		f.Start = 1.5
	}
	if random.IntN(2) == 0 {
		f.Resources = map[string]int{"bus": 1 + random.IntN(2), "licence": 1}
	}
	return f
}

// TestPlansAreTrue holds that plans of anything say what is so: every test is in
// one shard, what stays together does, the times add up, pins are kept, not more
// run at once than may, nothing shares what it must not, and the same tests in
// another order give the same plan.
func TestPlansAreTrue(t *testing.T) {
	random := rand.New(rand.NewPCG(41, 42))
	for range 1200 {
		tests, f := anyTests(random), anyFleet(random)
		together := []catalog.Level{catalog.GroupLevel, catalog.FileLevel, catalog.TestLevel}[random.IntN(3)]
		study, err := NewStudy(tests, together, f, "licence")
		if err != nil {
			t.Fatal(err)
		}
		units := study.Work.Units()
		if random.IntN(2) == 0 && (f.Resources == nil || f.AtOnce() == f.Shards) {
			study.Fleet.Pins = map[string]int{}
			for range 1 + random.IntN(3) {
				study.Fleet.Pins[units[random.IntN(len(units))].Name] = 1 + random.IntN(f.Shards)
			}
		}
		p := study.Plan(Quick)
		holdsTrue(t, study, p)
		a := study.Advise(p, f.Shards+2)
		if len(a.Points) < f.Shards || a.Knee < 1 || len(a.Outlook.Queue) != Rounds || a.Outlook.Fixed[0] <= 0 && p.Finish > 0 {
			t.Fatalf("the advice is %+v", a)
		}
		shuffled := slices.Clone(tests)
		random.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		if again, err := NewStudy(shuffled, together, study.Fleet, "licence"); err != nil || again.Plan(Quick).Finish != p.Finish {
			t.Fatalf("in another order %v: %v", tests, err)
		}
	}
}

func holdsTrue(t *testing.T, study *Study, p Plan) {
	t.Helper()
	f, seen := study.Fleet, map[string]int{}
	type span struct{ from, to float64 }
	held := map[string][]span{}
	last := 0.0
	for _, s := range p.Shards {
		at, begun := s.Start, map[string]bool{}
		for _, u := range s.Units {
			if u.Start < at-1e-6 {
				t.Fatalf("%s begins at %g, before the one in front ends at %g", u.Name, u.Start, at)
			}
			seconds := u.Seconds
			for _, setup := range u.Setups {
				if !begun[setup.Place] {
					begun[setup.Place] = true
					seconds += setup.Seconds
				}
			}
			at = u.Start + seconds/f.speed(s.Number)
			for _, r := range u.Uses {
				held[r] = append(held[r], span{u.Start, at})
			}
			for _, id := range u.Tests {
				seen[id] = s.Number
			}
			if pin := f.pin(u.Unit); pin > 0 && pin != s.Number {
				t.Fatalf("%s is pinned to %d and in %d", u.Name, pin, s.Number)
			}
		}
		if len(s.Units) > 0 && (s.End < at-1e-6 || s.End > at+0.21*float64(len(s.Units))+1e-6 || s.Start < f.Starts[s.Number]) {
			t.Fatalf("shard %d is from %g to %g, its units end at %g", s.Number, s.Start, s.End, at)
		}
		if len(s.Units) > 0 {
			last = max(last, s.End)
		}
	}
	if len(seen) != len(study.Tests) || math.Abs(last-p.Finish) > 1e-6 || p.Floor > p.Finish+1e-6 || p.Optimal && p.Finish > p.Floor+1e-6 {
		t.Fatalf("%d of %d tests are planned; finish %g, floor %g, optimal %t, the last end %g", len(seen), len(study.Tests), p.Finish, p.Floor, p.Optimal, last)
	}
	for i := range study.Tests {
		for _, id := range study.Tests[i].Rules().Needs {
			if seen[id] != seen[study.Tests[i].ID] {
				t.Fatalf("%s is in another shard than what it needs", study.Tests[i].ID)
			}
		}
	}
	if f.AtOnce() < f.Shards {
		return // shards in waves hold resources one after the other
	}
	for r, spans := range held {
		for _, a := range spans {
			n := 0
			for _, b := range spans {
				if b.from <= a.from+1e-6 && a.from+1e-6 < b.to-1e-6 {
					n++
				}
			}
			if f.Resources != nil && n > f.Resources[r] {
				t.Fatalf("%d hold %s at %g", n, r, a.from)
			}
		}
	}
}

// TestWithin compares the least number of shards that end in time with the curve.
func TestWithin(t *testing.T) {
	random := rand.New(rand.NewPCG(51, 52))
	for range 100 {
		study, err := NewStudy(anyTests(random), catalog.TestLevel, Fleet{Shards: 1})
		if err != nil {
			t.Fatal(err)
		}
		points := study.Work.Curve(study.Fleet, len(study.Work.Units()), Thorough/4)
		wanted := points[0].Finish * random.Float64()
		if got, want := study.Within(wanted), Within(points, wanted); got != want {
			t.Fatalf("%d shards end within %g, by the curve %d: %v", got, wanted, want, points)
		}
	}
}

// TestBadFleets holds that what cannot be planned is reported.
func TestBadFleets(t *testing.T) {
	for words, f := range map[string]Fleet{
		"0 shards cannot":           {},
		"the limit is -1":           {Shards: 2, Limit: -1},
		"the speed of shard 2 is 0": {Shards: 2, Speeds: map[int]float64{2: 0}},
		"speed of shard 1 is NaN":   {Shards: 2, Speeds: map[int]float64{1: math.NaN()}},
		"with a limit of 1":         {Shards: 2, Limit: 1, Speeds: map[int]float64{1: 2}},
		"shard 1 starts at -5":      {Shards: 2, Starts: map[int]float64{1: -5}},
		"shard 1 starts at +Inf":    {Shards: 2, Starts: map[int]float64{1: math.Inf(1)}},
	} {
		if _, err := NewStudy(nil, catalog.GroupLevel, f); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%+v: %v, want %q", f, err, words)
		}
	}
}

// TestFingerprints holds that fingerprints change with what they are of, and with nothing else.
func TestFingerprints(t *testing.T) {
	tests := anyTests(rand.New(rand.NewPCG(61, 62)))
	what, times := Fingerprints(tests)
	turned := slices.Clone(tests)
	slices.Reverse(turned)
	turned[0].Line, turned[0].Spread = 99, 99
	if a, b := Fingerprints(turned); a != what || b != times {
		t.Error("the order or a line changes the fingerprints")
	}
	turned[0].Expected++
	if a, b := Fingerprints(turned); a != what || b == times {
		t.Error("a time changes the wrong fingerprint")
	}
	turned[0].Ruled = &catalog.Rules{Holds: []string{"other"}}
	if a, _ := Fingerprints(turned); a == what {
		t.Error("a rule does not change the fingerprint")
	}
	p := NewWork(suiteOf(50)).Plan(Fleet{Shards: 4}, Quick)
	other := p
	other.Shards = slices.Clone(p.Shards)
	other.Shards[0].Units, other.Shards[1].Units = p.Shards[1].Units, p.Shards[0].Units
	if p.Fingerprint() == other.Fingerprint() || !reflect.DeepEqual(p.Fingerprint(), NewWork(suiteOf(50)).Plan(Fleet{Shards: 4}, Quick).Fingerprint()) {
		t.Error("the fingerprint is not that of the plan")
	}
}

// TestMachinesStart holds that the time that machines take to start changes when everything ends, but nothing else in the
// plan, and that fewer machines are worth it.
func TestMachinesStart(t *testing.T) {
	random := rand.New(rand.NewPCG(43, 44))
	for range 100 {
		tests := anyTests(random)
		study, err := NewStudy(tests, catalog.TestLevel, Fleet{Shards: 1 + random.IntN(6)})
		if err != nil {
			t.Fatal(err)
		}
		without := study.Plan(Quick)
		study.Fleet.Start = 7.25
		with := study.Plan(Quick)
		if with.Fingerprint() != without.Fingerprint() || math.Abs(with.Finish-without.Finish-7.25) > 0.001 || math.Abs(with.Floor-without.Floor-7.25) > 0.001 ||
			with.Optimal != without.Optimal || (with.Setter == nil) != (without.Setter == nil) {
			t.Fatalf("with a start it ends at %v, floor %v, %t; without at %v, %v, %t", with.Finish, with.Floor, with.Optimal, without.Finish, without.Floor, without.Optimal)
		}
	}
	even := make([]catalog.Test, 200)
	for i := range even {
		even[i] = catalog.Test{ID: fmt.Sprint(i), Group: fmt.Sprint(i), Expected: 5, Known: true}
	}
	study, err := NewStudy(even, catalog.TestLevel, Fleet{Shards: 1, Start: 100})
	if err != nil {
		t.Fatal(err)
	}
	if knee := Knee(study.Work.Curve(study.Fleet, 64, Quick)); knee != 10 { // where the work of a machine takes as long as its start
		t.Errorf("the knee is at %d", knee)
	}
}
