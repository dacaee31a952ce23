package watch

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/run"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// Filter says which results are listed.
type Filter struct{ Show, Group, Text string }

// FilterMsg asks for another filter.
type FilterMsg Filter

var shows = []string{showBad, ShowFailed, showErrored, showTimedOut, showRecovered, showOdd, showSkipped, ShowAll}

// holds reports whether a result of a run is listed.
func (f Filter) holds(r *run.Result, live *progress.Run) bool {
	shown := true
	switch f.Show {
	case showBad:
		shown = r.Outcome.Bad()
	case ShowFailed, showErrored, showTimedOut:
		shown = string(r.Outcome) == f.Show
	case showRecovered:
		shown = live.IsRecovered(r)
	case showOdd:
		shown = r.Flaky || r.Outcome == run.Owed || r.Outcome == run.Surprise
	case showSkipped:
		shown = r.Outcome == run.Skipped || r.Outcome == run.Lost
	}
	if !shown || f.Group == "" && f.Text == "" {
		return shown
	}
	group, _ := leg.GroupAndName(r.ID)
	return strings.Contains(group, f.Group) && (strings.Contains(r.ID, f.Text) || strings.Contains(r.Message, f.Text))
}

// nextShow returns what to show after something else: the next that has results, or the failures.
func nextShow(l *progress.Run, show string) string {
	counts := l.Run.Counts
	results := map[string]int{showBad: 1, ShowFailed: counts[run.Failed], showErrored: counts[run.Errored], showTimedOut: counts[run.TimedOut],
		showRecovered: len(l.Recovered), showOdd: l.Flaky + counts[run.Owed] + counts[run.Surprise], showSkipped: counts[run.Skipped] + counts[run.Lost], ShowAll: 1}
	if len(l.Bad) == counts[run.Failed] {
		results[ShowFailed] = 0 // they are the failures
	}
	for at := slices.Index(shows, show) + 1; ; at++ {
		if next := shows[at%len(shows)]; results[next] > 0 {
			return next
		}
	}
}

// Words says which results are listed.
func (f Filter) Words() string {
	words := f.Show
	if f.Group != "" {
		words += " in " + f.Group
	}
	if f.Text != "" {
		words += fmt.Sprintf(" with %q", f.Text)
	}
	return words
}

// SetFilter lists other results of the run.
func (v *View) SetFilter(f Filter) {
	v.Filter = f
	v.Reset()
}

// catchUp lists what has landed since.
func (v *View) catchUp() {
	run := v.Run
	for ; v.taken < len(run.Results); v.taken++ {
		if r := run.Results[v.taken]; v.Filter.holds(r, run) {
			v.List = append(v.List, r)
		}
	}
	if v.at > 0 { // stay on the one that is looked at while others land above it
		v.at += len(v.List) - v.seen
	}
	v.seen = len(v.List)
	v.at = max(0, min(v.at, len(v.List)-1))
}

// none says that there are no results of a run.
func (f Filter) none(live *progress.Run) string {
	yet := " yet"
	if live.Ended {
		yet = ""
	}
	switch n := len(live.Recovered); {
	case f != (Filter{Show: showBad}):
		return "no results" + yet + ": " + f.Words()
	case n == 1:
		return "no failures" + yet + "; one test failed before and passes now: h hunts it"
	case n > 1:
		return fmt.Sprintf("no failures%s; %d tests failed before and pass now: h hunts them", yet, n)
	}
	return "no failures" + yet
}

// filterSheet asks for a part of the groups and of the texts that are listed.
func (v *View) filterSheet() *screen.Sheet {
	return &screen.Sheet{
		Title: "List only results of some groups, or with a text",
		Rows: []screen.SheetRow{screen.NewText("group", v.Filter.Group, "a part of its name; empty for any"),
			screen.NewText("text", v.Filter.Text, "a part of the test's name or of its message; empty for any")},
		Done: func(sh *screen.Sheet) tea.Cmd {
			f := Filter{Show: v.Filter.Show, Group: strings.TrimSpace(sh.Choice("group")), Text: strings.TrimSpace(sh.Choice("text"))}
			return func() tea.Msg { return FilterMsg(f) }
		},
	}
}
