package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// How much is printed while a run goes on.
const (
	ShowSum   = "sum"   // only what Status prints
	ShowNames = "names" // a line a test as it ends
	ShowFull  = "full"  // and a line a step, and the output
)

// Live prints tests as they end.
type Live struct {
	w    io.Writer
	show string
	held map[string]*strings.Builder // what is to be printed about a running test
}

// NewLive returns a Live that prints as much as show says.
func NewLive(w io.Writer, show string) *Live {
	return &Live{w: w, show: show, held: map[string]*strings.Builder{}}
}

// heldMost bounds what is held of one test, in bytes.
const heldMost = 64 << 10

// Event takes the next event of the run. It prints everything about a test together once it ends, because others
// run beside it.
func (l *Live) Event(e run.Event) {
	if l.show == ShowSum {
		return
	}
	switch e.Event {
	case run.Output:
		l.hold(e.ID, plain.Text(e.Text))
	case run.StepDone:
		l.hold(e.ID, fmt.Sprintf("\n%s %s\n", e.Outcome.Shape(), plain.Line(e.Step)))
	case run.Finished:
		fmt.Fprintf(l.w, "%s %s", e.Outcome.Shape(), plain.Line(e.ID))
		if e.Seconds != nil && *e.Seconds > 0 {
			fmt.Fprintf(l.w, "  %s", history.Short(*e.Seconds))
		}
		fmt.Fprintln(l.w)
		if held := l.held[e.ID]; held != nil {
			for line := range strings.SplitSeq(strings.Trim(held.String(), "\n"), "\n") {
				if line != "" {
					fmt.Fprintf(l.w, "    %s\n", line)
				}
			}
			delete(l.held, e.ID)
		}
	}
}

func (l *Live) hold(id, text string) {
	if l.show != ShowFull {
		return
	}
	if l.held[id] == nil {
		l.held[id] = &strings.Builder{}
	}
	held := l.held[id]
	if room := heldMost - held.Len(); room > 0 {
		held.WriteString(strings.ToValidUTF8(text[:min(len(text), room)], ""))
	}
}

// Repeated prints the tests whose outcomes differed from run to run, those that failed most often first.
func Repeated(w io.Writer, parts []run.Part) {
	type count struct {
		id   string
		runs map[run.Outcome]int
		bad  int
	}
	byID := map[string]*count{}
	var counts []*count
	for _, p := range parts {
		for _, r := range p.Run.Results {
			c := byID[r.ID]
			if c == nil {
				c = &count{id: r.ID, runs: map[run.Outcome]int{}}
				byID[r.ID], counts = c, append(counts, c)
			}
			c.runs[r.Outcome]++
			if r.Outcome.Bad() {
				c.bad++
			}
		}
	}
	counts = slices.DeleteFunc(counts, func(c *count) bool { return len(c.runs) == 1 })
	slices.SortStableFunc(counts, func(a, b *count) int { return b.bad - a.bad })
	if len(counts) == 0 {
		fmt.Fprintf(w, "%s: nothing differed\n", wording.Plural(len(parts), "run"))
		return
	}
	fmt.Fprintf(w, "%s: %s differed\n", wording.Plural(len(parts), "run"), wording.Plural(len(counts), "test"))
	for _, c := range counts {
		var words []string
		for _, o := range run.Outcomes {
			if n := c.runs[o]; n > 0 {
				words = append(words, fmt.Sprintf("%s %d", o, n))
			}
		}
		fmt.Fprintf(w, "    %s  %s of %d\n", plain.Line(c.id), strings.Join(words, ", "), len(parts))
	}
}
