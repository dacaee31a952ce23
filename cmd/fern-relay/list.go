package main

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/report"
	"fernrelay/internal/wording"
	"fernrelay/internal/workspace"
)

func newList(s *settings) *cobra.Command {
	var expression string
	var count []string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List the tests, or the picked ones",
		Args:  none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			noteBelow(r, expression)
			tests, err := r.Pick(expression)
			if err != nil {
				return err
			}
			if len(tests) == 0 {
				return cmp.Or(noteEmpty(r, expression), r.Missing(expression))
			}
			notePick(r, expression, tests)
			noteBehind(r, expression)
			out := bufio.NewWriter(cmd.OutOrStdout())
			err = writeTests(out, r, tests, count, asJSON)
			return cmp.Or(errors.Join(err, out.Flush()), r.Missing(expression))
		},
	}
	addPick(cmd, &expression)
	addJSON(cmd, &asJSON, "a JSON object a line")
	cmd.Flags().StringSliceVar(&count, "count", nil, "count by tag, group or `suite`, or by two of them as in group,tag")
	return cmd
}

// noteBelow says, in a folder of the project, that all of the project is picked.
func noteBelow(r *app.App, expression string) {
	if below := r.Project.Below; below != "" && expression == "" {
		fmt.Fprintf(stderr, "fern-relay: note: the project is %s; -p %s picks only this folder\n", r.Project.Dir, report.Quote(pick.Field("in", below)))
	}
}

// noteEmpty says on standard error which clause of a pick that selects no test emptied it.
func noteEmpty(r *app.App, expression string) error {
	steps, err := funnel(r, expression)
	if err == nil {
		fmt.Fprintf(stderr, "fern-relay: note: the pick %q selects no test:\n%s", expression, steps)
	}
	return err
}

// noteBehind says on standard error how many tests the pick leaves out, as a build constraint is before them.
func noteBehind(r *app.App, expression string) {
	if words := r.Behind(expression); words != "" {
		fmt.Fprintf(stderr, "fern-relay: note: %s\n", words)
	}
}

// funnel returns the counts of a pick, clause by clause, a line each.
func funnel(r *app.App, expression string) (string, error) {
	e, err := pick.Parse(expression)
	if err != nil {
		return "", err
	}
	steps, err := r.Index.Funnel(expression, e)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	report.Funnel(&out, steps)
	if words := r.Behind(expression); words != "" {
		fmt.Fprintf(&out, "    %s\n", words)
	}
	if place := r.Index.NearPlace(e); place != "" {
		fmt.Fprintf(&out, "    did you mean %s?\n", plain.Line(place))
	}
	return out.String(), nil
}

// writeTests writes the tests, or counts them by something.
func writeTests(out io.Writer, r *app.App, tests []catalog.Test, count []string, asJSON bool) error {
	switch {
	case len(count) > 0:
		return countTests(out, r, tests, count, asJSON)
	case !asJSON:
		report.Tests(out, tests)
		return nil
	}
	encoder := newEncoder(out)
	for _, t := range tests {
		rules := t.Rules()
		t.Ruled = &rules // {} for none
		if err := encoder.Encode(t); err != nil {
			return err
		}
	}
	return nil
}

// countTests writes how many of the tests each value of the fields has. A tag of fern.toml without tests counts 0.
func countTests(out io.Writer, r *app.App, tests []catalog.Test, fields []string, asJSON bool) error {
	tally, err := catalog.NewTally(tests, fields)
	if err != nil {
		return fmt.Errorf("--count: %w", err)
	}
	var tags []string
	for _, rule := range r.Project.Tags {
		if r.Index.Tagged(rule.Tag).Len() == 0 {
			tags = append(tags, rule.Tag)
		}
	}
	tally.AddTags(tags)
	return writeTally(out, tally, asJSON)
}

func writeTally(out io.Writer, tally *catalog.Tally, asJSON bool) error {
	if !asJSON {
		report.Tally(out, tally)
		return nil
	}
	encoder := newEncoder(out)
	for _, row := range tally.Rows {
		if len(tally.By) == 1 {
			line := map[string]any{tally.By[0]: row, "tests": tally.ByRow[row].Tests, "expected_s": tally.ByRow[row].Seconds}
			if err := encoder.Encode(line); err != nil {
				return err
			}
		}
		for _, column := range tally.Columns {
			cell := tally.Cells[[2]string{row, column}]
			if cell.Tests == 0 {
				continue
			}
			line := map[string]any{tally.By[0]: row, tally.By[1]: column, "tests": cell.Tests, "expected_s": cell.Seconds}
			if err := encoder.Encode(line); err != nil {
				return err
			}
		}
	}
	return nil
}

// notePick prints what a person should know of a pick: that it selects tests that no one build has together, or that it compares times
// that nobody has measured.
func notePick(r *app.App, expression string, tests []catalog.Test) {
	if expression == "" {
		return
	}
	for _, note := range workspace.Contradictions(tests) {
		fmt.Fprintln(stderr, "fern-relay: note:", note)
	}
	e, err := pick.Parse(expression)
	if err != nil {
		return // evaluating it reports the error
	}
	asks := false
	pick.Terms(e, func(t *pick.Term) { asks = asks || t.Field == "took" })
	if !asks {
		return
	}
	guessed := 0
	for i := range r.Index.Within(e).All {
		if !r.Catalog.Tests[i].Known {
			guessed++
		}
	}
	if guessed > 0 {
		fmt.Fprintf(stderr, "fern-relay: note: took compares estimates of %s that nobody has measured\n", wording.Plural(guessed, "test"))
	}
}

// newEncoder writes JSON, with <, > and & as they are.
func newEncoder(w io.Writer) *json.Encoder {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	return encoder
}

func addPick(cmd *cobra.Command, expression *string) {
	cmd.Flags().VarP((*pickFlag)(expression), "pick", "p", "pick the tests of this `expression`; default all")
}

// pickFlag is a pick that each further flag narrows.
type pickFlag string

func (p *pickFlag) String() string { return string(*p) }
func (p *pickFlag) Type() string   { return "expression" }

func (p *pickFlag) Set(text string) error {
	*p = pickFlag(pick.Join(string(*p), text))
	return nil
}

func addJSON(cmd *cobra.Command, asJSON *bool, what string) {
	cmd.Flags().BoolVar(asJSON, "json", false, "print "+what)
}
