package hunt

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// truth is a made-up suite whose culprits are known.
type truth struct {
	sets     [][]string // each suffices
	cleaner  string     // undoes their work, if not ""
	brittle  bool       // they are needed
	with     float64    // how often the victim shows after them, and
	without  float64    // without
	verdict  Verdict
	possible float64 // how many truths of this kind there are among the tests
}

// world is what the victim does in it.
func (w truth) world(random *rand.Rand) world {
	return func(before []string) bool {
		shows := slices.ContainsFunc(w.sets, func(set []string) bool {
			last := lastOf(set, before)
			return last >= 0 && !slices.Contains(before[last+1:], w.cleaner)
		})
		rate := w.without
		if shows {
			rate = w.with
		}
		return (random.Float64() < rate) != w.brittle
	}
}

// some takes so many of the tests, in their order.
func some(random *rand.Rand, tests []string, n int) []string {
	at := random.Perm(len(tests))[:n]
	slices.Sort(at)
	set := make([]string, n)
	for i := range set {
		set[i] = tests[at[i]]
	}
	return set
}

var kinds = []struct {
	name string
	make func(random *rand.Rand, tests []string) truth
}{
	{"one culprit", func(r *rand.Rand, tests []string) truth {
		return truth{sets: [][]string{some(r, tests, 1)}, with: 1, verdict: Polluted, possible: float64(len(tests))}
	}},
	{"two together", func(r *rand.Rand, tests []string) truth {
		n := float64(len(tests))
		return truth{sets: [][]string{some(r, tests, 2)}, with: 1, verdict: Polluted, possible: n * (n - 1) / 2}
	}},
	{"three together", func(r *rand.Rand, tests []string) truth {
		n := float64(len(tests))
		return truth{sets: [][]string{some(r, tests, 3)}, with: 1, verdict: Polluted, possible: n * (n - 1) * (n - 2) / 6}
	}},
	{"each of many", func(r *rand.Rand, tests []string) truth {
		w := truth{with: 1, verdict: Polluted, possible: float64(len(tests))}
		for _, id := range some(r, tests, 2+r.IntN(4)) {
			w.sets = append(w.sets, []string{id})
		}
		return w
	}},
	{"one with a cleaner", func(r *rand.Rand, tests []string) truth {
		pair := some(r, tests, 2)
		return truth{sets: [][]string{pair[1:]}, cleaner: pair[0], with: 1, verdict: Polluted, possible: float64(len(tests))}
	}},
	{"brittle", func(r *rand.Rand, tests []string) truth {
		return truth{sets: [][]string{some(r, tests, 1)}, brittle: true, with: 1, verdict: Brittle, possible: float64(len(tests))}
	}},
	{"one that spoils in 70 %", func(r *rand.Rand, tests []string) truth {
		return truth{sets: [][]string{some(r, tests, 1)}, with: 0.7, verdict: Polluted, possible: float64(len(tests))}
	}},
	{"one that spoils in 90 %, else 5 %", func(r *rand.Rand, tests []string) truth {
		return truth{sets: [][]string{some(r, tests, 1)}, with: 0.9, without: 0.05, verdict: Polluted, possible: float64(len(tests))}
	}},
	{"flaky", func(r *rand.Rand, _ []string) truth {
		rate := 0.2 + 0.6*r.Float64()
		return truth{with: rate, without: rate, verdict: Flaky, possible: 1}
	}},
	{"faulty or stable", func(r *rand.Rand, _ []string) truth {
		if r.IntN(2) == 0 {
			return truth{with: 1, without: 1, verdict: Faulty, possible: 1}
		}
		return truth{verdict: Stable, possible: 1}
	}},
	{"bad by chance but after one of three", func(r *rand.Rand, tests []string) truth {
		w := truth{brittle: true, with: 1, without: 0.3 + 0.3*r.Float64(), verdict: Brittle, possible: float64(len(tests))}
		for _, id := range some(r, tests, 3) {
			w.sets = append(w.sets, []string{id})
		}
		return w
	}},
}

// simulated is what came of hunts of one kind.
type simulated struct {
	cases, right, wrongCulprit int
	trials, limit              float64 // to isolate, and the least that could report all truths apart
}

// simulate hunts so many times in random worlds of each kind: 8 to 1,024 tests, with
// and without earlier runs, one or four trials at a time, some for all sets.
func simulate(t testing.TB, cases int) []simulated {
	random := rand.New(rand.NewPCG(11, 23))
	results := make([]simulated, len(kinds))
	for k, kind := range kinds {
		for n := range cases {
			tests := suite(int(math.Exp2(3 + 7*random.Float64())))
			w := kind.make(random, tests)
			bad := w.world(random)
			task := after(tests)
			if n%2 == 1 {
				task.Past = recorded(random, tests, 20, bad)
			}
			if n%4 >= 2 {
				task.Width = 4
			}
			task.All = n%3 == 0 && w.verdict == Polluted && w.without == 0
			f, records := chaseRecords(t, task, bad)
			results[k].add(w, task, f, isolating(f, records))
		}
	}
	return results
}

func (s *simulated) add(w truth, task Task, f Finding, isolating int) {
	s.cases++
	s.trials += float64(isolating)
	s.limit += math.Log2(w.possible)
	known := func(set []string) bool {
		return slices.ContainsFunc(w.sets, func(true []string) bool { return slices.Equal(set, true) })
	}
	right := f.Verdict == w.verdict && (len(f.Culprits) > 0) == (len(w.sets) > 0) && (!task.All || len(f.Culprits) == len(w.sets))
	for _, set := range f.Culprits {
		if !known(set) {
			right = false
			s.wrongCulprit++
		}
	}
	if right {
		s.right++
	}
}

// TestSimulation holds that nearly all verdicts are right and hardly any culprit wrong.
func TestSimulation(t *testing.T) {
	for k, s := range simulate(t, 60) {
		if s.right < s.cases-1 || s.wrongCulprit > 0 {
			t.Errorf("%s: %d of %d right, %d wrong culprits", kinds[k].name, s.right, s.cases, s.wrongCulprit)
		}
	}
}

// BenchmarkSimulation prints, of a thousand hunts of each kind, the share of right
// verdicts and the trials to isolate against the information limit.
func BenchmarkSimulation(b *testing.B) {
	for b.Loop() {
		var all, right, wrong int
		for k, s := range simulate(b, 1000) {
			n := float64(s.cases)
			b.Logf("%-34s %5.1f %% right, %d wrong culprits, %6.1f trials to isolate, limit %4.1f", kinds[k].name, 100*float64(s.right)/n, s.wrongCulprit, s.trials/n, s.limit/n)
			all, right, wrong = all+s.cases, right+s.right, wrong+s.wrongCulprit
		}
		b.Logf("%-34s %5.2f %% of %d right, %d wrong culprits", "together", 100*float64(right)/float64(all), all, wrong)
	}
}
