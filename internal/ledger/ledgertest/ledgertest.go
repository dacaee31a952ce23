// Package ledgertest makes ledgers for tests and benchmarks.
package ledgertest

import (
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
	"fernrelay/internal/testfiles"
)

// Project makes a project whose ledger has a number of runs of a number of tests, and returns its folder.
func Project(t testing.TB, tests, runs int) (dir string) {
	t.Helper()
	dir = t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"fern.toml":   "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"echo a\"\nrun = \"true {name}\"\n",
		".fern/empty": "",
	})
	l, err := ledger.Open(filepath.Join(dir, ".fern"))
	if err == nil {
		err = Fill(l, IDs(tests), runs)
	}
	if err != nil {
		t.Fatal(err)
	}
	_ = l.Close()
	return dir
}

// IDs returns IDs of made tests, in groups of a hundred.
func IDs(tests int) []string {
	ids := make([]string, tests)
	for i := range ids {
		ids[i] = catalog.ID("unit", fmt.Sprintf("beds/row%03d", i/100), fmt.Sprintf("TestBed%05d", i))
	}
	return ids
}

// Fill adds runs, one per hour, of tests on four workers. One test in a hundred fails from time to
// time; times have noise, and one test in fifty is slower from the middle on.
func Fill(l *ledger.Ledger, ids []string, runs int) error {
	random := rand.New(rand.NewPCG(1, 2))
	start := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	into := l.NewImporter()
	var ready []ledger.Foreign
	for n := range runs {
		ready = append(ready, ledger.Foreign{Record: run.Record{Meta: run.Meta{Workers: 4, Source: run.Source{Revision: fmt.Sprintf("%07x", n/3)}}, Imported: "made"}, Run: madeRun(random, start.Add(time.Duration(n)*time.Hour), ids, n >= runs/2)})
		if len(ready) < 10 && n < runs-1 {
			continue
		}
		if err := into.Add(ready); err != nil {
			return err
		}
		ready = ready[:0]
	}
	return into.Close()
}

func madeRun(random *rand.Rand, began time.Time, ids []string, late bool) *run.Run {
	r := run.New()
	r.Apply(run.Event{Event: run.RunBegins, At: began})
	var at [4]float64
	for test, id := range ids {
		worker := test % len(at)
		seconds := 0.05 * float64(1+test%40) * math.Exp(0.1*random.NormFloat64())
		if late && test%50 == 7 {
			seconds *= 1.5
		}
		e := run.Event{Event: run.Started, ID: id, Worker: worker + 1, Batch: 1 + test/100, At: began.Add(time.Duration(at[worker] * float64(time.Second)))}
		r.Apply(e)
		at[worker] += seconds
		e.Event, e.Outcome, e.Seconds, e.At = run.Finished, run.Passed, &seconds, began.Add(time.Duration(at[worker]*float64(time.Second)))
		if test%100 == 13 && random.IntN(10) == 0 {
			e.Outcome, e.Message, e.File, e.Line = run.Failed, fmt.Sprintf("bed %d is dry: %d litres", test, random.IntN(9)), "beds/bed_test.go", test%7
			r.Apply(run.Event{Event: run.Output, ID: e.ID, Text: "pump started\npump stopped\n"})
		}
		r.Apply(e)
	}
	r.Apply(run.Event{Event: run.RunEnds, At: began.Add(time.Duration(at[0] * float64(time.Second)))})
	return r
}
