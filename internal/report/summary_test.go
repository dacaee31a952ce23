package report

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"fernrelay/core/cause"
	"fernrelay/core/run"
)

// TestSummaryIsShort writes summaries of runs with any number of failures, some of which were hunted, with long and hostile texts. Each has
// at most 15 lines, begins with the counts and with what has culprits, and says how much is left out.
func TestSummaryIsShort(t *testing.T) {
	random := rand.New(rand.NewPCG(41, 42))
	for n := range 40 {
		ran := run.New()
		hunted := 0
		for i := range n {
			id := fmt.Sprintf("u:g#case_%d", i)
			ran.Apply(run.Event{Event: run.Finished, ID: id, Outcome: run.Failed, Failure: run.Failure{Message: strings.Repeat(fmt.Sprintf("the pump %c leaks\x1b[31m into **house**\n", 'a'+i%26), 1+random.IntN(80))}})
			if random.IntN(3) > 0 {
				continue
			}
			f := &run.Finding{Verdict: "faulty", Words: strings.Repeat("long ", 300)}
			if hunted++; random.IntN(2) == 0 {
				f = &run.Finding{Verdict: "polluted", Words: id + " fails only after x", Culprits: [][]string{{"u:g#x"}}, Remedy: "x leaves a|b at 3.", See: "printf 'x' | fern-relay run"}
			}
			ran.Apply(run.Event{Event: run.Found, ID: id, Finding: f})
		}
		var out strings.Builder
		if err := Summary(&out, ran, cause.OwnIn("/p"), []string{"a b.xml", "e.jsonl"}); err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(strings.TrimSpace(out.String()), "\n")
		if len(lines) > summaryLines || strings.Contains(out.String(), "\x1b") || !strings.HasPrefix(lines[0], "**") || lines[len(lines)-1] != "the rest: `a b.xml`, `e.jsonl`, `fern-relay report last -o report.html`" {
			t.Errorf("of %d failures, %d hunted, the summary is\n%s", n, hunted, out.String())
		}
		if polluted, faulty := strings.Index(out.String(), "**polluted**"), strings.Index(out.String(), "**faulty**"); polluted >= 0 && faulty >= 0 && faulty < polluted {
			t.Errorf("what has no culprit comes first:\n%s", out.String())
		}
		if strings.Contains(out.String(), "**polluted**") && !strings.Contains(out.String(), "  `printf 'x' | fern-relay run`") {
			t.Errorf("the command is missing:\n%s", out.String())
		}
	}
}

// TestComparedShowsDifferences prints expected and actual values of all sizes: short ones in a line each, of others what differs, with a
// few lines around it, whatever the length of the rest.
func TestComparedShowsDifferences(t *testing.T) {
	long := strings.Repeat("beds and pumps, ", 60)
	var many []string
	for i := range 200 {
		many = append(many, fmt.Sprint("row ", i))
	}
	changed := strings.Replace(strings.Join(many, "\n"), "row 120", "row one", 1)
	for name, c := range map[string]struct {
		expected, actual string
		want             []string // lines; an empty one is any
	}{
		"short":        {"3", "4", []string{"    expected 3", "    actual   4"}},
		"nothing":      {"", "", nil},
		"one is empty": {"3", "", []string{"    expected 3", "    actual   "}},
		"long lines":   {long + "12 litres" + long, long + "9 litres" + long, []string{"    expected -, actual +", "    - … pumps, beds and pumps, 12 litresbeds and pumps, b…", ""}},
		"many lines": {strings.Join(many, "\n"), changed, []string{"    expected -, actual +", "      … 118 lines the same", "      row 118", "      row 119", "    - row 120", "    + row one",
			"      row 121", "      row 122"}},
		"all differs": {strings.Join(many, "\n"), strings.ToUpper(strings.Join(many, "\n")), make([]string, sideLines+2)},
	} {
		var out strings.Builder
		compared(&out, &run.Result{Failure: run.Failure{Expected: c.expected, Actual: c.actual}})
		lines := strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
		if c.want == nil && out.String() != "" || c.want != nil && len(lines) != len(c.want) {
			t.Errorf("%s: %d lines, want %d:\n%s", name, len(lines), len(c.want), out.String())
			continue
		}
		for i, want := range c.want {
			if !strings.HasPrefix(lines[i], want) || len([]rune(lines[i])) > widest+5 {
				t.Errorf("%s: line %d is %q, want %q", name, i, lines[i], want)
			}
		}
	}
}
