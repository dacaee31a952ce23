package sharing

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"fernrelay/internal/testfiles"
)

// TestOfRandomPackages makes packages of helpers that call each other, and tests that call helpers: a test shares with another
// exactly if some helper that it reaches writes the variable that one of the other's reads.
func TestOfRandomPackages(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	const variables, helpers, tests = 5, 12, 8
	for range 40 {
		var code, testCode strings.Builder
		code.WriteString("package p\n\nvar v0, v1, v2, v3, v4 int\n\n")
		testCode.WriteString("package p\n\nimport \"testing\"\n\n")
		calls, reads, writes := make([][]int, helpers), make([]int, helpers), make([]int, helpers)
		for h := range helpers {
			fmt.Fprintf(&code, "func h%d() {\n", h)
			for next := h + 1; next < helpers; next++ {
				if random.IntN(6) == 0 {
					calls[h] = append(calls[h], next)
					fmt.Fprintf(&code, "\th%d()\n", next)
				}
			}
			reads[h], writes[h] = random.IntN(3*variables), random.IntN(3*variables)
			if reads[h] < variables {
				fmt.Fprintf(&code, "\tprintln(v%d)\n", reads[h])
			}
			if writes[h] < variables {
				fmt.Fprintf(&code, "\tv%d = 1\n", writes[h])
			}
			code.WriteString("}\n\n")
		}
		var names []string
		first := make([]int, tests)
		for n := range tests {
			first[n] = random.IntN(helpers)
			names = append(names, fmt.Sprint("Test", n))
			fmt.Fprintf(&testCode, "func Test%d(t *testing.T) { h%d() }\n", n, first[n])
		}
		var reach func(h int, seen map[int]bool)
		reach = func(h int, seen map[int]bool) {
			seen[h] = true
			for _, next := range calls[h] {
				reach(next, seen)
			}
		}
		dir := t.TempDir()
		testfiles.Write(t, dir, map[string]string{"p.go": code.String(), "p_test.go": testCode.String()})
		m := Module{FolderOf: func(string) (string, bool) { return "", false }}
		got := m.Of(dir, names)
		for i := range tests {
			for j := range tests {
				mine, others := map[int]bool{}, map[int]bool{}
				reach(first[i], mine)
				reach(first[j], others)
				want := false
				for h := range mine {
					for o := range others {
						// What a function assigns it also mentions, which counts as reading.
						want = want || writes[h] < variables && (reads[o] == writes[h] || writes[o] == writes[h])
					}
				}
				if got[i].Has(j) != want {
					t.Fatalf("Test%d and Test%d share: %v, want %v in\n%s%s", i, j, got[i].Has(j), want, code.String(), testCode.String())
				}
			}
		}
	}
}

// TestOfImports follows calls into other packages of the module, and gives up on sources that cannot be read.
func TestOfImports(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"store/store.go": "package store\n\nvar held int\n\nfunc Put() { held = 1 }\n\nfunc Held() int { return held }\n",
		"p/p_test.go": "package p\n\nimport (\"testing\"; \"os\"; \"example.org/m/store\")\n\nfunc TestPuts(t *testing.T) { store.Put() }\n\n" +
			"func TestHolds(t *testing.T) { t.Log(store.Held()) }\n\nfunc TestSets(t *testing.T) { os.Setenv(\"A\", \"b\") }\n\nfunc TestReads(t *testing.T) { t.Log(os.Getenv(\"A\")) }\n",
		"broken/b_test.go": "package broken\n\nfunc {",
	})
	m := Module{FolderOf: func(quoted string) (string, bool) {
		path, err := strconv.Unquote(quoted)
		below, inside := strings.CutPrefix(path, "example.org/m/")
		return filepath.Join(dir, below), err == nil && inside
	}}
	shares := m.Of(filepath.Join(dir, "p"), []string{"TestPuts", "TestHolds", "TestSets", "TestReads"})
	for i, want := range []string{"1", "", "3", ""} {
		var others []string
		for j := range shares[i].All {
			if j != i {
				others = append(others, fmt.Sprint(j))
			}
		}
		if got := strings.Join(others, " "); got != want {
			t.Errorf("test %d shares with %q, want %q", i, got, want)
		}
	}
	if got := m.Of(filepath.Join(dir, "broken"), []string{"TestX"}); got != nil {
		t.Errorf("of a package that does not parse: %v", got)
	}
}
