package project

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/quarantine"
	"fernrelay/internal/testfiles"
)

// styles are files as people write them: each has the picks a and b, and a rule on the pick frost.
var styles = map[string]string{
	"plain":       "# head\n[[suite]] # the only one\nname = \"u\"\nkind = \"go\"\n\n# my picks\n[picks]\na = \"x\" # one\nb = \"y\"\n\n[[rule]]\npick = \"frost\"\nskip = \"cold\"\n# tail\n",
	"no last end": "[picks]\na = \"x\"\nb = \"y\"\n[[suite]]\nname = \"u\"\nkind = \"go\"\n[[rule]]\npick = \"frost\"\nskip = \"cold\"",
	"windows":     "# head\r\n[[suite]]\r\nname = \"u\"\r\nkind = \"go\"\r\n[picks]\r\na = \"x\"\r\nb = \"y\" # c\r\n[[rule]]\r\npick = \"frost\"\r\nskip = \"cold\"\r\n",
	"dotted":      "picks.a = \"x\"\npicks.b = \"y\"\n\n[[suite]]\nname = \"u\"\nkind = \"go\"\n\n[[rule]]\npick = \"frost\"\nskip = \"cold\"\n",
	"braces":      "picks = { a = \"x\", b = \"y\" }\n[[suite]]\nname = \"u\"\nkind = \"go\"\n[[rule]]\npick = \"frost\"\nskip = \"cold\"\n",
	"strange":     "[ picks ]\n  \"a\"   =   'x'\n\n\n\tb = \"\"\"\\\n  y\"\"\" # over lines\n[[suite]]\n  name = \"u\"\n  kind = \"go\"\n  build-flags = [ # comment\n    \"-race\",\n  ]\n[[ rule ]]\n  pick = 'frost'\n  holds = [\n    \"bus\", # inside\n  ]\n  skip = \"cold\"\n",
}

// lines returns what a reader of a file would miss: each comment, and each line that is no pick and no rule.
func lines(text string) (all []string) {
	for line := range strings.Lines(text) {
		if _, comment, ok := strings.Cut(line, "#"); ok {
			all = append(all, strings.TrimSpace(comment))
		}
		if strings.Contains(line, "name") || strings.Contains(line, "kind") || strings.Contains(line, "-race") {
			all = append(all, strings.TrimSpace(line))
		}
	}
	return all
}

// TestRandomSaves saves picks and sets and clears rules at random, in files of several styles. After each, the file says what a plain
// model says, and has all comments and other lines in their order. A change that cannot be made leaves the file as it is.
func TestRandomSaves(t *testing.T) {
	for style, text := range styles {
		t.Run(style, func(t *testing.T) {
			dir := t.TempDir()
			testfiles.Write(t, dir, map[string]string{FileName: text, "go.mod": "module example.org/u\n"})
			p, err := Open(dir)
			if err != nil {
				t.Fatal(err)
			}
			random := rand.New(rand.NewPCG(21, 22))
			picks := map[string]string{"a": "x", "b": "y"}
			skips := map[string]string{"frost": "cold"} // by pick
			written := 0
			for n := range 60 {
				before := read(t, dir)
				pick := []string{"frost", "ice", `name:"it's" x`, "in:a/**"}[random.IntN(4)]
				reason := fmt.Sprintf("reason %d # \"quoted\" \\ é", n)
				var err error
				model := func() {}
				switch random.IntN(3) {
				case 0:
					name := string(rune('a' + random.IntN(5)))
					err = p.SavePick(name, pick)
					model = func() { picks[name] = pick }
				case 1:
					err = p.SaveRule(pick, catalog.RuleSkip, catalog.Rules{Skip: reason})
					model = func() { skips[pick] = reason }
				case 2:
					err = p.ClearRule(pick, catalog.RuleSkip)
					model = func() { delete(skips, pick) }
				}
				if err != nil {
					if read(t, dir) != before || !strings.Contains(err.Error(), "by hand") {
						t.Fatalf("%v, and the file is changed from\n%s\nto\n%s", err, before, read(t, dir))
					}
					continue
				}
				written++
				model()
				if p, err = Open(dir); err != nil {
					t.Fatalf("%v:\n%s", err, read(t, dir))
				}
				if !maps.Equal(p.Picks, picks) {
					t.Fatalf("the picks are %v, want %v:\n%s", p.Picks, picks, read(t, dir))
				}
				if got := skipsOf(p); !maps.Equal(got, skips) {
					t.Fatalf("the rules skip %v, want %v:\n%s", got, skips, read(t, dir))
				}
				if left := kept(lines(text), lines(read(t, dir))); len(left) > 0 {
					t.Fatalf("the lines %q are lost in\n%s", left, read(t, dir))
				}
			}
			if written < 30 {
				t.Errorf("only %d of 60 changes were made", written)
			}
		})
	}
}

func read(t *testing.T, dir string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, FileName))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// skipsOf returns the reasons for which picks are skipped, as later rules change what earlier ones say.
func skipsOf(p *Project) map[string]string {
	skips := map[string]string{}
	for _, r := range p.Rules {
		if slices.Contains(r.Clear, catalog.RuleSkip) {
			delete(skips, r.Text)
		}
		if r.Set.Skip != "" {
			skips[r.Text] = r.Set.Skip
		}
	}
	return skips
}

// kept returns the lines that are not among those of now, in their order.
func kept(before, now []string) (lost []string) {
	for _, line := range before {
		at := slices.Index(now, line)
		if at < 0 {
			lost = append(lost, line)
			continue
		}
		now = now[at+1:]
	}
	return lost
}

// TestRandomQuarantines adds known failures at random to a file that a person has commented.
func TestRandomQuarantines(t *testing.T) {
	path := filepath.Join(t.TempDir(), "known.toml")
	day := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	random := rand.New(rand.NewPCG(23, 24))
	reasons := map[string]string{}
	for n := range 40 {
		var more quarantine.List
		for range 1 + random.IntN(3) {
			id := fmt.Sprintf("u:group %d#Test_%q", random.IntN(12), "é\n")
			more = append(more, quarantine.Entry{ID: id, Reason: fmt.Sprintf("reason %d\n'''", n), Since: day, Until: day.AddDate(0, 0, n)})
		}
		want := 0
		for _, e := range more {
			if _, known := reasons[e.ID]; !known {
				reasons[e.ID] = e.Reason
				want++
			}
		}
		added, err := AddQuarantine(path, more)
		if err != nil || added != want {
			t.Fatalf("%d are added, %v: want %d", added, err, want)
		}
		data, err := os.ReadFile(path)
		if err == nil && n%7 == 0 {
			data = append(data, fmt.Sprintf("# a person's note %d\n", n)...)
			err = os.WriteFile(path, data, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
		for note := 0; note < n; note += 7 {
			if !strings.Contains(string(data), fmt.Sprintf("# a person's note %d\n", note)) {
				t.Errorf("note %d is lost:\n%s", note, data)
			}
		}
		list, err := Quarantine(path)
		if err != nil || len(list) != len(reasons) {
			t.Fatalf("the file has %d of %d entries, %v", len(list), len(reasons), err)
		}
		for _, e := range list {
			if e.Reason != reasons[e.ID] {
				t.Errorf("the reason of %q is %q, want %q", e.ID, e.Reason, reasons[e.ID])
			}
		}
	}
}
