package tui

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
	"fernrelay/internal/tui/screen"
)

var update = flag.Bool("update", false, "write the tables of keys into docs/keys.md")

// TestKeysAreExplained holds that ? explains each key that the foot of a leg names, and that docs/keys.md has the same
// words, in a table per leg.
func TestKeysAreExplained(t *testing.T) {
	a := newApp(t, legtest.Made(3, 4, 2))
	tables := map[string][]leg.KeyLine{"Everywhere": everywhere}
	for _, view := range a.legs {
		tables[view.Name()] = view.Guide()
		for _, b := range view.Keys() {
			pressed := b.Help().Key
			known := slices.ContainsFunc(view.Guide(), func(line leg.KeyLine) bool {
				return line.Key == pressed || pressed == "↑↓" && line.Key == "arrows"
			})
			if !known {
				t.Errorf("%s: nothing explains the key %s, %s", view.Name(), pressed, b.Help().Desc)
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
			if screen.Width(line.Does) > leastWidth-helpKey-4 {
				t.Errorf("%s: %q is cut off on the least screen", name, line.Does)
			}
			fmt.Fprintf(&table, "| `%s` | %s |\n", line.Key, line.Does)
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
