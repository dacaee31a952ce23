package scaffold

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/internal/app"
	"fernrelay/internal/testfiles"
)

// TestPlainTests writes what folders of plain tests need, lists them by it, and says what is left out. Files that are there stay as
// they are.
func TestPlainTests(t *testing.T) {
	const python = "import pumps\n\ndef test_runs():\n    pass\n\nasync def test_waits(t):\n    pass\n\ndef helper():\n    pass\n"
	for name, c := range map[string]struct {
		program string
		files   map[string]string
		want    []string // IDs
		written []string
		note    string
	}{
		"python": {"python3", map[string]string{"pumps.py": "", "tests/test_a.py": python, "deep/er/b_test.py": python, "tests/util.py": "def test_not_a_test_file():\n    pass\n"},
			[]string{"python:deep/er/b_test#test_runs", "python:deep/er/b_test#test_waits", "python:tests/test_a#test_runs", "python:tests/test_a#test_waits"}, []string{"fern_tests.py", "fernhost.py"}, ""},
		"what others run": {"python3", map[string]string{"test_a.py": "class TestX:\n    def test_y(self): pass\n\ndef test_file(tmp):\n    pass\n\ndef test_own():\n    pass\n"},
			[]string{"python:test_a#test_file", "python:test_a#test_own"}, []string{"fern_tests.py", "fernhost.py"}, "2 places in Python left out"},
		"javascript": {"node", map[string]string{"test_a.js": "exports.testRuns = () => {}\n", "checks/b.test.js": "exports.testB = async () => {}\nexports.helper = 1\n", "node_modules/x/test_x.js": "exports.testX = () => {}\n", "test_m.mjs": "export const testM = () => {}\n"},
			[]string{"javascript:checks/b.test#testB", "javascript:test_a#testRuns", "javascript:test_m#testM"}, []string{"fern_tests.js", "fernhost.js"}, ""},
		"a main program of its own": {"python3", map[string]string{"test_a.py": "def test_own():\n    pass\n", "fern_tests.py": "import fernhost\nfernhost.serve('mine', 'test_*.py')\n"},
			[]string{"python:test_a#test_own"}, []string{"fernhost.py"}, ""},
		"only what others run": {"node", map[string]string{"x.test.js": "describe('x', () => {\n  it('y', () => {})\n})\n"}, nil, nil, "2 places in JavaScript left out"},
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := exec.LookPath(c.program); err != nil && os.Getenv("CI") == "" {
				t.Skip(c.program + " is missing")
			}
			dir := t.TempDir()
			testfiles.Write(t, dir, c.files)
			s, err := Look(dir)
			if err != nil || !strings.Contains(strings.Join(s.Notes, "\n"), c.note) {
				t.Fatalf("the notes are %q, %v: want %q", s.Notes, err, c.note)
			}
			if c.want == nil {
				if len(s.Suites) > 0 {
					t.Errorf("the suites are %+v", s.Suites)
				}
				return
			}
			written, err := s.Write(dir)
			if err != nil || !slices.Equal(written, c.written) {
				t.Fatalf("%v are written, %v: want %v", written, err, c.written)
			}
			for file, text := range c.files {
				if data, err := os.ReadFile(filepath.Join(dir, file)); err != nil || string(data) != text {
					t.Errorf("%s is changed: %q, %v", file, data, err)
				}
			}
			a, err := app.Open(t.Context(), dir, nil)
			if err != nil {
				t.Fatalf("%v with\n%s", err, s.Config())
			}
			defer a.Close()
			var ids []string
			for i := range a.Catalog.Tests {
				ids = append(ids, a.Catalog.Tests[i].ID)
			}
			if slices.Sort(ids); !slices.Equal(ids, c.want) || len(a.Notes) > 0 {
				t.Errorf("the tests are %q, want %q; the notes are %q", ids, c.want, a.Notes)
			}
		})
	}
}
