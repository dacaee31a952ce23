package hunt

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"fernrelay/core/run"
)

// world is a made-up suite: it says whether the victim is bad after an order.
type world func(before []string) bool

// chase runs a hunt in a world to its end.
func chase(t testing.TB, task Task, bad world) Finding {
	t.Helper()
	f, _ := chaseRecords(t, task, bad)
	return f
}

// chaseRecords also gives the trials.
func chaseRecords(t testing.TB, task Task, bad world) (Finding, []Record) {
	t.Helper()
	task.Victim = "victim"
	h := New(task)
	defer h.Close()
	for round := h.Next(); round != nil; round = h.Next() {
		for _, trial := range round {
			if last := len(trial.Order) - 1; trial.Order[last] != "victim" {
				t.Fatalf("trial %d does not end with the victim: %v", trial.Number, trial.Order)
			}
			o := run.Passed
			if bad(slices.Concat(trial.Beside, trial.Order[:len(trial.Order)-1])) {
				o = run.Failed
			}
			h.Report(trial.Number, o, 0.1)
		}
		if len(h.Records()) > 2*mostTrials {
			t.Fatalf("the hunt does not end")
		}
	}
	return h.Finding(), h.Records()
}

// isolating counts the trials that did not serve to be sure of the finding.
func isolating(f Finding, records []Record) int {
	n := f.Trials - f.With.Runs - f.Without.Runs
	for _, r := range records {
		if r.Purpose == Less {
			n--
		}
	}
	return n
}

// after is the task of a hunt among tests that ran before the victim.
func after(tests []string, past ...Past) Task { return Task{Orders: [][]string{tests}, Past: past} }

// repeats is how often each side of a finding without doubt is tried to be sure of it.
var repeats = looks[0]

func suite(n int) []string {
	names := make([]string, n)
	for i := range names {
		names[i] = fmt.Sprint("t", i)
	}
	return names
}

// TestTruthIsFound hunts in random worlds whose culprits are known: every set of
// up to three that must come together, spoiling or needed.
func TestTruthIsFound(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for round := range 3000 {
		tests := suite(1 + random.IntN(60))
		var past []Past
		truth := make([]string, 0, 3)
		for _, i := range random.Perm(len(tests))[:min(len(tests), 1+random.IntN(3))] {
			truth = append(truth, tests[i])
		}
		slices.SortFunc(truth, func(a, b string) int { return slices.Index(tests, a) - slices.Index(tests, b) })
		spoils := round%2 == 0
		bad := func(before []string) bool {
			for _, name := range truth {
				if !slices.Contains(before, name) {
					return !spoils
				}
			}
			return spoils
		}
		if round%3 > 0 {
			past = recorded(random, tests, random.IntN(30), bad)
		}
		task := after(tests, past...)
		task.Width = random.IntN(5)
		if round%5 > 1 { // so that trials leave out what was acquitted
			task.Seconds = map[string]float64{}
			for _, id := range tests {
				task.Seconds[id] = random.Float64()
			}
		}
		f := chase(t, task, bad)
		want, order := Polluted, append(slices.Clone(truth), "victim")
		if !spoils {
			want, order = Brittle, []string{"victim"}
		}
		if f.Verdict != want || len(f.Culprits) != 1 || !slices.Equal(f.Culprits[0], truth) || !slices.Equal(f.Order, order) {
			t.Fatalf("round %d: truth %v among %d, found %s %v, order %v", round, truth, len(tests), f.Verdict, f.Culprits, f.Order)
		}
		if f.With.Runs != repeats || f.Without.Runs != repeats || f.With.Failed == f.Without.Failed {
			t.Fatalf("round %d: the evidence is %+v with, %+v without", round, f.With, f.Without)
		}
	}
}

// TestTrialsOfOneCulprit holds the cost: alone, company, one trial for each
// halving, and the repeats.
func TestTrialsOfOneCulprit(t *testing.T) {
	tests := suite(1024)
	for i := 0; i < len(tests); i += 37 {
		f := chase(t, after(tests), func(before []string) bool { return slices.Contains(before, tests[i]) })
		if isolated := f.Trials - 2*repeats; isolated > 12 {
			t.Errorf("culprit %d of 1024: %d trials to isolate", i, isolated)
		}
		if n := rounds(tests, tests[i], 4); n > 7 {
			t.Errorf("culprit %d of 1024: %d rounds of 4 trials to isolate", i, n)
		}
		if n := rounds(tests, tests[i], 8) - 1; n > 5 { // the last only proves it
			t.Errorf("culprit %d of 1024: %d rounds of 8 trials to isolate", i, n)
		}
	}
}

// rounds counts the rounds of so many trials that it takes to isolate a culprit.
func rounds(tests []string, culprit string, width int) int {
	h := New(Task{Victim: "victim", Orders: [][]string{tests}, Width: width})
	defer h.Close()
	n := 0
	for round := h.Next(); round != nil && round[len(round)-1].Purpose != Without; round = h.Next() {
		n++
		for _, trial := range round {
			h.Report(trial.Number, map[bool]run.Outcome{true: run.Failed, false: run.Passed}[slices.Contains(trial.Order, culprit)], 0)
		}
	}
	return n
}

// recorded gives so many earlier runs of tests and the victim in random orders.
func recorded(random *rand.Rand, tests []string, runs int, bad world) []Past {
	past := make([]Past, runs)
	for i := range past {
		order := slices.Clone(tests)
		random.Shuffle(len(order), func(a, b int) { order[a], order[b] = order[b], order[a] })
		past[i].Before = order[:random.IntN(len(order)+1)]
		past[i].Bad = bad(past[i].Before)
	}
	return past
}

// TestPastSavesTrials holds that with 20 recorded runs in random orders one culprit
// among 1,024 is isolated in at most 6 trials on average, that a past that reports
// nothing, or lies, costs only a few trials more, and that the finding is right
// whatever the past says.
func TestPastSavesTrials(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	tests := suite(1024)
	const rounds = 60
	reported, lied := 0, 0
	for range rounds {
		culprit, other := tests[random.IntN(len(tests))], tests[random.IntN(len(tests))]
		spoils := func(name string) world {
			return func(before []string) bool { return slices.Contains(before, name) }
		}
		for _, c := range []struct {
			past []Past
			sum  *int
		}{{recorded(random, tests, 20, spoils(culprit)), &reported}, {recorded(random, tests, 20, spoils(other)), &lied}} {
			f := chase(t, after(tests, c.past...), spoils(culprit))
			if f.Verdict != Polluted || !slices.Equal(f.Culprits[0], []string{culprit}) {
				t.Fatalf("found %s %v, want %s", f.Verdict, f.Culprits, culprit)
			}
			*c.sum += f.Trials - 2*repeats
		}
	}
	if average := float64(reported) / rounds; average > 6 {
		t.Errorf("with a past it takes %.1f trials on average", average)
	}
	if average := float64(lied) / rounds; average > 18 {
		t.Errorf("with a past that lies it takes %.1f trials on average", average)
	}
}

func TestVerdictsWithoutCulprit(t *testing.T) {
	tests := suite(20)
	calls := 0
	for _, c := range []struct {
		name string
		bad  world
		want Verdict
	}{
		{"faulty", func([]string) bool { return true }, Faulty},
		{"stable", func([]string) bool { return false }, Stable},
		{"every third trial fails", func([]string) bool { calls++; return calls%3 == 0 }, Flaky},
		{"every second trial fails", func([]string) bool { calls++; return calls%2 == 0 }, Flaky},
	} {
		calls = 0
		f := chase(t, after(tests), c.bad)
		if f.Verdict != c.want || len(f.Culprits) > 0 {
			t.Errorf("%s: found %s with culprits %v", c.name, f.Verdict, f.Culprits)
		}
	}
	if f := chase(t, after([]string{"victim"}), func([]string) bool { return false }); f.Verdict != Stable {
		t.Errorf("the only test is found %s", f.Verdict)
	}
}

// TestFlakyVictimSparesItsCompany holds that a victim whose company takes long runs alone first: one that is flaky is
// recognized with little of the company, one that fails by chance unless certain tests run before it is not taken for flaky, and
// any other verdict stays as it is.
func TestFlakyVictimSparesItsCompany(t *testing.T) {
	tests, seconds := suite(20), map[string]float64{"victim": 0.2}
	for _, id := range tests {
		seconds[id] = 4
	}
	for _, c := range []struct {
		name string
		bad  func(before []string, call int) bool
		want Verdict
		most int // trials with company
	}{
		{"flaky", func(_ []string, call int) bool { return call%3 == 0 }, Flaky, 10},
		{"by chance", func(before []string, call int) bool {
			return len(before) == 0 && call%5 < 3 || len(before) > 0 && !slices.Contains(before, "t3") && call%5 < 3
		}, Brittle, 400},
		{"polluted", func(before []string, _ int) bool { return slices.Contains(before, "t7") }, Polluted, 30},
		{"faulty", func([]string, int) bool { return true }, Faulty, 30},
	} {
		calls, company := 0, 0
		task := after(tests)
		task.Seconds = seconds
		f := chase(t, task, func(before []string) bool {
			calls++
			if len(before) > 0 {
				company++
			}
			return c.bad(before, calls)
		})
		if f.Verdict != c.want || company > c.most || f.Without.Runs == 0 {
			t.Errorf("%s: %s after %d trials with company: %+v", c.name, f.Verdict, company, f)
		}
	}
}

// TestCulpritAmongTheRest finds a culprit that never ran before the victim.
func TestCulpritAmongTheRest(t *testing.T) {
	f := chase(t, Task{Orders: [][]string{suite(5), {"late", "later"}}}, func(before []string) bool { return slices.Contains(before, "later") })
	if f.Verdict != Polluted || !slices.Equal(f.Culprits[0], []string{"later"}) {
		t.Errorf("found %s %v", f.Verdict, f.Culprits)
	}
}

// TestCleaner hunts where another test undoes the culprit's work: whatever it
// names must have been seen to show.
func TestCleaner(t *testing.T) {
	tests := suite(16)
	f := chase(t, after(tests), func(before []string) bool {
		spoiled := false
		for _, name := range before {
			switch name {
			case "t3", "t11":
				spoiled = true
			case "t7":
				spoiled = false
			}
		}
		return spoiled
	})
	if f.Verdict != Polluted || f.With.Failed != repeats {
		t.Errorf("found %s %v, %+v", f.Verdict, f.Culprits, f.With)
	}
}

// TestCleanerIsNamed hides the culprit's work in the order at hand behind two tests that
// undo it only together, and in another order not.
func TestCleanerIsNamed(t *testing.T) {
	tests := suite(12)
	reversed := slices.Clone(tests)
	slices.Reverse(reversed)
	f := chase(t, Task{Orders: [][]string{tests, reversed}}, func(before []string) bool {
		at := slices.Index(before, "t2")
		return at >= 0 && !(slices.Contains(before[at:], "t5") && slices.Contains(before[at:], "t8"))
	})
	if f.Verdict != Polluted || !slices.Equal(f.Culprits[0], []string{"t2"}) || !slices.Equal(f.Cleaners, []string{"t5", "t8"}) {
		t.Errorf("found %s %v, cleaned by %v", f.Verdict, f.Culprits, f.Cleaners)
	}
}

// TestRightAfter finds culprits whose work every other test undoes, so that no long order shows it.
func TestRightAfter(t *testing.T) {
	tests := suite(40)
	reversed := slices.Clone(tests)
	slices.Reverse(reversed)
	f := chase(t, Task{Orders: [][]string{tests, reversed}}, func(before []string) bool {
		return len(before) > 0 && (before[len(before)-1] == "t17" || before[len(before)-1] == "t23")
	})
	if f.Verdict != Polluted || len(f.Culprits) != 1 || f.Culprits[0][0] != "t17" && f.Culprits[0][0] != "t23" || f.With != (Times{repeats, repeats}) {
		t.Errorf("found %+v", f)
	}
	if f := chase(t, Task{Orders: [][]string{suite(2000)}}, func([]string) bool { return false }); f.Verdict != Stable || f.Trials > mostEach+3*timesDoubtful {
		t.Errorf("of a stable test among many it found %s after %d trials", f.Verdict, f.Trials)
	}
}

// TestOverlap finds the test that spoils only while the victim runs, in two of three trials.
func TestOverlap(t *testing.T) {
	calls := 0
	task := Task{Orders: [][]string{suite(9)}, Beside: []string{"a", "b", "c", "d", "e", "f", "g"}}
	f := chase(t, task, func(around []string) bool {
		calls++
		return slices.Contains(around, "e") && calls%3 > 0
	})
	if f.Verdict != Polluted || !f.Overlap || !slices.Equal(f.Culprits[0], []string{"e"}) || !slices.Equal(f.Order, []string{"victim"}) {
		t.Errorf("found %+v", f)
	}
	random := rand.New(rand.NewPCG(3, 4))
	for range 50 { // one that is only flaky fails the more, the oftener a trial runs it
		h := New(Task{Victim: "victim", Orders: task.Orders, Beside: task.Beside, Width: 2})
		for round := h.Next(); round != nil; round = h.Next() {
			for _, trial := range round {
				o := run.Passed
				if random.Float64() > math.Pow(0.93, float64(trial.Times)) {
					o = run.Failed
				}
				h.Report(trial.Number, o, 1)
			}
		}
		if f := h.Finding(); len(f.Culprits) > 0 {
			t.Errorf("of a flaky test it found %+v", f)
		}
	}
}

// TestAllSets finds every set that suffices, also where they share a test.
func TestAllSets(t *testing.T) {
	task := after(suite(30))
	task.All = true
	f := chase(t, task, func(before []string) bool {
		has := func(id string) bool { return slices.Contains(before, id) }
		return has("t3") && (has("t9") || has("t20")) || has("t27")
	})
	slices.SortFunc(f.Culprits, slices.Compare)
	if want := [][]string{{"t27"}, {"t3", "t20"}, {"t3", "t9"}}; !slices.EqualFunc(f.Culprits, want, slices.Equal) {
		t.Errorf("found %v, want %v", f.Culprits, want)
	}
}

func TestStopInTheMiddle(t *testing.T) {
	h := New(Task{Victim: "victim", Orders: [][]string{suite(8)}})
	h.Next()
	h.Report(1, run.Passed, 0)
	h.Close()
	if h.Next() != nil || h.Finding().Verdict != "" {
		t.Errorf("a closed hunt goes on or concludes: %+v", h.Finding())
	}
}

func TestCompare(t *testing.T) {
	value := func(kind, name, text, sum string) Value { return Value{Kind: kind, Name: name, Text: text, Sum: sum} }
	fresh := []Value{{Kind: Variable, Name: "a", Text: "1", File: "a.go", Line: 3}, value(Variable, "gone", "x", ""), value(Variable, "deep", "…", "s1"), value(Environment, "a", "1", "")}
	after := []Value{value(Variable, "a", "2", ""), value(Variable, "deep", "…", "s2"), value(Environment, "a", "1", ""), value(File, "lock", "", "")}
	want := []Change{{Kind: Variable, Name: "a", Before: "1", After: "2", File: "a.go", Line: 3}, {Kind: Variable, Name: "gone", Before: "x", After: Absent},
		{Kind: Variable, Name: "deep", Before: "…", After: "… (differs further in)"}, {Kind: File, Name: "lock", Before: Absent}}
	if got := Compare(fresh, after); !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}

// TestLocate narrows random changes of a tree of values: the first part that differs in all fresh runs alike is named, and nothing is
// that only noise changed.
func TestLocate(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	for range 2000 {
		n := 1 + random.IntN(8)
		var states [3]Value
		for i := range states {
			states[i] = Value{Kind: Variable, Name: "v"}
		}
		left := 0
		for part := range n {
			way := fmt.Sprint(".f", part)
			texts := [3]string{"0", "0", "0"}
			switch random.IntN(5) {
			case 0: // noise
				texts = [3]string{"0", "1", fmt.Sprint(random.IntN(3))}
			case 1:
				texts[2] = "left"
			case 2:
				texts[2] = ""
			case 3:
				texts[0], texts[1], texts[2] = "", "", "new"
			}
			for i, text := range texts {
				if text != "" {
					states[i].Parts = append(states[i].Parts, [2]string{way, text})
				}
				states[i].Text += way + text
			}
			if texts[0] == texts[1] && texts[0] != texts[2] {
				left++
			}
		}
		got := Locate([]Change{{Kind: Variable, Name: "v"}}, [2][]Value{{states[0]}, {states[1]}}, []Value{states[2]})
		if left == 0 {
			if states[0].Text != states[2].Text && len(got) > 0 {
				t.Fatalf("noise is named: %+v of %+v", got, states)
			}
			continue
		}
		if len(got) != 1 || got[0].Part.More != left-1 {
			t.Fatalf("got %+v, want %d parts of %+v", got, left, states)
		}
		part := *got[0].Part
		for i, want := range []string{part.Before, part.Before, part.After} {
			text := Absent
			for _, p := range states[i].Parts {
				if p[0] == part.Way {
					text = p[1]
				}
			}
			if text != want {
				t.Fatalf("got %+v of %+v", part, states)
			}
		}
	}
}

// BenchmarkTrials prints how many trials it takes to isolate one culprit among 1,024,
// and two that must come together, without a past and with 20 recorded runs.
func BenchmarkTrials(b *testing.B) {
	random := rand.New(rand.NewPCG(1, 9))
	tests := suite(1024)
	for b.Loop() {
		for _, culprits := range []int{1, 2} {
			for _, runs := range []int{0, 20} {
				sum, most := 0, 0
				const rounds = 300
				for range rounds {
					at := random.Perm(len(tests))[:culprits]
					bad := func(before []string) bool {
						return !slices.ContainsFunc(at, func(i int) bool { return !slices.Contains(before, tests[i]) })
					}
					n := isolating(chaseRecords(b, after(tests, recorded(random, tests, runs, bad)...), bad))
					sum, most = sum+n, max(most, n)
				}
				b.Logf("%d of 1,024, %d runs known: %.2f trials on average, at most %d", culprits, runs, float64(sum)/rounds, most)
			}
		}
	}
}

// TestWholeProcessesAreLeftOut holds that trials start fewer processes if the hunt knows which tests share them, at no
// cost of trials: the company has tests of 30 processes, whose times differ.
func TestWholeProcessesAreLeftOut(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 8))
	tests := suite(600)
	process, seconds := map[string]string{"victim": "the victim's"}, map[string]float64{}
	for i, id := range tests {
		process[id], seconds[id] = fmt.Sprint(i/20), 0.004*random.Float64()
	}
	starts := func(task Task) (starts, trials int) {
		for culprit := 7; culprit < len(tests); culprit += 60 {
			f, records := chaseRecords(t, task, func(before []string) bool { return slices.Contains(before, tests[culprit]) })
			if len(f.Culprits) != 1 || f.Culprits[0][0] != tests[culprit] {
				t.Fatalf("found %v", f.Culprits)
			}
			for _, r := range records {
				started := map[string]bool{}
				for _, id := range r.Order {
					started[process[id]] = true
				}
				starts, trials = starts+len(started), trials+1
			}
		}
		return starts, trials
	}
	task := after(tests)
	task.Seconds = seconds
	blind, usual := starts(task)
	task.Process = process
	if knowing, trials := starts(task); 3*knowing > 2*blind || trials > usual+usual/10 {
		t.Errorf("%d processes in %d trials, where without knowing them there are %d in %d", knowing, trials, blind, usual)
	}
}
