package hunting

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/internal/app"
	"fernrelay/internal/testfiles"
)

// TestSearchTurns checks that groups which changed later have their orders earlier, that old groups have theirs, too, and
// that the search ends after every order.
func TestSearchTurns(t *testing.T) {
	t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	dir := t.TempDir()
	files := map[string]string{"go.mod": "module example.org/made\n\ngo 1.26\n"}
	for _, pkg := range []string{"old", "recent", "today", "edited"} {
		files[pkg+"/x_test.go"] = "package " + pkg + "\n\nimport \"testing\"\n\nfunc TestA(t *testing.T) {}\n\nfunc TestB(t *testing.T) {}\n\nfunc TestC(t *testing.T) {}\n"
	}
	testfiles.Write(t, dir, files)
	now := time.Now()
	commit := func(daysAgo int, names ...string) {
		at := fmt.Sprintf("%d +0000", now.AddDate(0, 0, -daysAgo).Unix())
		for _, words := range []string{"add " + strings.Join(names, " "), "-c user.name=n -c user.email=e commit -q -m change"} {
			git := exec.Command("git", append([]string{"-C", dir}, strings.Fields(words)...)...)
			git.Env = append(os.Environ(), "GIT_COMMITTER_DATE="+at, "GIT_AUTHOR_DATE="+at)
			if out, err := git.CombinedOutput(); err != nil {
				t.Fatalf("git %s: %v: %s", words, err, out)
			}
		}
	}
	if out, err := exec.Command("git", "init", "-q", dir).CombinedOutput(); err != nil {
		t.Skipf("git is missing: %v: %s", err, out)
	}
	commit(29, ".")
	for pkg, daysAgo := range map[string]int{"recent": 9, "today": 0} {
		testfiles.Write(t, dir, map[string]string{pkg + "/x.go": "package " + pkg + "\n"})
		commit(daysAgo, pkg)
	}
	testfiles.Write(t, dir, map[string]string{"edited/new.go": "package edited\n"})
	if err := os.Chtimes(filepath.Join(dir, "edited/new.go"), now, now); err != nil {
		t.Fatal(err)
	}
	opened, err := app.Open(t.Context(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	r := Of(opened)
	q, err := r.newSearching(t.Context(), Search{Tests: r.Catalog.Tests, Budget: time.Minute, Hunt: Options{Workers: 1}})
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range q.parts {
		want := map[string]float64{"old": 29, "recent": 9, "today": 0, "edited": 0}[part.tests[0].Group]
		if part.age < want-0.1 || part.age > want+0.1 {
			t.Errorf("%s is %.2f days old, not %.0f", part.tests[0].Group, part.age, want)
		}
		for i := range part.tests {
			q.took[part.tests[i].ID] = 10 // so that each order is a round of its own
		}
	}
	var turns []string
	for tests := q.next(); tests != nil; tests = q.next() {
		if len(tests) != 3 {
			t.Fatalf("%d tests run together", len(tests))
		}
		turns = append(turns, tests[0].Group[:1])
	}
	got := strings.Join(turns, "")
	if first := strings.IndexByte(got, 'r'); first < 8 || strings.IndexByte(got, 'o') < first {
		t.Errorf("the groups take turns as %s", got)
	}
	for _, group := range "tero" {
		if n := strings.Count(got, string(group)); n < 3 || n > 6 {
			t.Errorf("%c has %d orders in %s", group, n, got)
		}
	}
}
