package survey

import (
	"fmt"
	"image/color"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// drawFunnel draws how the pick narrows and returns how many rows it took. If asked to, it also shows which
// clauses keep the test under the cursor in.
func (v View) drawFunnel(c screen.Canvas) int {
	t, s := c.Theme, v.session
	steps := s.Picked.Funnel
	var why *report.Why
	if v.why {
		why = v.explain()
	}
	if why == nil {
		c.Text(0, 0, screen.Style{Colour: t.Fog}, "how the pick narrows")
	} else {
		x := c.Text(0, 0, screen.Style{Colour: t.Fog}, "why ")
		c.Text(x, 0, screen.Style{Colour: t.Ink, Bold: true}, screen.Cut(plain.Line(v.Current().Name), c.Width-x))
	}
	all := max(steps[0].Sum.Tests, 1)
	room := max(10, min(62, c.Width-50))
	y := 1
	for i, step := range steps {
		if y >= c.Height {
			break
		}
		c.Text(0, y, screen.Style{Colour: t.Ink}, screen.Cut(plain.Line(step.Clause), 22))
		c.Right(30, y, screen.Style{Colour: t.Ink}, fmt.Sprint(step.Sum.Tests))
		colour, amount := t.Leaf, 0.5
		if i == 0 {
			colour = t.Fog
		}
		c.Bar(32, y, float64(room*step.Sum.Tests)/float64(all), colour, amount)
		x := 34 + room*step.Sum.Tests/all
		switch {
		case why != nil && why.Funnel[i].Held:
			c.Text(x, y, screen.Style{Colour: t.Leaf}, "in")
		case why != nil:
			c.Text(x, y, screen.Style{Colour: t.Rust}, "out")
		case i > 0:
			c.Text(x, y, screen.Style{Colour: t.Fog}, fmt.Sprintf("%d out", steps[i-1].Sum.Tests-step.Sum.Tests))
		}
		y++
	}
	if s.Picked.Behind != "" && y < c.Height {
		c.Text(0, y, screen.Style{Colour: t.Fog}, screen.Cut(plain.Line(s.Picked.Behind), c.Width))
		y++
	}
	if why != nil {
		c.Text(0, y, screen.Style{Colour: t.Ink}, screen.Cut(whySentence(why), c.Width))
		y++
	}
	return y
}

// funnelRows returns the rows of the funnel with its heading and the sentence below it.
func funnelRows(f *leg.Figures) int {
	rows := len(f.Funnel) + 2
	if f.Behind != "" {
		rows++
	}
	return rows
}

// explain returns why the test under the cursor is in the pick or out, nil if there is none.
func (v View) explain() *report.Why {
	test, s := v.Current(), v.session
	if test == nil {
		return nil
	}
	i, _ := s.Picked.Catalog.Index(test.ID)
	why, err := report.NewWhy(s.Picked.Index, s.Picked.Text, s.Picked.Expr, s.Picked.Funnel, i)
	if err != nil {
		return nil // the figures of this very pick are there, so it cannot be
	}
	return why
}

func whySentence(why *report.Why) string {
	if why.Clause == "" && !why.Held {
		return plain.Line("out: " + why.Because)
	}
	if why.Clause == "" {
		return "in: the empty pick selects every test"
	}
	way := "in by "
	if !why.Held {
		way = "out by "
	}
	return plain.Line(way + why.Clause + ": " + why.Because)
}

// cardLine is one fact about a test: parts of text, each in its look.
type cardLine struct {
	label string
	parts []cardPart
	past  []run.Outcome // drawn before the parts
}

type cardPart struct {
	text string
	look color.Color
}

// cardLabel is how wide the labels of a card are, with their air.
const cardLabel = 13

// drawCard draws the facts about the test under the cursor: whole if the card is open, else cut to its room.
func (v View) drawCard(c screen.Canvas, whole bool) {
	t, test := c.Theme, v.Current()
	if test == nil {
		return
	}
	past := v.session.Picked.PastOf(test.ID)
	status := ""
	if n := len(past); n > 0 && past[n-1].Bad() {
		status = past[n-1].Shape() + " " + string(past[n-1]) + " in the last run"
	}
	c.Right(c.Width, 0, screen.Style{Colour: t.Rust}, status)
	y := screen.DrawName(c, plain.Line(test.GroupLabel()), plain.Line(test.Name), screen.Width(status)+2)
	c.Text(0, y, screen.Style{Colour: t.Water}, screen.CutGroup(plain.Line(test.Place()), c.Width))
	y++
	if c.Height > 8 {
		y++
	}
	lines := v.cardLines(t, test, past)
	if whole {
		lines = append([]cardLine{{label: "ID", parts: []cardPart{{report.Quote(test.ID), t.Ink}}}}, lines...)
		if why := v.explain(); why != nil {
			lines = append(lines, cardLine{label: "pick", parts: []cardPart{{whySentence(why), t.Ink}}})
		}
	}
	for _, line := range lines {
		if y >= c.Height {
			return
		}
		c.Text(0, y, screen.Style{Colour: t.Fog}, line.label)
		y += line.draw(c.Sub(cardLabel, y, c.Width-cardLabel, c.Height-y), whole)
	}
	if whole {
		v.drawSource(c.Sub(0, y+1, c.Width, c.Height-y-1), test)
	}
}

// drawSource draws the lines of the test in its file.
func (v View) drawSource(c screen.Canvas, test *catalog.Test) {
	for i, line := range v.source.Lines {
		c.Right(cardLabel-4, i, screen.Style{Colour: c.Theme.Faint()}, fmt.Sprint(test.Line+i))
		c.Text(cardLabel, i, screen.Style{Colour: c.Theme.Ink}, screen.Cut(line, c.Width-cardLabel))
	}
}

// lastLine returns the last line of a test: if that is not known, the one before the next test of its file.
func (v *View) lastLine(t *catalog.Test) int {
	if t.End > 0 {
		return t.End
	}
	last := t.Line + leg.SourceShown
	c := v.session.Picked.Catalog
	for _, g := range c.Groups {
		if g.Suite != t.Suite || g.Name != t.Group {
			continue
		}
		for _, other := range c.Tests[g.First : g.First+g.Len] {
			if other.File == t.File && other.Line > t.Line {
				last = min(last, other.Line-1)
			}
		}
	}
	return last
}

// draw draws a line's parts side by side, wrapped if there is room for more rows, and returns how many rows it
// took.
func (line *cardLine) draw(c screen.Canvas, wrap bool) int {
	x, y := 0, 0
	if line.past != nil {
		shown := min(len(line.past), 20)
		x = screen.DrawPast(c, 0, 0, line.past, shown) + 2
	}
	for _, part := range line.parts {
		text := plain.Line(part.text)
		if !wrap {
			x = c.Text(x, 0, screen.Style{Colour: part.look}, screen.Cut(text, c.Width-x)) + 1
			continue
		}
		if x > 0 && x+screen.Width(text) > c.Width {
			x, y = 0, y+1
		}
		rows := strings.Split(ansi.Hardwrap(text, max(1, c.Width), true), "\n")
		for i, row := range rows {
			x = c.Text(x, y+i, screen.Style{Colour: part.look}, row) + 1
			if i < len(rows)-1 {
				x = 0
			}
		}
		y += len(rows) - 1
	}
	return y + 1
}

// cardLines returns the facts about a test beside its name and place.
func (v *View) cardLines(t *screen.Theme, test *catalog.Test, past []run.Outcome) []cardLine {
	var lines []cardLine
	add := func(label string, parts ...cardPart) { lines = append(lines, cardLine{label: label, parts: parts}) }
	if tags := v.tagParts(t, test); tags != nil {
		add("tags", tags...)
	}
	for _, rule := range catalog.RuleNames {
		if test.Rules().Has(rule) {
			add(rule, v.ruleParts(t, test, rule)...)
		}
	}
	if test.SkipReason != "" && test.SkipReason != test.Rules().Skip {
		add("here", cardPart{"does not run: " + test.SkipReason, t.Amber})
	}
	words := history.Short(test.Expected)
	switch {
	case test.SkipReason != "":
		words = "none, as it does not run"
	case !test.Known:
		words += ", a guess: it was never measured"
	}
	add("time", cardPart{words, t.Ink})
	if len(past) == 0 {
		add("past", cardPart{"it never ran here", t.Fog})
		return lines
	}
	passed := 0
	for _, o := range past {
		if o == run.Passed {
			passed++
		}
	}
	line := cardLine{label: "past", past: past, parts: []cardPart{{fmt.Sprintf("%d of %d passed", passed, len(past)), t.Fog}}}
	if history.Flips(past) > 1 {
		line.parts = []cardPart{{line.parts[0].text + "; it comes and goes: H hunts it", t.Orchid}}
	}
	return append(lines, line)
}

// tagParts returns tags with where they come from: "quick valve from the function; slow from fern.toml:12".
func (v *View) tagParts(t *screen.Theme, test *catalog.Test) []cardPart {
	var places []string
	by := map[string][]string{}
	for _, tag := range test.Tags {
		from := test.TagFrom(tag)
		if by[from] == nil {
			places = append(places, from)
		}
		by[from] = append(by[from], tag)
	}
	var parts []cardPart
	for i, from := range places {
		ending := ";"
		if i == len(places)-1 {
			ending = ""
		}
		parts = append(parts, cardPart{strings.Join(by[from], " "), t.Leaf}, cardPart{"from " + from + ending, t.Fog})
	}
	return parts
}

func (v *View) ruleParts(t *screen.Theme, test *catalog.Test, rule string) []cardPart {
	value := test.Rules().Value(rule)
	switch rule {
	case catalog.RuleNeeds, catalog.RuleAfter:
		value = strings.ReplaceAll(value, catalog.ID(test.Suite, test.Group, ""), "")
	case catalog.RuleHolds:
		var each []string
		for _, resource := range test.Rules().Holds {
			each = append(each, resource+" "+v.atOnce(resource))
		}
		value = strings.Join(each, ", ")
	}
	from := test.RuleFrom(rule)
	look := t.Fog
	if strings.Contains(from, KeepSession) {
		from, look = from+" only", t.Amber
	}
	return []cardPart{{value, t.Amber}, {"from " + from, look}}
}

// atOnce says how many tests may hold a resource at once.
func (v *View) atOnce(resource string) string {
	if n := v.session.App.Project.Resources[resource]; n > 1 {
		return fmt.Sprintf("%d at a time", n)
	}
	return "one at a time"
}

// ruleWords names a test's rules in the list, and says which hold for this session only.
func ruleWords(t *catalog.Test) string {
	var words []string
	for _, rule := range catalog.RuleNames {
		if !t.Rules().Has(rule) {
			continue
		}
		if strings.Contains(t.RuleFrom(rule), KeepSession) {
			rule += " (session)"
		}
		words = append(words, rule)
	}
	if t.SkipReason != "" && t.Rules().Skip == "" {
		words = append(words, "not here")
	}
	return strings.Join(words, " ")
}
