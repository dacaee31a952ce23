package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"fernrelay/core/cause"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// summaryLines bounds a summary: a reviewer reads it as a comment on a change.
const summaryLines = 15

// Summary writes a run as a few lines of Markdown: the counts, what hunts found with what to do, the causes of other failures, and
// the files in which the rest is. own says which files are the project's.
func Summary(w io.Writer, r *run.Run, own func(file string) (name string, own bool), files []string) error {
	head := []string{"**" + Prose(r.Summary()) + "**"}
	if r.Mixed != "" {
		head = append([]string{Prose(r.Mixed)}, head...)
	}
	items := append(verdictItems(r), causeItems(r, own)...)
	if len(items) > 0 {
		head = append(head, "")
	}
	rest := "the rest: `fern-relay report last -o report.html`"
	for _, file := range slices.Backward(files) {
		rest = strings.Replace(rest, "the rest: ", "the rest: "+inlineCode(file)+", ", 1)
	}
	room := summaryLines - len(head) - 2
	lines := head
	for i, item := range items {
		left := 0 // a line that says how many items are left out
		if i < len(items)-1 {
			left = 1
		}
		if room -= len(item); room < left {
			lines = append(lines, fmt.Sprintf("- and %s more", wording.Plural(len(items)-i, "finding")))
			break
		}
		lines = append(lines, item...)
	}
	_, err := fmt.Fprintf(w, "%s\n\n%s\n", strings.Join(lines, "\n"), rest)
	return err
}

// verdictItems returns lines for each failure that a hunt explains, those with culprits first.
func verdictItems(r *run.Run) (items [][]string) {
	var found []*run.Result
	for _, res := range r.Troubled() {
		if res.Finding != nil {
			found = append(found, res)
		}
	}
	slices.SortStableFunc(found, func(a, b *run.Result) int { return min(1, len(b.Finding.Culprits)) - min(1, len(a.Finding.Culprits)) })
	for _, res := range found {
		item := []string{fmt.Sprintf("- **%s** %s", Prose(res.Finding.Verdict), Prose(cut(plain.Line(res.Finding.Headline()), 600)))}
		if see := res.Finding.See; see != "" && len(see) < 400 {
			item = append(item, "  "+inlineCode(see))
		}
		items = append(items, item)
	}
	return items
}

// causeItems returns a line for each cause of the failures that no hunt explains.
func causeItems(r *run.Run, own func(file string) (name string, own bool)) (items [][]string) {
	var bad []*run.Result
	for _, res := range r.Troubled() {
		if res.Finding == nil {
			bad = append(bad, res)
		}
	}
	for _, c := range cause.Group(bad, own) {
		name := inlineCode(wording.ShortID(c.Results[0].ID))
		if n := len(c.Results); n > 1 {
			name += fmt.Sprintf(" and %d more", n-1)
		}
		line := fmt.Sprintf("- %s: %s", name, Prose(cut(plain.Line(c.Words), 300)))
		if place := CausePlace(c); place != "" {
			line += ", " + inlineCode(place)
		}
		items = append(items, []string{line})
	}
	return items
}
