package main

import (
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fernrelay/internal/demo"
)

// update makes TestDocumentedCommands write what commands really print into the documents:
// go test ./cmd/fern-relay -run TestDocumentedCommands -update.
var update = flag.Bool("update", false, "write the real output of documented commands into the documents")

// TestDocumentedCommands runs what the documents show in blocks of console, and holds that the output is what they
// show. A block begins in a new copy of the demo project, and "cd examples/X" goes to a copy of that folder. Times
// and dates may differ; … stands for anything, on a line of its own for any lines.
func TestDocumentedCommands(t *testing.T) {
	t.Parallel()
	for _, page := range documents(t) {
		data, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		text := string(data)
		t.Run(filepath.Base(page), func(t *testing.T) {
			t.Parallel()
			checked := consoleBlock.ReplaceAllStringFunc(text, func(block string) string { return checkBlock(t, block) })
			if *update && checked != text {
				if err := os.WriteFile(page, []byte(checked), 0o644); err != nil {
					t.Fatal(err)
				}
			}
		})
	}
}

// documents returns the files that users read.
func documents(t *testing.T) []string {
	t.Helper()
	pages, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	return append(pages, "../../README.md", "../../CONTRIBUTING.md")
}

// TestReadme pastes the commands of README's first sections into a shell, in order, as a person with a new home does.
func TestReadme(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	first, _, _ := strings.Cut(string(text), "## On your own project")
	root, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	kept, err := exec.Command("go", "env", "GOCACHE", "GOMODCACHE", "GOROOT").Output()
	if err != nil {
		t.Fatal(err)
	}
	folders := strings.Fields(string(kept))
	env := []string{"HOME=" + t.TempDir(), "GOCACHE=" + folders[0], "GOMODCACHE=" + folders[1], "PATH=" + folders[2] + "/bin:/usr/bin:/bin", "PS1=NEXT> "}
	for _, name := range []string{"CI", "GOPATH", "GOBIN", "XDG_CACHE_HOME"} {
		env = append(env, name+"=")
	}
	s := openCommand(t, 160, 50, root, env, "sh")
	block := false
	for line := range strings.Lines(first) {
		block = block != strings.HasPrefix(line, "```")
		line, isCommand := strings.CutPrefix(strings.TrimRight(line, "\n"), map[bool]string{true: "$ ", false: "    "}[block])
		if !isCommand || line == "go test ./..." {
			continue
		}
		s.shows("NEXT>")
		s.typed("clear; " + line + "; echo ended")
		s.press("Enter")
		if strings.HasSuffix(line, " demo") {
			s.shows("Survey 252 of 252")
			s.press("q")
			s.shows("ended\nNEXT>")
			continue
		}
		shown := s.shows("ended\nNEXT>")
		for _, wrong := range []string{"fern-relay: ", "not found", "No such"} {
			if strings.Contains(shown, wrong) {
				t.Fatalf("%s prints\n%s", line, shown)
			}
		}
	}
	s.shows("polluted", "motor_service")
}

var consoleBlock = regexp.MustCompile("(?s)```console\n.*?```")

// home is what the documents show in place of the folder in which a test works.
const home = "/home/gardener"

// checkBlock runs the commands of a block and returns it with what they print.
func checkBlock(t *testing.T, block string) string {
	t.Helper()
	work := t.TempDir()
	dir := filepath.Join(work, "glasshouse")
	if err := demo.LayOutIn(dir); err != nil {
		t.Fatal(err)
	}
	var shown strings.Builder
	shown.WriteString("```console\n")
	body := strings.TrimSuffix(strings.TrimPrefix(block, "```console\n"), "```")
	for _, step := range strings.Split(strings.TrimPrefix(body, "$ "), "\n$ ") {
		line, want, _ := strings.Cut(step, "\n")
		want = strings.TrimSuffix(want, "\n")
		shown.WriteString("$ " + line + "\n")
		if example, ok := strings.CutPrefix(line, "cd "); ok {
			dir = filepath.Join(work, filepath.Base(example))
			if err := os.CopyFS(dir, os.DirFS(filepath.Join("../..", example))); err != nil {
				t.Fatal(err)
			}
			continue
		}
		got := strings.ReplaceAll(printed(t, dir, line), work, home)
		if alike(want, got) {
			got = want
		} else if !*update {
			t.Errorf("$ %s\nprints\n%s\nand is documented with\n%s", line, got, want)
		}
		if got != "" {
			shown.WriteString(got + "\n")
		}
	}
	return shown.String() + "```"
}

// printed returns what a command prints: its results, or its complaint if there are none.
func printed(t *testing.T, dir, line string) string {
	t.Helper()
	cmd := exec.Command("sh", "-c", line)
	cmd.Dir = dir
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "CI=") || strings.HasPrefix(v, "FERN_") })
	cmd.Env = append(cmd.Env, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "TMPDIR="+t.TempDir())
	got := finish(t, cmd)
	out := got.stdout
	if strings.TrimSpace(out) == "" {
		out = got.stderr
	}
	var lines []string
	for line := range strings.Lines(out) {
		lines = append(lines, strings.TrimRight(line, " \n"))
	}
	return strings.Trim(strings.Join(lines, "\n"), "\n")
}

// varying matches what differs from one run, day or machine to the next: times, dates, numbers of trials and workers.
var varying = regexp.MustCompile(`\d+ (trials|workers)|\d+:\d\d(:\d\d)?(\.\d)?|<?\d+(\.\d+)? m?s\b|\b0 s\b|\d+\.\d ×|\d{4}-\d\d-\d\d( \d\d:\d\d)?|\d{1,2} (Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)( \d\d:\d\d)?`)

// alike reports whether an output is what the document shows.
func alike(want, got string) bool {
	plain := func(text string) string {
		text = varying.ReplaceAllString(text, "~")
		return regexp.MustCompile(`[ ~]*~[ ~]*|[ ]+`).ReplaceAllString(text, " ")
	}
	var pattern strings.Builder
	for line := range strings.SplitSeq(plain(want), "\n") {
		if strings.TrimSpace(line) == "…" {
			pattern.WriteString(`(\n[^\n]*)*?`)
			continue
		}
		pattern.WriteString(`\n` + strings.ReplaceAll(regexp.QuoteMeta(line), "…", `[^\n]*`))
	}
	return regexp.MustCompile(`^` + pattern.String() + `$`).MatchString("\n" + plain(got))
}
