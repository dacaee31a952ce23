package packs

import (
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/run"
)

// TestPack packs random runs and unpacks them to the same.
func TestPack(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	for n := range 200 {
		var results []Result
		for i := range random.IntN(40) {
			r := &run.Result{Outcome: run.Outcomes[random.IntN(len(run.Outcomes))], Seconds: float64(random.IntN(1e6)) / 1e3, Worker: random.IntN(300), Batch: random.IntN(1e5)}
			if n%2 == 0 && random.IntN(3) > 0 { // measured
				r.Slowed, r.Share = 1+float64(random.IntN(64))/16, float64(random.IntN(64))/32
			}
			if random.IntN(3) == 0 {
				r.Message, r.Line, r.Flaky = strings.Repeat("m\xff", random.IntN(3)), random.IntN(99), random.IntN(2) == 0
				r.Steps = []run.Step{{Name: "s", Outcome: run.Failed, Seconds: 1}}
			}
			p := Of(i, 1+random.Int64N(1e6), r)
			p.Began = 1_700_000_000_000 + random.Int64N(1e9) - 5e8
			if p.Details != nil {
				p.Details.Message = strings.ToValidUTF8(p.Details.Message, "\uFFFD")
			}
			results = append(results, p)
		}
		brief, rest, err := Pack(slices.Values(results))
		if err != nil {
			t.Fatal(err)
		}
		back, err := Unpack(brief, rest)
		if err != nil || len(back) != len(results) || len(back) > 0 && !reflect.DeepEqual(back, results) {
			t.Fatalf("%+v came back as %+v, %v", results, back, err)
		}
		for i := range back {
			if alone := back[i].seconds() / max(1, float64(back[i].slowed)); math.Abs(alone-float64(results[i].Cell.Seconds)) > 1e-3 {
				t.Fatalf("%v s came back as %v s, alone %v s", results[i].wall, back[i].seconds(), alone)
			}
		}
	}
}

// FuzzUnpack holds that no damaged pack is more than an error.
func FuzzUnpack(f *testing.F) {
	brief, rest, err := Pack(slices.Values([]Result{Of(0, 3, &run.Result{Outcome: run.Failed, Failure: run.Failure{Message: "m"}, Seconds: 1}), Of(1, 4, &run.Result{Outcome: run.Passed})}))
	if err != nil {
		f.Fatal(err)
	}
	first, _ := Decompress(brief)
	second, _ := Decompress(rest)
	f.Add(first, second)
	f.Add([]byte{0xff, 0xff, 0xff, 0xff, 0x0f}, []byte("[]"))
	f.Add(first[:4], second[:3])
	f.Fuzz(func(t *testing.T, brief, rest []byte) {
		results, err := Unpack(Compress(brief), Compress(rest))
		for _, r := range results {
			if err == nil && r.Cell.Outcome() == "" {
				t.Error("a result has no outcome")
			}
		}
		_, _ = Unpack(brief, rest)
	})
}

// TestBounded holds what is kept of texts and steps that are too many.
func TestBounded(t *testing.T) {
	if got := Bounded(strings.Repeat("x", 3*textKept) + "the end"); len(got) > textKept+100 || !strings.HasSuffix(got, "the end") {
		t.Errorf("%d bytes are kept", len(got))
	}
	steps := make([]run.Step, 5*stepsKept)
	for i := range steps {
		steps[i].Outcome = run.Passed
		if i%10 == 9 {
			steps[i].Outcome = run.Failed
		}
	}
	bad := 0
	kept := boundedSteps(steps)
	for _, s := range kept {
		if s.Outcome.Bad() {
			bad++
		}
	}
	if len(kept) != stepsKept || bad != stepsKept/2 {
		t.Errorf("%d steps are kept, %d of them bad", len(kept), bad)
	}
}

// TestPackOfManyDetails packs more details than are compressed at once.
func TestPackOfManyDetails(t *testing.T) {
	r := &run.Result{Outcome: run.Failed, Failure: run.Failure{Message: strings.Repeat("m", textKept)}}
	results := make([]Result, 3*frameSize/textKept)
	for i := range results {
		results[i] = Of(i, int64(i+1), r)
	}
	brief, rest, err := Pack(slices.Values(results))
	if err != nil {
		t.Fatal(err)
	}
	back, err := Unpack(brief, rest)
	if err != nil || len(back) != len(results) {
		t.Fatalf("%d of %d results came back, %v", len(back), len(results), err)
	}
	for i := range back {
		if back[i].Details == nil || back[i].Details.Message != r.Message {
			t.Fatalf("result %d came back without its message", i)
		}
	}
}
