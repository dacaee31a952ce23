package report

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
)

// Tests prints tests as an aligned table, with IDs that can be pasted into a shell.
func Tests(w io.Writer, tests []catalog.Test) {
	rows := make([][]string, len(tests))
	for i, t := range tests {
		seconds := history.Short(t.Expected)
		if !t.Known {
			seconds = "–"
		}
		rows[i] = []string{Quote(t.ID), fmt.Sprintf("%7s", seconds), plain.Line(t.Place()), plain.Line(strings.Join(t.Tags, " ")), plain.Line(ruleList(t.Rules()))}
	}
	table(w, rows)
}

// widestColumn bounds the padding of a table, in characters, so that one long
// name does not push all others apart.
const widestColumn = 100

// table writes rows with their columns aligned.
func table(w io.Writer, rows [][]string) {
	var widths []int
	for _, row := range rows {
		for i, cell := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], min(utf8.RuneCountInString(cell), widestColumn))
		}
	}
	var line []byte
	for _, row := range rows {
		line = line[:0]
		for i, cell := range row {
			if i > 0 && widths[i] > 0 {
				line = append(line, "  "...)
			}
			line = append(line, cell...)
			for range widths[i] - utf8.RuneCountInString(cell) {
				line = append(line, ' ')
			}
		}
		w.Write(append(bytes.TrimRight(line, " "), '\n')) // to a buffer, whose Flush reports errors
	}
}

// ruleList returns rules in words: "skip: the pump is broken; holds: boiler-bus".
func ruleList(m catalog.Rules) string {
	var words []string
	for _, rule := range catalog.RuleNames {
		if value := m.Value(rule); value != "" {
			words = append(words, rule+": "+value)
		}
	}
	return strings.Join(words, "; ")
}

// Quote writes a text so that a shell takes it as one word and as it is.
func Quote(text string) string {
	safe := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_./:#@%+,-", r)
	}
	if text != "" && strings.IndexFunc(text, func(r rune) bool { return !safe(r) }) < 0 {
		return text
	}
	if plain.Line(text) == text {
		return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
	}
	var out strings.Builder // control characters need the form that bash and zsh know
	for _, b := range []byte(text) {
		switch {
		case b == '\'' || b == '\\':
			out.WriteByte('\\')
			out.WriteByte(b)
		case b < ' ' || b >= 0x7f:
			fmt.Fprintf(&out, `\x%02x`, b)
		default:
			out.WriteByte(b)
		}
	}
	return "$'" + out.String() + "'"
}

// Tally prints the number of tests by one property, with their time, or by two as a crosstab.
func Tally(w io.Writer, t *catalog.Tally) {
	head := append([]string{t.By[0]}, t.Columns...)
	rows := [][]string{append(head, "tests", "time")}
	total := []string{"all"}
	for range t.Columns {
		total = append(total, "")
	}
	for _, name := range t.Rows {
		row := []string{plain.Line(name)}
		for _, column := range t.Columns {
			cell := "·"
			if n := t.Cells[[2]string{name, column}].Tests; n > 0 {
				cell = fmt.Sprint(n)
			}
			row = append(row, cell)
		}
		rows = append(rows, append(row, fmt.Sprint(t.ByRow[name].Tests), history.ClockTenths(t.ByRow[name].Seconds)))
	}
	total = append(total, fmt.Sprint(t.Total.Tests), history.ClockTenths(t.Total.Seconds))
	rows = append(rows, total)
	for column := 1; column < len(rows[0]); column++ { // numbers end at the end of their heading
		widest := 0
		for _, row := range rows {
			widest = max(widest, len([]rune(row[column])))
		}
		for _, row := range rows {
			row[column] = strings.Repeat(" ", widest-len([]rune(row[column]))) + row[column]
		}
	}
	total[len(total)-1] += history.OfWhichEstimated(t.Total.Seconds, t.Total.Estimated)
	table(w, rows)
}

// Funnel prints how many tests each clause of a pick left.
func Funnel(w io.Writer, steps []pick.Step) {
	var rows [][]string
	for i, step := range steps {
		row := []string{"    " + step.Clause, fmt.Sprintf("%6d", step.Sum.Tests), ""}
		if i > 0 {
			row[2] = fmt.Sprintf("%d out", steps[i-1].Sum.Tests-step.Sum.Tests)
		}
		rows = append(rows, row)
	}
	table(w, rows)
}

// Why explains why a pick selects a test or does not, and where its tags and rules come from.
type Why struct {
	Format     string      `json:"format"`
	ID         string      `json:"id"`
	Held       bool        `json:"held"`
	Clause     string      `json:"clause"`
	Column     int         `json:"column"`
	Because    string      `json:"because"`
	Funnel     []WhyStep   `json:"funnel"`
	Tags       []WhyOrigin `json:"tags"`
	Rules      []WhyOrigin `json:"rules"`
	SkipReason string      `json:"put_out,omitempty"` // why it would not run here though it is picked
	Step       *WhyPart    `json:"step,omitempty"`    // the step that was asked for, if one was
}

// WhyPart is why a step of a test is in a pick or not.
type WhyPart struct {
	Name    string `json:"name"`
	Held    bool   `json:"held"`
	Because string `json:"because"`
}

// WhyStep is one clause of the pick.
type WhyStep struct {
	Clause string `json:"clause"`
	Tests  int    `json:"tests"` // left
	Held   bool   `json:"held"`  // the test is among them
}

// WhyOrigin is a tag or a rule with its value.
type WhyOrigin struct {
	Name  string `json:"name"`
	Value string `json:"value,omitempty"`
	From  string `json:"from"`
}

// WhyFormat names the JSON form of Why.
const WhyFormat = "fern-why/1"

// NewWhy explains Tests[i] of an index; steps is the pick's funnel. The error is
// a *pick.Error.
func NewWhy(x *pick.Index, text string, e pick.Expr, steps []pick.Step, i int) (*Why, error) {
	test := &x.Catalog.Tests[i]
	reason, err := x.Why(text, e, i)
	if err != nil {
		return nil, err
	}
	why := &Why{Format: WhyFormat, ID: test.ID, Held: reason.Held, Clause: reason.Clause, Column: reason.Column, Because: reason.Because,
		Tags: []WhyOrigin{}, Rules: []WhyOrigin{}, SkipReason: test.SkipReason}
	if why.Funnel, err = funnel(x, text, e, steps, i); err != nil {
		return nil, err
	}
	for _, tag := range test.Tags {
		why.Tags = append(why.Tags, WhyOrigin{Name: tag, From: test.TagFrom(tag)})
	}
	for _, rule := range catalog.RuleNames {
		if test.Rules().Has(rule) {
			why.Rules = append(why.Rules, WhyOrigin{rule, test.Rules().Value(rule), test.RuleFrom(rule)})
		}
	}
	return why, nil
}

// funnel returns for each step of the pick whether it still holds test i.
func funnel(x *pick.Index, text string, e pick.Expr, steps []pick.Step, i int) (all []WhyStep, err error) {
	held := x.Within(e).Has(i)
	for n, step := range steps {
		if n > 0 {
			set, err := x.Held(text, pick.Clauses(e)[n-1])
			if err != nil {
				return nil, err
			}
			held = held && set.Has(i)
		}
		all = append(all, WhyStep{step.Clause, step.Sum.Tests, held})
	}
	return all, nil
}

// OfStep adds why a step of Tests[i], which is explained, is in the pick or not.
func (why *Why) OfStep(x *pick.Index, e pick.Expr, i int, step string) {
	why.Step = &WhyPart{Name: step, Because: "the test is out"}
	if !why.Held {
		return
	}
	held := catalog.NewSet(len(x.Catalog.Tests))
	held.Add(i)
	steps := x.Steps(e, held)[i]
	asked := slices.ContainsFunc(steps, func(s string) bool { return s == step || strings.HasPrefix(step, s+"/") })
	switch {
	case steps == nil:
		why.Step.Held, why.Step.Because = true, "the pick selects the whole test"
	case asked:
		why.Step.Held, why.Step.Because = true, "the pick asks for it"
	default:
		why.Step.Because = "the pick asks only for " + strings.Join(steps, ", ")
	}
}

// Write prints the explanation as plain text.
func (why *Why) Write(w io.Writer) {
	reason := pick.Reason{Held: why.Held, Clause: why.Clause, Column: why.Column, Because: why.Because}
	fmt.Fprintf(w, "%s is %s\n", Quote(why.ID), plain.Line(reason.String()))
	if s := why.Step; s != nil {
		way := "out"
		if s.Held {
			way = "in"
		}
		fmt.Fprintf(w, "its step %s is %s: %s\n", plain.Line(s.Name), way, plain.Line(s.Because))
	}
	rows := [][]string{}
	for _, step := range why.Funnel {
		way := "out"
		if step.Held {
			way = "in"
		}
		rows = append(rows, []string{"    " + plain.Line(step.Clause), fmt.Sprintf("%6d", step.Tests), way})
	}
	table(w, rows)
	rows = nil
	for _, of := range []struct {
		word string
		list []WhyOrigin
	}{{"tag", why.Tags}, {"rule", why.Rules}} {
		for _, o := range of.list {
			name := o.Name
			if o.Value != "" {
				name += ": " + o.Value
			}
			rows = append(rows, []string{of.word, plain.Line(name), "from " + o.From})
		}
	}
	table(w, rows)
	if why.SkipReason != "" {
		fmt.Fprintf(w, "it will not run here: %s\n", plain.Line(why.SkipReason))
	}
}
