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
	"fernrelay/core/history"
	"fernrelay/core/schedule"
)

// best tries every way to deal lengths out to shards, each with its own load at
// the start, speed and pins, and gives the least finish.
func best(units []schedule.Unit, f Fleet, loads []float64) float64 {
	if len(units) == 0 {
		finish := 0.0
		for i, l := range loads {
			if l > 0 {
				finish = math.Max(finish, f.Starts[i+1]+l/f.speed(i+1))
			}
		}
		return finish
	}
	least := math.Inf(1)
	for i := range loads {
		if number, pinned := f.Pins[units[0].Name]; pinned && number != i+1 {
			continue
		}
		loads[i] += units[0].Seconds
		least = math.Min(least, best(units[1:], f, loads))
		loads[i] -= units[0].Seconds
	}
	return least
}

func randomUnits(random *rand.Rand, n int) []schedule.Unit {
	units := make([]schedule.Unit, n)
	for i := range units {
		units[i] = schedule.Unit{Name: fmt.Sprint(i), Tests: []string{fmt.Sprint(i)}, Seconds: float64(1 + random.IntN(20))}
	}
	return units
}

// TestAgainstBruteForce compares plans of small random instances with the best
// there is: shards that are alike, and such that start late, differ in speed or
// have units pinned to them.
func TestAgainstBruteForce(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for round := range 1500 {
		units := randomUnits(random, 1+random.IntN(7))
		f := Fleet{Shards: 1 + random.IntN(4), Starts: map[int]float64{}, Speeds: map[int]float64{}, Pins: map[string]int{}}
		if round%3 == 1 {
			f.Starts[1+random.IntN(f.Shards)] = float64(random.IntN(30))
			f.Pins[units[0].Name] = 1 + random.IntN(f.Shards)
		}
		if round%3 == 2 {
			f.Speeds[1+random.IntN(f.Shards)] = 0.5 + random.Float64()
		}
		p := NewWork(units).Plan(f, Thorough)
		least := best(units, f, make([]float64, f.Shards))
		if math.Abs(p.Finish-least) > 1e-6 || p.Floor > least+1e-6 || !p.Optimal {
			t.Fatalf("%v on %+v: floor %g, finish %g, optimal %t; the best is %g", units, f, p.Floor, p.Finish, p.Optimal, least)
		}
		check(t, p, units)
		units = slices.Clone(units)
		random.Shuffle(len(units), func(i, j int) { units[i], units[j] = units[j], units[i] })
		if again := NewWork(units).Plan(f, Thorough); !reflect.DeepEqual(again.Shards, p.Shards) || again.Fingerprint() != p.Fingerprint() {
			t.Fatalf("the plan depends on the order of the units")
		}
	}
}

// check holds that every unit stands in one shard and that the sums are right.
func check(t *testing.T, p Plan, units []schedule.Unit) {
	t.Helper()
	seen := map[string]bool{}
	first, last := math.Inf(1), 0.0
	for _, s := range p.Shards {
		for _, id := range s.Tests() {
			if seen[id] {
				t.Fatalf("%s stands in two shards", id)
			}
			seen[id] = true
		}
		end := s.End
		if len(s.Units) == 0 {
			end = 0
		}
		first, last = math.Min(first, end), math.Max(last, end)
	}
	if len(seen) != len(units) || math.Abs(last-p.Finish) > 1e-9 || math.Abs(last-first-p.Spread) > 1e-9 {
		t.Fatalf("%d of %d units are planned, finish %g, spread %g", len(seen), len(units), p.Finish, p.Spread)
	}
}

// lengthClasses are those on which algorithms for machines that are alike are
// compared: lengths uniform between two bounds, or normal.
var lengthClasses = []struct {
	name string
	draw func(*rand.Rand) float64
}{
	{"1-100", func(r *rand.Rand) float64 { return float64(1 + r.IntN(100)) }},
	{"20-100", func(r *rand.Rand) float64 { return float64(20 + r.IntN(81)) }},
	{"50-100", func(r *rand.Rand) float64 { return float64(50 + r.IntN(51)) }},
	{"1-10000", func(r *rand.Rand) float64 { return float64(1 + r.IntN(10000)) }},
	{"normal", func(r *rand.Rand) float64 { return math.Max(1, math.Round(100+30*r.NormFloat64())) }},
}

// quality plans instances of all classes and gives the average and the worst gap
// to the floor, and the part that is proved to be optimal.
func quality(machines []int, perMachine []float64) (average, worst, optimal float64) {
	random := rand.New(rand.NewPCG(8, 9))
	count := 0.0
	for _, class := range lengthClasses {
		for _, m := range machines {
			for _, ratio := range perMachine {
				units := make([]schedule.Unit, int(float64(m)*ratio))
				for i := range units {
					units[i] = schedule.Unit{Name: fmt.Sprint(i), Tests: []string{fmt.Sprint(i)}, Seconds: class.draw(random)}
				}
				p := NewWork(units).Plan(Fleet{Shards: m}, Thorough)
				gap := p.Finish/p.Floor - 1
				average, worst = average+gap, math.Max(worst, gap)
				if p.Optimal {
					optimal++
				}
				count++
			}
		}
	}
	return average / count, worst, optimal / count
}

// TestQuality holds plans of middling size to what can be proved of them.
func TestQuality(t *testing.T) {
	average, worst, optimal := quality([]int{3, 8, 16}, []float64{2, 2.5, 3, 5, 8})
	if average > 0.0002 || worst > 0.005 || optimal < 0.95 {
		t.Errorf("the gap to the floor is %.4f %% on average, %.3f %% at worst; %.1f %% are proved", 100*average, 100*worst, 100*optimal)
	}
}

// even makes units that can be dealt out evenly: every share is cut at random.
func even(random *rand.Rand, shards, parts, share int) []schedule.Unit {
	var units []schedule.Unit
	for range shards {
		cuts := []int{0, share}
		for len(cuts) < parts+1 {
			if cut := 1 + random.IntN(share-1); !slices.Contains(cuts, cut) {
				cuts = append(cuts, cut)
			}
		}
		slices.Sort(cuts)
		for i := range parts {
			units = append(units, schedule.Unit{Name: fmt.Sprint(len(units)), Seconds: float64(cuts[i+1] - cuts[i])})
		}
	}
	return units
}

// TestEvenShares holds that what can be dealt out evenly is.
func TestEvenShares(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for shards := 4; shards <= 12; shards++ {
		for parts := 4; parts <= 12; parts++ {
			if p := NewWork(even(random, shards, parts, 1000)).Plan(Fleet{Shards: shards}, Thorough); p.Finish != 1000 || !p.Optimal {
				t.Errorf("%d shards of %d parts end at %g instead of 1000", shards, parts, p.Finish)
			}
		}
	}
}

// withSetups is a small instance of units that share setups and resources.
func withSetups(random *rand.Rand, resources bool) []schedule.Unit {
	units := randomUnits(random, 2+random.IntN(5))
	for i := range units {
		if resources && random.IntN(2) == 0 {
			units[i].Uses = []string{"bus"}
		}
		if !resources {
			place := random.IntN(3)
			units[i].Setups = []schedule.Setup{{Place: fmt.Sprint("p", place), Seconds: float64(3 * place)}}
		}
	}
	return units
}

// TestSetups compares plans of units that share what it costs to begin a batch
// with all ways to deal them out: the figures are true, no plan ends before the
// floor, and hardly any later than the best.
func TestSetups(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	worse := 0
	for range 500 {
		units := withSetups(random, false)
		shards := 1 + random.IntN(3)
		p := NewWork(units).Plan(Fleet{Shards: shards}, Thorough)
		check(t, p, units)
		least := math.Inf(1)
		for code := range int(math.Pow(float64(shards), float64(len(units)))) {
			ends, begun := make([]float64, shards), map[string]bool{}
			for _, u := range units {
				at := code % shards
				code /= shards
				ends[at] += u.Seconds
				if key := fmt.Sprint(at, u.Setups[0].Place); !begun[key] {
					begun[key] = true
					ends[at] += u.Setups[0].Seconds
				}
			}
			least = min(least, slices.Max(ends))
		}
		if p.Finish < least-1e-6 || p.Floor > least+1e-6 || p.Optimal && p.Finish > least+1e-6 {
			t.Fatalf("%v on %d: finish %g, floor %g, optimal %t; the best is %g", units, shards, p.Finish, p.Floor, p.Optimal, least)
		}
		if p.Finish > least+1e-6 {
			worse++
		}
	}
	if worse > 60 {
		t.Errorf("%d of 500 plans end later than the best", worse)
	}
}

// laid is the least finish of units laid one by one, in every order and on every
// shard, each as soon as its shard and the bus are free.
func laid(units []schedule.Unit, free []float64, bus float64) float64 {
	if len(units) == 0 {
		return slices.Max(free)
	}
	least := math.Inf(1)
	for i := range units {
		rest := slices.Concat(units[:i], units[i+1:])
		for at := range free {
			if at > 0 && free[at] == free[at-1] {
				continue
			}
			begin, was := free[at], free[at]
			if units[i].Uses != nil {
				begin = max(begin, bus)
			}
			free[at] = begin + units[i].Seconds
			if units[i].Uses != nil {
				least = min(least, laid(rest, free, free[at]))
			} else {
				least = min(least, laid(rest, free, bus))
			}
			free[at] = was
		}
	}
	return least
}

// TestResources holds that what holds the same resource never overlaps, and
// compares the finish with that of all schedules.
func TestResources(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	worse := 0
	for range 300 {
		units := withSetups(random, true)[:]
		shards := 2 + random.IntN(2)
		f := Fleet{Shards: shards, Resources: map[string]int{"bus": 1}}
		p := NewWork(units).Plan(f, Thorough)
		check(t, p, units)
		var held [][2]float64
		for _, s := range p.Shards {
			for _, u := range s.Units {
				if u.Uses != nil && u.Seconds > 0 {
					held = append(held, [2]float64{u.Start, u.Start + u.Seconds})
				}
			}
		}
		slices.SortFunc(held, func(a, b [2]float64) int { return int(a[0] - b[0]) })
		for i := 1; i < len(held); i++ {
			if held[i][0] < held[i-1][1]-1e-6 {
				t.Fatalf("the bus is held twice: %v", p.Shards)
			}
		}
		least := laid(units, make([]float64, shards), 0)
		if p.Finish < least-1e-6 || p.Floor > least+1e-6 || p.Optimal && p.Finish > least+1e-6 {
			t.Fatalf("%v on %d: finish %g, floor %g, optimal %t; the best is %g", units, shards, p.Finish, p.Floor, p.Optimal, least)
		}
		if p.Finish > least+1e-6 {
			worse++
		}
	}
	if worse > 15 {
		t.Errorf("%d of 300 plans end later than the best", worse)
	}
}

// TestWaves holds that with a limit the shards go behind each other, at most so
// many at once, and together end as soon as so many would.
func TestWaves(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 12))
	units := make([]schedule.Unit, 300)
	for i := range units {
		units[i] = schedule.Unit{Name: fmt.Sprint(i), Tests: []string{fmt.Sprint(i)}, Seconds: 1 + random.Float64()}
	}
	work := NewWork(units)
	for _, f := range []Fleet{{Shards: 6, Limit: 4}, {Shards: 12, Limit: 4}, {Shards: 11, Limit: 3}, {Shards: 4, Limit: 9}} {
		p := work.Plan(f, Quick)
		check(t, p, units)
		alike := work.Plan(Fleet{Shards: f.AtOnce()}, Quick)
		if p.Finish > alike.Finish*1.01 || p.Finish < p.Floor {
			t.Errorf("%+v ends at %g, %d at once end at %g", f, p.Finish, f.AtOnce(), alike.Finish)
		}
		for _, s := range p.Shards {
			running := 0
			for _, other := range p.Shards {
				if other.Start <= s.Start && s.Start < other.End-1e-9 {
					running++
				}
			}
			if running > f.AtOnce() {
				t.Errorf("%+v: %d shards run at %g", f, running, s.Start)
			}
		}
	}
}

// suiteOf makes units with lifelike times.
func suiteOf(n int) []schedule.Unit {
	random := rand.New(rand.NewPCG(21, 22))
	units := make([]schedule.Unit, n)
	for i := range units {
		seconds := math.Exp(random.NormFloat64()) * 0.2
		units[i] = schedule.Unit{Name: fmt.Sprint("u:g", i), Tests: []string{fmt.Sprint("u:g", i, "#t")}, Seconds: seconds, Deviation: seconds / 5}
	}
	return units
}

// TestSteady holds that after small changes hardly anything moves, and the plan
// ends nearly as soon as a new one.
func TestSteady(t *testing.T) {
	random := rand.New(rand.NewPCG(31, 32))
	units := suiteOf(2000)
	f := Fleet{Shards: 16}
	earlier := map[string]int{}
	for _, s := range NewWork(units).Plan(f, Quick).Shards {
		for _, id := range s.Tests() {
			earlier[id] = s.Number
		}
	}
	for i := range units {
		if random.IntN(50) == 0 {
			units[i].Seconds *= 0.5 + 2*random.Float64()
		}
		if random.IntN(100) == 0 {
			units[i].Name, units[i].Tests = fmt.Sprint("new", i), []string{fmt.Sprint("new", i)}
		}
	}
	work := NewWork(units)
	p, moved := work.Steady(f, earlier, 0.01, Quick)
	check(t, p, units)
	fresh := work.Plan(f, Quick)
	if p.Finish > fresh.Finish*1.01+1e-6 || moved > len(units)/20 {
		t.Errorf("%d of %d tests move, the finish is %g, of a new plan %g", moved, len(units), p.Finish, fresh.Finish)
	}
	if again := work.moved(fresh, earlier); again < 2*moved {
		t.Errorf("a new plan moves %d tests, the steady one %d", again, moved)
	}
}

// TestSimulate holds that the queue bears a late worker and the fixed shards do not,
// and that the same seed gives the same.
func TestSimulate(t *testing.T) {
	f := Fleet{Shards: 6}
	p := NewWork(suiteOf(600)).Plan(f, Quick)
	out := Simulate(p, f, 60, 1)
	if !reflect.DeepEqual(out, Simulate(p, f, 60, 1)) {
		t.Error("the same seed gives another outlook")
	}
	fixed, late := history.Quantile(out.Fixed, 0.5), history.Quantile(out.FixedLate, 0.5)
	if math.Abs(fixed-p.Finish) > p.Finish/10 || late-fixed < 50 || history.Quantile(out.Fixed, 0.95) < fixed {
		t.Errorf("planned %g s, the fixed shards end at %g s, late at %g s", p.Finish, fixed, late)
	}
	if queue := history.Quantile(out.Queue, 0.5); queue < p.Work/6*0.9 || queue > p.Finish*1.1 || history.Quantile(out.QueueLate, 0.5) > queue+60/6+2 {
		t.Errorf("the queue ends at %g s, with a late worker at %g s", queue, history.Quantile(out.QueueLate, 0.5))
	}
}

func TestCurve(t *testing.T) {
	units := []schedule.Unit{{Name: "long", Seconds: 10}, {Name: "a", Seconds: 6}, {Name: "b", Seconds: 5}, {Name: "c", Seconds: 5}, {Name: "d", Seconds: 4}}
	points := NewWork(units).Curve(Fleet{}, 6, Thorough)
	var got []string
	for _, p := range points {
		got = append(got, fmt.Sprintf("%d:%g", p.Shards, p.Finish))
	}
	if strings.Join(got, " ") != "1:30 2:15 3:10 4:10 5:10 6:10" || Knee(points) != 3 || Within(points, 12) != 3 || Within(points, 9) != 0 {
		t.Errorf("the curve is %v, its knee %d", got, Knee(points))
	}
	if points[2].Setter == nil || points[2].Setter.Name != "long" || points[1].Setter != nil {
		t.Errorf("3 shards are held by %v, 2 by %v", points[2].Setter, points[1].Setter)
	}
}

// TestNoTime holds that units that take no time are dealt out as well.
func TestNoTime(t *testing.T) {
	var units []schedule.Unit
	for i := range 12 {
		units = append(units, schedule.Unit{Name: fmt.Sprint(i), Tests: []string{fmt.Sprint(i)}})
	}
	for _, s := range NewWork(units).Plan(Fleet{Shards: 4}, Thorough).Shards {
		if len(s.Units) != 3 {
			t.Errorf("shard %d holds %d of 12 units", s.Number, len(s.Units))
		}
	}
}

func TestEmptyPlan(t *testing.T) {
	text, err := json.Marshal(NewWork(nil).Plan(Fleet{Shards: 2}, Quick))
	want := `{"format":"fern-split/1","shards":[{"shard":1,"seconds":0,"tests":[]},{"shard":2,"seconds":0,"tests":[]}],` +
		`"finish_s":0,"floor_s":0,"optimal":true,"spread_s":0,"unknown":0,"fingerprint":"`
	if err != nil || !strings.HasPrefix(string(text), want) {
		t.Errorf("got %s, %v", text, err)
	}
}

// testsOf makes so many tests with lifelike times.
func testsOf(n int) []catalog.Test {
	tests := make([]catalog.Test, n)
	for i, u := range suiteOf(n) {
		group := fmt.Sprint("g", i/40)
		tests[i] = catalog.Test{ID: catalog.ID("u", group, u.Name), Suite: "u", Group: group, Name: u.Name, Expected: u.Seconds, Spread: u.Deviation, Known: true}
	}
	return tests
}

// BenchmarkPlan plans 100,000 tests on 256 shards, each by itself.
func BenchmarkPlan(b *testing.B) {
	tests := testsOf(100_000)
	b.ReportAllocs()
	for b.Loop() {
		study, err := NewStudy(tests, catalog.TestLevel, Fleet{Shards: 256})
		if err != nil {
			b.Fatal(err)
		}
		study.Plan(Thorough)
	}
}

// BenchmarkCurve plans 10,000 tests on 1 to 64 shards, each by itself.
func BenchmarkCurve(b *testing.B) {
	tests := testsOf(10_000)
	for b.Loop() {
		study, err := NewStudy(tests, catalog.TestLevel, Fleet{Shards: 1})
		if err != nil {
			b.Fatal(err)
		}
		study.Work.Curve(study.Fleet, 64, Quick)
	}
}

// BenchmarkSteady plans 10,000 tests of which one in fifty has changed, and reports
// how many move, and by how much later than the best they end.
func BenchmarkSteady(b *testing.B) {
	tests, random := testsOf(10_000), rand.New(rand.NewPCG(31, 32))
	f := Fleet{Shards: 32}
	study, _ := NewStudy(tests, catalog.TestLevel, f)
	earlier := map[string]int{}
	for _, s := range study.Plan(Thorough).Shards {
		for _, id := range s.Tests() {
			earlier[id] = s.Number
		}
	}
	for i := range tests {
		if random.IntN(50) == 0 {
			tests[i].Expected *= 0.5 + 2*random.Float64()
		}
	}
	study, _ = NewStudy(tests, catalog.TestLevel, f)
	best := study.Plan(Thorough)
	for b.Loop() {
		plan, moved := study.Work.Steady(f, earlier, 0.01, Quick)
		b.ReportMetric(float64(moved)/100, "%moved")
		b.ReportMetric(100*(plan.Finish/best.Finish-1), "%later")
	}
}

// BenchmarkQuality reports how near plans come to what can be proved, on the
// classes of the literature: 3 to 25 machines, 2 to 10 units for each.
func BenchmarkQuality(b *testing.B) {
	for b.Loop() {
		average, worst, optimal := quality([]int{3, 5, 8, 10, 15, 20, 25}, []float64{2, 2.5, 3, 4, 5, 6, 8, 10})
		b.ReportMetric(100*average, "%gap")
		b.ReportMetric(100*worst, "%worst")
		b.ReportMetric(100*optimal, "%proved")
	}
}

// BenchmarkEven reports how many of the plans that could be even are not.
func BenchmarkEven(b *testing.B) {
	for b.Loop() {
		random, uneven := rand.New(rand.NewPCG(1, 2)), 0
		for _, share := range []int{1000, 10_000, 100_000} {
			for shards := 4; shards <= 12; shards++ {
				for parts := 4; parts <= 12; parts++ {
					if NewWork(even(random, shards, parts, share)).Plan(Fleet{Shards: shards}, Thorough).Finish > float64(share) {
						uneven++
					}
				}
			}
		}
		b.ReportMetric(float64(uneven), "uneven")
	}
}
