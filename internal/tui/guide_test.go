package tui

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write the tables of keys into docs/keys.md")

// TestKeysAreExplained holds that ? explains each key that the foot of a leg names, and that docs/keys.md has the same
// words, in a table per leg.
func TestKeysAreExplained(t *testing.T) {
	a := newApp(t, made(3, 4, 2))
	tables := map[string][]keyLine{"Everywhere": everywhere}
	for i, leg := range a.legs {
		tables[leg.name()] = guides[i]
		for _, b := range leg.keys() {
			pressed := b.Help().Key
			known := slices.ContainsFunc(guides[i], func(line keyLine) bool {
				return line.key == pressed || pressed == "↑↓" && line.key == "arrows"
			})
			if !known {
				t.Errorf("%s: nothing explains the key %s, %s", leg.name(), pressed, b.Help().Desc)
			}
		}
	}
	const page = "../../docs/keys.md"
	data, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	text := string(data)
	for name, lines := range tables {
		var table strings.Builder
		table.WriteString("| key | what it does |\n| --- | --- |\n")
		for _, line := range lines {
			if width(line.does) > leastWidth-helpKey-4 {
				t.Errorf("%s: %q is cut off on the least screen", name, line.does)
			}
			fmt.Fprintf(&table, "| `%s` | %s |\n", line.key, line.does)
		}
		before, section, found := strings.Cut(text, "\n## "+name+"\n")
		words, old, hasTable := strings.Cut(section, "| key |")
		if !found || !hasTable {
			t.Fatalf("%s has no table for %s", page, name)
		}
		old, rest, _ := strings.Cut("| key |"+old, "\n\n")
		if strings.TrimRight(old, "\n")+"\n" == table.String() {
			continue
		}
		if !*update {
			t.Errorf("%s: the table of %s is not what ? shows: run go test ./internal/tui -run TestKeysAreExplained -update", page, name)
		}
		text = strings.TrimRight(before+"\n## "+name+"\n"+words+table.String()+"\n"+rest, "\n") + "\n"
	}
	if *update {
		if err := os.WriteFile(page, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
