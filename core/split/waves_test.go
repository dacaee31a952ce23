package split

import (
	"math/rand/v2"
	"testing"

	"fernrelay/core/catalog"
)

// TestWavesOfShards plans more shards than may run at once. They end as early as the plan for as many shards as run at once, each of which
// is a runner that begins once for each of its shards.
func TestWavesOfShards(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 3))
	for range 400 {
		var tests []catalog.Test
		for i := range 2 + random.IntN(30) {
			test := catalog.Test{Suite: "u", Group: string(rune('a' + i)), Name: "t", Known: true, Expected: 0.1 + random.ExpFloat64()*5}
			test.ID = catalog.ID("u", test.Group, "t")
			tests = append(tests, test)
		}
		limit := 1 + random.IntN(4)
		f := Fleet{Shards: limit + random.IntN(2*limit+1), Limit: limit, Start: float64(random.IntN(2))}
		study, err := NewStudy(tests, catalog.GroupLevel, f)
		if err != nil {
			t.Fatal(err)
		}
		p := study.Plan(Quick)
		holdsTrue(t, study, p)
		runners := Fleet{Shards: limit, Starts: map[int]float64{}}
		for r := range limit {
			many := f.Shards / limit
			if r < f.Shards%limit {
				many++
			}
			runners.Starts[r+1] = float64(many) * f.Start
		}
		whole, err := NewStudy(tests, catalog.GroupLevel, runners)
		if err != nil {
			t.Fatal(err)
		}
		if least := whole.Plan(Quick).Finish; p.Finish > least+1e-6 {
			t.Errorf("%d tests on %d shards, %d at once: finish %g, on %d shards %g", len(tests), f.Shards, limit, p.Finish, limit, least)
		}
	}
}
