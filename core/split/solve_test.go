package split

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"fernrelay/core/history"
	"fernrelay/core/schedule"
)

// leastFinish tries every way to deal lengths out to machines.
func leastFinish(lengths []int64, machines []machine, loads []int64) int64 {
	if len(lengths) == 0 {
		finish := int64(0)
		for i, m := range machines {
			finish = max(finish, m.end(loads[i]))
		}
		return finish
	}
	least := int64(math.MaxInt64)
	for i := range machines {
		loads[i] += lengths[0]
		least = min(least, leastFinish(lengths[1:], machines, loads))
		loads[i] -= lengths[0]
	}
	return least
}

// randomMachines makes machines that are alike, or such that start late, have work
// already or differ in speed.
func randomMachines(random *rand.Rand, n int, same bool) []machine {
	machines := make([]machine, n)
	for i := range machines {
		machines[i].speed = 1
		if same {
			continue
		}
		machines[i].start, machines[i].base = random.Int64N(30), random.Int64N(20)
		if random.IntN(2) == 0 {
			machines[i].speed = 0.3 + 2*random.Float64()
		}
	}
	return machines
}

func randomLengths(random *rand.Rand, n int) []int64 {
	lengths := make([]int64, n)
	for i := range lengths {
		lengths[i] = 1 + random.Int64N(40)
	}
	slices.SortFunc(lengths, func(a, b int64) int { return int(b - a) })
	return lengths
}

// TestRoom holds that room and end say the same.
func TestRoom(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 5000 {
		m := randomMachines(random, 1, false)[0]
		at := random.Int64N(200)
		room := m.room(at)
		if room >= 0 && m.base+room > 0 && m.end(room) > at {
			t.Fatalf("%+v has room for %d until %d, and ends at %d with it", m, room, at, m.end(room))
		}
		if room >= 0 && m.end(room+1) <= at {
			t.Fatalf("%+v has room for %d until %d, and for one more", m, room, at)
		}
	}
}

// TestBounds compares the floors with the least finish of small instances: none is
// above it, and the linear program proves the least finish most of the time.
func TestBounds(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	proved, asked := 0, 0
	for round := range 600 {
		lengths := randomLengths(random, 1+random.IntN(8))
		machines := randomMachines(random, 1+random.IntN(4), round%2 == 0)
		least := leastFinish(lengths, machines, make([]int64, len(machines)))
		if f := floor(lengths, machines); f > least {
			t.Fatalf("%v on %+v: the floor is %d, the least finish %d", lengths, machines, f, least)
		}
		if !alike(machines) {
			continue
		}
		d := &assignment{lengths: lengths, machines: machines, steps: 1 << 30}
		d.take(longestFirst(lengths, machines))
		if c := newConfiguration(d, least, 1<<20); c != nil && c.overfull() {
			t.Fatalf("%v on %d: what ends at %d is said not to fit", lengths, len(machines), least)
		}
		if c := newConfiguration(d, least-1, 1<<20); c != nil {
			asked++
			if c.overfull() {
				proved++
			}
		}
	}
	if proved < asked*3/4 {
		t.Errorf("the linear program proves %d of %d", proved, asked)
	}
}

// TestPart compares what parting the jobs of two machines anew comes to with all
// ways to do it.
func TestPart(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for range 600 {
		lengths := randomLengths(random, 1+random.IntN(9))
		machines := randomMachines(random, 2, random.IntN(2) == 0)
		d := &assignment{lengths: lengths, machines: machines, steps: 1 << 30, random: random}
		on := make([]int, len(lengths))
		for i := range on {
			on[i] = random.IntN(2)
		}
		d.take(on)
		before, least := d.finish, leastFinish(lengths, machines, make([]int64, 2))
		better := d.redistribute(0, 1, before, false)
		d.settle()
		if d.finish != least || better != (least < before) {
			t.Fatalf("%v on %+v: from %d to %d, the least is %d", lengths, machines, before, d.finish, least)
		}
		again := &assignment{lengths: lengths, machines: machines}
		if again.take(d.on); !slices.Equal(again.loads, d.loads) {
			t.Fatalf("the loads are %v, and should be %v", d.loads, again.loads)
		}
	}
}

// TestPack compares what the packer finds, and what it says there is not, with all
// ways to pack.
func TestPack(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	for round := range 1500 {
		lengths := randomLengths(random, 1+random.IntN(9))
		machines := randomMachines(random, 1+random.IntN(3), round%2 == 0)
		d := &assignment{lengths: lengths, machines: machines, steps: 1 << 30}
		d.take(longestFirst(lengths, machines))
		all := make([]int, len(machines))
		for i := range all {
			all[i] = i
		}
		least := leastFinish(lengths, machines, make([]int64, len(machines)))
		for _, at := range []int64{least - 1, least, least + 3} {
			if slices.ContainsFunc(machines, func(m machine) bool { return m.end(0) > at }) {
				continue // what a machine has to do in any case is not the packer's
			}
			found, none := d.repack(all, at, 1<<20)
			if found != (at >= least) || none != (at < least) {
				t.Fatalf("%v on %+v by %d: found %t, none %t; the least is %d", lengths, machines, at, found, none, least)
			}
			if found && d.finish > at {
				t.Fatalf("%v on %+v: what is packed ends at %d, not by %d", lengths, machines, d.finish, at)
			}
		}
	}
}

// TestSimulateWithResources holds that a queue does not let what shares a resource
// overlap, and that a machine with nothing to do is not the one that is late.
func TestSimulateWithResources(t *testing.T) {
	units := []schedule.Unit{{Name: "a", Seconds: 10, Uses: []string{"bus"}}, {Name: "b", Seconds: 8, Uses: []string{"bus"}}, {Name: "c", Seconds: 3}, {Name: "d", Seconds: 4}}
	f := Fleet{Shards: 3, Resources: map[string]int{"bus": 1}, Starts: map[int]float64{3: 100}}
	p := NewWork(units).Plan(f, Quick)
	if p.Finish != 18 || p.Held != "bus" || p.Setter != nil || !p.Optimal || p.Setting() != "bus" {
		t.Fatalf("planned %+v", p)
	}
	out := Simulate(p, f, 60, 1)
	for name, c := range map[string]struct {
		finishes []float64
		want     float64
	}{"fixed": {out.Fixed, 18}, "queue": {out.Queue, 18}, "fixed, late": {out.FixedLate, 78}, "queue, late": {out.QueueLate, 25}} {
		if got := history.Quantile(c.finishes, 0.5); math.Abs(got-c.want) > 1e-9 {
			t.Errorf("%s ends at %g, want %g", name, got, c.want)
		}
	}
}
