package tui

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
)

// drawFunnel draws how the pick narrows and returns how many rows it took. If asked to, it also shows which
// clauses keep the test under the cursor in.
func (v survey) drawFunnel(c canvas) int {
	t, s := c.theme, v.session
	steps := s.picked.funnel
	var why *report.Why
	if v.why {
		why = v.explain()
	}
	if why == nil {
		c.text(0, 0, style{colour: t.fog}, "how the pick narrows")
	} else {
		x := c.text(0, 0, style{colour: t.fog}, "why ")
		c.text(x, 0, style{t.ink, true}, cut(plain.Line(v.current().Name), c.width-x))
	}
	all := max(steps[0].Sum.Tests, 1)
	room := max(10, min(62, c.width-50))
	y := 1
	for i, step := range steps {
		if y >= c.height {
			break
		}
		c.text(0, y, style{colour: t.ink}, cut(plain.Line(step.Clause), 22))
		c.right(30, y, style{colour: t.ink}, fmt.Sprint(step.Sum.Tests))
		colour, amount := t.leaf, 0.5
		if i == 0 {
			colour = t.fog
		}
		c.bar(32, y, float64(room*step.Sum.Tests)/float64(all), colour, amount)
		x := 34 + room*step.Sum.Tests/all
		switch {
		case why != nil && why.Funnel[i].Held:
			c.text(x, y, style{colour: t.leaf}, "in")
		case why != nil:
			c.text(x, y, style{colour: t.rust}, "out")
		case i > 0:
			c.text(x, y, style{colour: t.fog}, fmt.Sprintf("%d out", steps[i-1].Sum.Tests-step.Sum.Tests))
		}
		y++
	}
	if s.picked.behind != "" && y < c.height {
		c.text(0, y, style{colour: t.fog}, cut(plain.Line(s.picked.behind), c.width))
		y++
	}
	if why != nil {
		c.text(0, y, style{colour: t.ink}, cut(whySentence(why), c.width))
		y++
	}
	return y
}

// funnelRows returns the rows of the funnel with its heading and the sentence below it.
func funnelRows(f *figures) int {
	rows := len(f.funnel) + 2
	if f.behind != "" {
		rows++
	}
	return rows
}

// explain returns why the test under the cursor is in the pick or out, nil if there is none.
func (v survey) explain() *report.Why {
	test, s := v.current(), v.session
	if test == nil {
		return nil
	}
	i, _ := s.picked.Catalog.Index(test.ID)
	why, err := report.NewWhy(s.picked.Index, s.picked.text, s.picked.expr, s.picked.funnel, i)
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
func (v survey) drawCard(c canvas, whole bool) {
	t, test := c.theme, v.current()
	if test == nil {
		return
	}
	past := v.session.picked.PastOf(test.ID)
	status := ""
	if n := len(past); n > 0 && past[n-1].Bad() {
		status = past[n-1].Shape() + " " + string(past[n-1]) + " in the last run"
	}
	c.right(c.width, 0, style{colour: t.rust}, status)
	y := drawName(c, plain.Line(test.GroupLabel()), plain.Line(test.Name), width(status)+2)
	c.text(0, y, style{colour: t.water}, cutGroup(plain.Line(test.Place()), c.width))
	y++
	if c.height > 8 {
		y++
	}
	lines := v.cardLines(t, test, past)
	if whole {
		lines = append([]cardLine{{label: "ID", parts: []cardPart{{report.Quote(test.ID), t.ink}}}}, lines...)
		if why := v.explain(); why != nil {
			lines = append(lines, cardLine{label: "pick", parts: []cardPart{{whySentence(why), t.ink}}})
		}
	}
	for _, line := range lines {
		if y >= c.height {
			return
		}
		c.text(0, y, style{colour: t.fog}, line.label)
		y += line.draw(c.sub(cardLabel, y, c.width-cardLabel, c.height-y), whole)
	}
	if whole {
		v.drawSource(c.sub(0, y+1, c.width, c.height-y-1), test)
	}
}

// drawSource draws the lines of the test in its file.
func (v survey) drawSource(c canvas, test *catalog.Test) {
	for i, line := range v.source.lines {
		c.right(cardLabel-4, i, style{colour: c.theme.faint()}, fmt.Sprint(test.Line+i))
		c.text(cardLabel, i, style{colour: c.theme.ink}, cut(line, c.width-cardLabel))
	}
}

// lastLine returns the last line of a test: if that is not known, the one before the next test of its file.
func (v *survey) lastLine(t *catalog.Test) int {
	if t.End > 0 {
		return t.End
	}
	last := t.Line + sourceShown
	c := v.session.picked.Catalog
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
func (line *cardLine) draw(c canvas, wrap bool) int {
	x, y := 0, 0
	if line.past != nil {
		shown := min(len(line.past), 20)
		x = drawPast(c, 0, 0, line.past, shown) + 2
	}
	for _, part := range line.parts {
		text := plain.Line(part.text)
		if !wrap {
			x = c.text(x, 0, style{colour: part.look}, cut(text, c.width-x)) + 1
			continue
		}
		if x > 0 && x+width(text) > c.width {
			x, y = 0, y+1
		}
		rows := strings.Split(ansi.Hardwrap(text, max(1, c.width), true), "\n")
		for i, row := range rows {
			x = c.text(x, y+i, style{colour: part.look}, row) + 1
			if i < len(rows)-1 {
				x = 0
			}
		}
		y += len(rows) - 1
	}
	return y + 1
}

// cardLines returns the facts about a test beside its name and place.
func (v *survey) cardLines(t *theme, test *catalog.Test, past []run.Outcome) []cardLine {
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
		add("here", cardPart{"does not run: " + test.SkipReason, t.amber})
	}
	words := history.Short(test.Expected)
	switch {
	case test.SkipReason != "":
		words = "none, as it does not run"
	case !test.Known:
		words += ", a guess: it was never measured"
	}
	add("time", cardPart{words, t.ink})
	if len(past) == 0 {
		add("past", cardPart{"it never ran here", t.fog})
		return lines
	}
	passed := 0
	for _, o := range past {
		if o == run.Passed {
			passed++
		}
	}
	line := cardLine{label: "past", past: past, parts: []cardPart{{fmt.Sprintf("%d of %d passed", passed, len(past)), t.fog}}}
	if history.Flips(past) > 1 {
		line.parts = []cardPart{{line.parts[0].text + "; it comes and goes: H hunts it", t.orchid}}
	}
	return append(lines, line)
}

// tagParts returns tags with where they come from: "quick valve from the function; slow from fern.toml:12".
func (v *survey) tagParts(t *theme, test *catalog.Test) []cardPart {
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
		parts = append(parts, cardPart{strings.Join(by[from], " "), t.leaf}, cardPart{"from " + from + ending, t.fog})
	}
	return parts
}

func (v *survey) ruleParts(t *theme, test *catalog.Test, rule string) []cardPart {
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
	look := t.fog
	if strings.Contains(from, keepSession) {
		from, look = from+" only", t.amber
	}
	return []cardPart{{value, t.amber}, {"from " + from, look}}
}

// atOnce says how many tests may hold a resource at once.
func (v *survey) atOnce(resource string) string {
	if n := v.session.app.Project.Resources[resource]; n > 1 {
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
		if strings.Contains(t.RuleFrom(rule), keepSession) {
			rule += " (session)"
		}
		words = append(words, rule)
	}
	if t.SkipReason != "" && t.Rules().Skip == "" {
		words = append(words, "not here")
	}
	return strings.Join(words, " ")
}
