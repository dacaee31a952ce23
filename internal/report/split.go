package report

import (
	"fmt"
	"io"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/schedule"
	"fernrelay/core/split"
	"fernrelay/internal/wording"
)

// Tone says how a phrase is meant, for a screen that has colours.
type Tone int

// The tones.
const (
	Plain   Tone = iota
	Figure       // a number to decide by
	Heading      // a question that the lines below answer
	Well
	Warning
	Bad
)

// Phrase is a part of a line.
type Phrase struct {
	Tone Tone
	Text string
}

// Line is the phrases of one line.
type Line []Phrase

func (l Line) String() string {
	var words strings.Builder
	for _, p := range l {
		words.WriteString(p.Text)
	}
	return words.String()
}

func words(format string, args ...any) Phrase { return Phrase{Plain, fmt.Sprintf(format, args...)} }

// shownUnits bounds the units of a shard that are named in a line.
const shownUnits = 6

// Plan prints a plan's shards and what its finish depends on.
func Plan(w io.Writer, p split.Plan) {
	rows := make([][]string, len(p.Shards))
	for i, s := range p.Shards {
		when := history.ClockTenths(s.Seconds())
		if s.Start > 0 && len(s.Units) > 0 {
			when = history.ClockTenths(s.Start) + "–" + history.ClockTenths(s.End)
		}
		rows[i] = []string{fmt.Sprintf("%4d", s.Number), fmt.Sprintf("%9s", when), fmt.Sprintf("%12s", wording.Plural(len(s.Tests()), "test")), unitNames(s)}
	}
	table(w, rows)
	fmt.Fprintf(w, "finish %s, floor %s, spread %s, alone %s%s\n", history.ClockTenths(p.Finish), history.ClockTenths(p.Floor),
		history.ClockTenths(p.Spread), history.ClockTenths(p.Work), history.OfWhichEstimated(p.Work, p.Estimated))
	if p.Start > 0 {
		fmt.Fprintf(w, "each machine takes %s to start\n", history.Short(p.Start))
	}
	fmt.Fprintln(w, Proof(p))
	if empty := p.Empty(); empty > 0 {
		fmt.Fprintf(w, "%s empty: there are no more tests\n", are(empty, "shard"))
	}
	if p.Unknown > 0 {
		fmt.Fprintln(w, NeverMeasured(p.Unknown))
	}
}

func unitNames(s split.Shard) string {
	var names []string
	for i, u := range s.Units {
		if i == shownUnits {
			names = append(names, fmt.Sprintf("and %d more", len(s.Units)-i))
			break
		}
		names = append(names, plain.Line(u.Label))
	}
	return strings.Join(names, ", ")
}

// are counts things that are something: 1 shard is, 2 shards are.
func are(n int, word string) string {
	if n == 1 {
		return "1 " + word + " is"
	}
	return wording.Plural(n, word) + " are"
}

// Proof says how good the plan is known to be.
func Proof(p split.Plan) string {
	gap := 100 * (p.Finish/p.Floor - 1)
	switch {
	case p.Optimal:
		return "optimal: no plan finishes earlier"
	case gap < 0.05:
		return "proved within 0.1 % of the best"
	}
	return fmt.Sprintf("proved within %.1f %% of the best", gap)
}

// Worth says what the last shard bought and what the next ones buy.
func Worth(a split.Advice) []Line {
	n := len(a.Plan.Shards)
	lines := []Line{{{Heading, "Is another machine worth it?"}}}
	if n > 1 {
		lines = append(lines, Line{words("the %s shard saved ", ordinal(n)), bought(a.Points[n-2].Finish - a.Plan.Finish)})
	}
	if n < len(a.Points) {
		next := a.Points[n]
		line := Line{words("%s %s would save ", article(n+1), ordinal(n+1)), bought(a.Plan.Finish - next.Finish)}
		if more := 100 * (next.Machines()/a.Points[n-1].Machines() - 1); more >= 0.5 && a.Plan.Finish > 0 {
			line = append(line, words(" for %.0f %% more machine time", more))
		}
		lines = append(lines, line)
	}
	return append(lines, kneeLine(a))
}

func kneeLine(a split.Advice) Line {
	if a.Knee == len(a.Points) && a.Knee > len(a.Plan.Shards) {
		return Line{words("each one more is worth it, up to "), {Figure, fmt.Sprint(a.Knee)}, words(" at the least")}
	}
	if a.Knee == len(a.Plan.Shards) {
		return Line{words("this is the "), {Well, "knee"}, words(": beyond it more machines cost more than they save")}
	}
	return Line{words("the "), {Well, "knee"}, words(" is at "), {Figure, fmt.Sprint(a.Knee)}, words(", with a finish of "),
		{Figure, history.ClockTenths(a.Points[a.Knee-1].Finish)}}
}

// bought writes seconds saved.
func bought(seconds float64) Phrase {
	if seconds < 0.0005 {
		return Phrase{Figure, "nothing"}
	}
	return Phrase{Figure, history.Short(seconds)}
}

// NeverMeasured says that the times of some tests are estimates.
func NeverMeasured(tests int) string {
	if tests == 1 {
		return "1 test never measured: its time is an estimate"
	}
	return fmt.Sprintf("%d tests never measured: their times are estimates", tests)
}

// InTheWay says what keeps a plan from ending sooner, and what would help.
func InTheWay(a split.Advice) []Line {
	lines := []Line{{{Heading, "What stands in the way?"}}}
	if a.Plan.Full {
		return append(lines, Line{words("%s keep ", wording.Plural(len(a.Plan.Shards), "worker")), {Warning, wording.Plural(a.Processors, "processor")},
			words(" busy: beyond %d nothing is gained", enough(a))})
	}
	setter := a.Plan.Setter
	if a.Plan.Held != "" {
		return append(lines, Line{{Warning, plain.Line(a.Plan.Held)}, words(" is held for %s by tests that may not overlap:", history.Short(a.Plan.Floor))},
			Line{words("more shards do not help; hold it for less time, or let more tests hold it at once")})
	}
	if setter == nil {
		lines = append(lines, Line{words("nothing but the work itself")})
		for _, p := range a.Points {
			if p.Setter != nil && p.Shards > len(a.Plan.Shards) {
				return append(lines, Line{words("from %d shards on ", p.Shards), {Warning, plain.Line(p.Setter.Label)},
					words(", %s in one piece", history.Short(p.Setter.Alone()))})
			}
		}
		return lines
	}
	lines = append(lines, Line{{Warning, plain.Line(setter.Label)}, words(" is %s in one piece", history.Short(setter.Alone()))})
	if a.Division == nil {
		return append(lines, Line{words("which cannot be divided: make it faster")})
	}
	if t := a.Division.Longest; len(setter.Tests) > 1 {
		lines = append(lines, Line{{Warning, plain.Line(t.Name)}, words(" alone is %s of it", history.Short(t.Expected))})
	}
	if floor := history.ClockTenths(a.Division.Floor); floor == history.ClockTenths(a.Plan.Floor) {
		return append(lines, Line{words("to divide it gains nothing: the floor stays "), {Figure, floor}})
	}
	return append(lines, Line{words("apart, the floor falls to "), {Figure, history.ClockTenths(a.Division.Floor)},
		words(" and %s end at ", wording.Plural(len(a.Plan.Shards), "shard")), {Figure, history.ClockTenths(a.Division.Finish)}})
}

// enough returns the least number of shards that finishes nearly as early as the plan does.
func enough(a split.Advice) int {
	const nearly = 1.03
	for _, p := range a.Points {
		if p.Finish <= nearly*a.Plan.Finish {
			return p.Shards
		}
	}
	return len(a.Plan.Shards)
}

// Bearing says how a plan and a queue bear a worker that begins late, and what
// they end at when tests take as long as they may.
func Bearing(o split.Outlook) []Line {
	middle := func(finishes []float64) float64 { return history.Quantile(finishes, 0.5) }
	late := func(finishes, inTime []float64) []Phrase {
		tone := Well
		if middle(finishes) > 1.2*middle(inTime) {
			tone = Bad
		}
		return []Phrase{{tone, history.ClockTenths(middle(finishes))}, words(", %s in 1 run of 20", history.ClockTenths(history.Quantile(finishes, 0.95)))}
	}
	return []Line{
		{{Heading, fmt.Sprintf("If one machine starts %d s late", split.Lateness)}},
		append(Line{words("fixed shards end at    ")}, late(o.FixedLate, o.Fixed)...),
		append(Line{words("a shared queue ends at ")}, late(o.QueueLate, o.Queue)...),
		{words("in time they end at    "), {Figure, history.ClockTenths(middle(o.Fixed))}, words(" and "), {Figure, history.ClockTenths(middle(o.Queue))}},
	}
}

// Advice prints everything to know about a plan beside the plan.
func Advice(w io.Writer, a split.Advice) {
	for _, lines := range [][]Line{Worth(a), InTheWay(a), Bearing(a.Outlook)} {
		fmt.Fprintln(w)
		for i, line := range lines {
			if i > 0 {
				fmt.Fprint(w, "    ")
			}
			fmt.Fprintln(w, line)
		}
	}
}

// FleetForecast says what a fleet run would take with the machines of an earlier one.
func FleetForecast(f *schedule.FleetForecast) []Line {
	names := plain.Line(wording.Some(f.Machines, machinesNamed))
	return []Line{{{Heading, "What would a fleet run take?"}},
		{{Figure, history.Clock(f.Seconds)}, words(" on %s (%s), the machines of run %d", names, wording.Plural(f.Workers, "worker"), f.Run)}}
}

// machinesNamed bounds the machines that a sentence names.
const machinesNamed = 4

// Curve prints the result of each number of shards; within, if above 0, marks the least that finishes within a
// number of seconds.
func Curve(w io.Writer, points []split.Point, within float64) {
	rows := [][]string{{"shards", "    finish", "     saves", "  machines"}}
	knee, least := split.Knee(points), split.Within(points, within)
	for i, p := range points {
		saves := ""
		if i > 0 {
			saves = bought(points[i-1].Finish - p.Finish).Text
		}
		var notes []string
		if p.Shards == knee {
			notes = append(notes, "the knee: beyond it machines cost more than they save")
		}
		if p.Shards == least {
			notes = append(notes, "the least that end within "+history.ClockTenths(within))
		}
		if p.Held != "" && (i == 0 || points[i-1].Held == "") {
			notes = append(notes, fmt.Sprintf("the floor: %s, held for %s", plain.Line(p.Held), history.Short(p.Floor)))
		}
		if p.Setter != nil && (i == 0 || points[i-1].Setter == nil) {
			notes = append(notes, fmt.Sprintf("the floor: %s, %s in one piece", plain.Line(p.Setter.Label), history.Short(p.Setter.Alone())))
		}
		number := fmt.Sprint(p.Shards)
		rest := i > 0 && saves == "nothing" && notes == nil && points[len(points)-1].Finish == p.Finish
		if last := points[len(points)-1]; rest && last.Shards > p.Shards {
			number, p = fmt.Sprintf("%d–%d", p.Shards, last.Shards), last
		}
		rows = append(rows, []string{fmt.Sprintf("%6s", number), fmt.Sprintf("%10s", history.ClockTenths(p.Finish)), fmt.Sprintf("%10s", saves),
			fmt.Sprintf("%10s", history.ClockTenths(p.Machines())), strings.Join(notes, "; ")})
		if rest {
			break
		}
	}
	table(w, rows)
}

func ordinal(n int) string {
	switch {
	case n%10 == 1 && n%100 != 11:
		return fmt.Sprintf("%dst", n)
	case n%10 == 2 && n%100 != 12:
		return fmt.Sprintf("%dnd", n)
	case n%10 == 3 && n%100 != 13:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}

func article(n int) string {
	if n == 8 || n == 11 || n == 18 || n >= 80 && n < 90 {
		return "an"
	}
	return "a"
}
