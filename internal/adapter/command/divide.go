package command

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/wording"
)

// division runs the tests of a process that ended badly again, in parts, until a test that ends its process is alone. Tests that
// have an outcome keep it.
//
//	a b c d e f g h    signal 11, and no outcome of any
//	a b c d            passed
//	e f g h            signal 11
//	e f                passed
//	g                  errored: the process ended while it ran: signal 11
//	h                  passed
type division struct {
	parts   [][]string // IDs that run apart from all others, the next ones last
	endings []*badEnding
	blamed  map[string]bool // tests without an outcome that were alone, or were known to run
}

// badEnding is the end of a process that was divided.
type badEnding struct {
	tests []string // that had no outcome
	words string
	late  bool          // it was killed because of its time
	wall  time.Duration // that it took
	apart time.Duration // that smaller processes took for its tests
}

// front returns those of the open tests that run next.
func (d *division) front(open []catalog.Test) []catalog.Test {
	for len(d.parts) > 0 {
		part := map[string]bool{}
		for _, id := range d.parts[len(d.parts)-1] {
			part[id] = true
		}
		if next := slices.DeleteFunc(slices.Clone(open), func(t catalog.Test) bool { return !part[t.ID] }); len(next) > 0 {
			return next
		}
		d.parts = d.parts[:len(d.parts)-1]
	}
	return open
}

// divide has the tests run again in halves. If outcomes came before the end, the first test without one comes alone before. A process
// that was late makes more parts, because each of those that hold the slow test takes all of its time again.
func (d *division) divide(end *badEnding, first bool) {
	d.endings = append(d.endings, end)
	rest, parts := end.tests, 2.0
	if first {
		rest = rest[1:]
	}
	if end.late {
		parts = max(2, math.Sqrt(float64(len(rest))))
	}
	all := slices.Collect(slices.Chunk(rest, max(1, int(math.Ceil(float64(len(rest))/parts)))))
	if first {
		all = slices.Insert(all, 0, end.tests[:1])
	}
	slices.Reverse(all)
	d.parts = append(d.parts, all...)
}

// blame notes tests that the end of a process explains.
func (d *division) blame(tests []string) {
	if d.blamed == nil {
		d.blamed = map[string]bool{}
	}
	for _, id := range tests {
		d.blamed[id] = true
	}
}

// ran adds the time of a process to the endings that it is a part of.
func (d *division) ran(tests []catalog.Test, wall time.Duration) {
	for _, e := range d.endings {
		if slices.Contains(e.tests, tests[0].ID) {
			e.apart += wall
		}
	}
}

// slowEnough is the part of a late process's time that its tests must take apart to explain that it was late.
const slowEnough = 0.7

// report reports, as an entry of the tests' group, the ends of processes that no test alone explains: the smallest of them, as tests
// that end their process only together are in all larger ones.
func (d *division) report(suite, group string, sink run.Sink) {
	var why []string
	outcome := run.TimedOut
	for _, e := range slices.Backward(d.endings) {
		explained := slices.ContainsFunc(e.tests, func(id string) bool { return d.blamed[id] }) || e.late && e.apart.Seconds() >= slowEnough*e.wall.Seconds()
		if explained {
			continue
		}
		d.blame(e.tests)
		if !e.late {
			outcome = run.Errored
		}
		what := wording.ShortID(e.tests[0]) + " after others"
		if n := len(e.tests); n > 1 {
			what = fmt.Sprintf("%d tests, from %s to %s,", n, wording.ShortID(e.tests[0]), wording.ShortID(e.tests[n-1]))
		}
		why = append(why, fmt.Sprintf("the process that ran %s ended with %s, and each has an outcome in a smaller process: what a test leaves behind may end it", what, e.words))
	}
	if why == nil {
		return
	}
	adapter.ReportBeyond(sink, run.Event{ID: catalog.ID(suite, group, run.ProcessEntry), Outcome: outcome, Failure: run.Failure{Message: strings.Join(why, "; ")}}, "")
}

// mostBarren is how many tests in a row may end their process alone, before a suite's processes are taken to end whatever they run.
const mostBarren = 10
