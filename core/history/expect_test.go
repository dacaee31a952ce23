package history

import (
	"encoding/csv"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

func TestExpect(t *testing.T) {
	tests := []catalog.Test{
		{ID: "u:a#1", Suite: "u", Group: "a"}, {ID: "u:a#2", Suite: "u", Group: "a"}, {ID: "u:a#new", Suite: "u", Group: "a"},
		{ID: "u:b#new", Suite: "u", Group: "b"}, {ID: "v:c#new", Suite: "v", Group: "c"},
		{ID: "u:a#out", Suite: "u", Group: "a", SkipReason: "broken pump"},
	}
	Expect(tests, Times{Tests: ByID{"u:a#1": {Seconds: 1.2, Spread: 0.1}, "u:a#2": {Seconds: 3.5, Spread: 0.2}}, Setups: map[string]float64{"u:a": 0.3}})
	for i, want := range []struct {
		seconds, spread, setup float64
		known                  bool
	}{{1.2, 0.1, 0.3, true}, {3.5, 0.2, 0.3, true}, {2.35, 2.35, 0.3, false}, {2.35, 2.35, 0.3, false}, {2.35, 2.35, 0, false}, {0, 0, 0, true}} {
		if got := tests[i]; got.Expected != want.seconds || got.Spread != want.spread || got.Setup != want.setup || got.Known != want.known {
			t.Errorf("%s: %g ± %g s, setup %g s, known %t; want %v", got.ID, got.Expected, got.Spread, got.Setup, got.Known, want)
		}
	}
	Expect(tests[:1], Times{})
	if tests[0].Expected != Default || tests[0].Known {
		t.Errorf("of a test of which nothing is known %g s are expected", tests[0].Expected)
	}
}

// TestLearn holds that odd runs do not bend the figure, that it follows a change
// within a few runs, and that it is as sure as the measurements are.
func TestLearn(t *testing.T) {
	for name, c := range map[string]struct {
		past          []float64 // the latest first
		least, most   float64
		surerThan     float64
		lessSureThan0 float64
	}{
		"one":        {[]float64{2}, 2, 2, 1.01, 0.99},
		"outlier":    {[]float64{50, 1, 1.1, 0.9, 1, 1.05, 1, 0.95}, 0.95, 1.05, 0.2, 0.01},
		"old past":   {[]float64{3, 3.1, 3, 3.05, 1, 1, 1, 1, 1, 1, 1, 1}, 3, 3.1, 2, 0},
		"one change": {[]float64{3, 1, 1, 1, 1, 1, 1, 1}, 1, 1, 0.1, -1},
		"restless":   {[]float64{1, 3, 2, 1.5, 2.5, 1, 3}, 1.5, 2.5, 2, 0.4},
		"digits":     {[]float64{0.123456}, 0.123, 0.123, 1, 0},
	} {
		if got := Learn(c.past); got.Seconds < c.least || got.Seconds > c.most || got.Spread > c.surerThan || got.Spread < c.lessSureThan0 {
			t.Errorf("%s: %+v, want %+v", name, got, c)
		}
	}
}

// TestSetups holds that what a worker spends between two batches is what the
// second costs to begin, and that no first batch counts.
func TestSetups(t *testing.T) {
	r, start := run.New(), time.Unix(1000, 0)
	test := func(id string, worker, batch int, from, to float64) {
		at := func(s float64) time.Time { return start.Add(time.Duration(s * float64(time.Second))) }
		r.Apply(run.Event{Event: run.Started, ID: id, Worker: worker, Batch: batch, At: at(from)})
		r.Apply(run.Event{Event: run.Finished, ID: id, Worker: worker, Batch: batch, At: at(to), Outcome: run.Passed, Seconds: run.Took(to - from)})
	}
	test("u:first#1", 1, 1, 5, 6)
	test("u:first#2", 1, 1, 5, 7)
	test("u:other#1", 2, 2, 4, 9)
	test("u:b#1", 1, 3, 7.5, 8)
	test("u:b#2", 1, 3, 8.25, 9)
	test("u:c#1", 2, 4, 9.125, 10)
	if got := Setups(r); len(got) != 2 || got["u:b"] != 0.5 || got["u:c"] != 0.125 {
		t.Errorf("the setups are %v", got)
	}
	// A program that reports two tests at its end, after 2 s.
	for _, e := range []run.Event{{Event: run.Started, ID: "u:late#1", At: start.Add(9 * time.Second)}, {Event: run.Finished, ID: "u:late#1", At: start.Add(11 * time.Second), Seconds: run.Took(0.5)},
		{Event: run.Started, ID: "u:late#2", At: start.Add(11 * time.Second)}, {Event: run.Finished, ID: "u:late#2", At: start.Add(11 * time.Second), Seconds: run.Took(0.25)},
		{Event: run.Measured, Seconds: run.Took(2), Used: &run.Used{}}} {
		e.Worker, e.Batch = 1, 5
		if e.Event == run.Finished {
			e.Outcome = run.Passed
		}
		r.Apply(e)
	}
	if got := Setups(r); got["u:late"] != 1.25 || r.Starts != 1.25 {
		t.Errorf("what is beside the tests of a report is %v, in all %v", got, r.Starts)
	}
	if LearnSetup([]float64{0.0004, 0.0003}) != 0 || LearnSetup([]float64{0.5, 0.4, 9}) != 0.5 {
		t.Error("setups are not learned as measured")
	}
}

func TestCSV(t *testing.T) {
	tests, err := ReadCSV(strings.NewReader("\ufeffnote,seconds,id,setup\nx,1.5,u:a/b#c:d#e,0.25\n,0,plain,\n,2,g#n,0\n"))
	if err != nil || len(tests) != 3 {
		t.Fatalf("%v, %v", tests, err)
	}
	first := tests[0]
	if first.Suite != "u" || first.Group != "a/b" || first.Name != "c:d#e" || first.Expected != 1.5 || first.Setup != 0.25 || tests[1].Group != "plain" || tests[2].Group != "g" {
		t.Errorf("read %+v", tests)
	}
	for text, words := range map[string]string{
		"":                                      "columns id and seconds",
		"id,time\n":                             "columns id and seconds",
		"id,seconds\na,-1\n":                    "line 2",
		"id,seconds\na,NaN\n":                   "line 2",
		"id,seconds\na,Inf\n":                   "line 2",
		"id,seconds\na,1e99\n":                  "line 2",
		"id,seconds\na,soon\n":                  `"soon"`,
		"id,seconds,spread\na,1,x\n":            "the spread of",
		"id,seconds\na,1\nb,2\na,3\n":           "line 4: the id \"a\" is already in line 2: leave",
		"id,seconds\na,1\na,2\na,3\nb,1\nb,1\n": "and 2 more lines repeat an id (-v",
		"id,seconds\n,1\n":                      "empty",
		"id,seconds\na\n":                       "line 2",
	} {
		if _, err := ReadCSV(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v, want %s", text, err, words)
		}
	}
}

// TestWriteCSV holds that what is written is read again as it was, and that lines
// stay as they are where nothing has changed beyond the noise.
func TestWriteCSV(t *testing.T) {
	tests := []catalog.Test{
		{ID: "u:b#1", Suite: "u", Group: "b", Name: "1", Known: true, Expected: 2, Spread: 0.3},
		{ID: "u:a#\"1\", 2", Suite: "u", Group: "a", Name: `"1", 2`, Known: true, Expected: 0.000123, Spread: 0.00001, Setup: 0.25},
		{ID: "u:a#new", Suite: "u", Group: "a", Name: "new", Expected: 9},
	}
	var out strings.Builder
	if err := WriteCSV(&out, tests, nil); err != nil {
		t.Fatal(err)
	}
	again, err := ReadCSV(strings.NewReader(out.String()))
	if err != nil || len(again) != 2 || !reflect.DeepEqual(again, []catalog.Test{tests[1], tests[0]}) {
		t.Fatalf("%s is read as %+v, %v", out.String(), again, err)
	}
	earlier := map[string]catalog.Test{again[0].ID: again[0], again[1].ID: again[1]}
	tests[0].Expected, tests[1].Expected = 2.2, 0.000456
	var later strings.Builder
	if err := WriteCSV(&later, tests, earlier); err != nil || !strings.Contains(later.String(), "u:b#1,2,0.3,0\n") || !strings.Contains(later.String(), ",0.000456,") {
		t.Errorf("wrote %s, %v", later.String(), err)
	}
}

func TestFormats(t *testing.T) {
	for _, c := range []struct{ got, want string }{
		{Clock(0), "0 s"}, {ClockTenths(0), "0 s"}, {Clock(59.6), "1:00"}, {Clock(192), "3:12"}, {Clock(3753), "1:02:33"},
		{ClockTenths(33.07), "0:33.1"}, {ClockTenths(119.96), "2:00.0"},
		{Short(0), "0 ms"}, {Short(0.0004), "<1 ms"}, {Clock(0.4), "0.40 s"}, {ClockTenths(0.04), "40 ms"}, {Short(0.012), "12 ms"}, {Short(0.84), "0.84 s"}, {Short(14.8), "14.8 s"}, {Short(700), "11:40"},
	} {
		if c.got != c.want {
			t.Errorf("got %s, want %s", c.got, c.want)
		}
	}
}

// FuzzReadCSV holds that what is read can be written and read again as the same,
// and that nothing else than a time gets in.
func FuzzReadCSV(f *testing.F) {
	f.Add("id,seconds\nu:a#1,1.5\n\"u:a#\"\"2\",0.000001\n")
	f.Add("spread,id,x,seconds,setup\n,a,,1e3,0.25\n")
	f.Add("id,seconds\na,NaN\n")
	f.Fuzz(func(t *testing.T, text string) {
		tests, err := ReadCSV(strings.NewReader(text))
		if err != nil {
			return
		}
		for i := range tests {
			read := &tests[i]
			if !(read.Expected >= 0 && read.Expected <= absurd && read.Spread >= 0 && read.Setup >= 0) || read.ID == "" {
				t.Fatalf("read %+v", read)
			}
			read.Expected, read.Spread, read.Setup = Round(read.Expected), Round(read.Spread), Round(read.Setup)
		}
		var out strings.Builder
		if err := WriteCSV(&out, tests, nil); err != nil {
			t.Fatal(err)
		}
		again, err := ReadCSV(strings.NewReader(out.String()))
		slices.SortFunc(tests, func(a, b catalog.Test) int { return strings.Compare(a.ID, b.ID) })
		if err != nil || len(again) != len(tests) || len(tests) > 0 && !reflect.DeepEqual(again, tests) {
			t.Fatalf("%q is written as %q and read as %+v, %v", text, out.String(), again, err)
		}
	})
}

// FuzzAppendCSV holds that a row of appended cells is what encoding/csv writes.
func FuzzAppendCSV(f *testing.F) {
	f.Add("u:a#1", "got 1,\nwant \"2\"")
	f.Add(" =1+2", `\.`)
	f.Fuzz(func(t *testing.T, first, second string) {
		var want strings.Builder
		w := csv.NewWriter(&want)
		if err := w.Write([]string{"1", CSVCell(first), CSVCell(second)}); err != nil {
			t.Fatal(err)
		}
		w.Flush()
		row := AppendCSV(append(AppendCSV([]byte("1,"), first), ','), second)
		if got := string(row) + "\n"; got != want.String() {
			t.Fatalf("got %q, want %q", got, want.String())
		}
	})
}
