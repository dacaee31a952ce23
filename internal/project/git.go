package project

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fernrelay/core/run"
)

// Revision returns the git branch and revision of a folder, "" if it has none.
func Revision(ctx context.Context, dir string) string {
	branch, _ := git(ctx, dir, "rev-parse", "--abbrev-ref", "HEAD")
	return strings.TrimSpace(strings.TrimSpace(branch) + " " + Head(ctx, dir))
}

// Origin returns the git revision of a folder and a fingerprint of what differs from it in its repository. Of the files that git does
// not track it counts those that may be sources: with the ending of a tracked one, or executable; others are what tests leave, and
// reports. The zero Source is that of a folder that git does not know.
func Origin(ctx context.Context, dir string) run.Source { return origin(ctx, dir, "all") }

// TrackedOrigin is Origin without the files that git does not track, as tests may write some.
func TrackedOrigin(ctx context.Context, dir string) run.Source { return origin(ctx, dir, "no") }

func origin(ctx context.Context, dir, untracked string) run.Source {
	answers := gitSideBySide(ctx, dir, []string{"rev-parse", "--short", "HEAD"}, []string{"rev-parse", "--show-toplevel"},
		[]string{"status", "--porcelain", "-z", "--no-renames", "--untracked-files=" + untracked, "--", ":/", ":(top,exclude,glob)**/" + storeName + "/**"}) // whose .gitignore may not be written yet
	endings := sync.OnceValue(func() map[string]bool { return trackedEndings(ctx, dir) })
	revision, top := strings.TrimSpace(answers[0].text), strings.TrimSuffix(answers[1].text, "\n")
	if revision == "" {
		return run.Source{}
	}
	source := run.Source{Revision: revision}
	digest, some := sha256.New(), false
	for entry := range strings.SplitSeq(answers[2].text, "\x00") {
		if len(entry) < 4 {
			continue
		}
		state, name := entry[:2], entry[3:]
		path := filepath.Join(top, filepath.FromSlash(name))
		source.Dirty = true
		if state == "??" && (!mayBeSource(path, endings) || isReport(path)) {
			continue
		}
		some = true
		fmt.Fprintf(digest, "%q %q\n", state, name)
		describe(digest, path)
	}
	if some {
		source.Content = hex.EncodeToString(digest.Sum(nil)[:12])
	}
	return source
}

// trackedEndings returns the endings of the files that git tracks.
func trackedEndings(ctx context.Context, dir string) map[string]bool {
	endings := map[string]bool{}
	names, _ := git(ctx, dir, "ls-files", "-z", "--", ":/") // none are known if git does not say
	for name := range strings.SplitSeq(names, "\x00") {
		if ending := path.Ext(name); ending != "" {
			endings[ending] = true
		}
	}
	return endings
}

// mayBeSource reports whether a file that git does not track may be one of the sources.
func mayBeSource(path string, endings func() map[string]bool) bool {
	info, err := os.Stat(path)
	return err != nil || info.Mode()&0o111 != 0 || endings()[filepath.Ext(path)]
}

// mostDescribed bounds the content of one file that a fingerprint reads, in bytes; of a larger one it has size and time.
const mostDescribed = 64 << 20

// describe writes what a file is and holds.
func describe(w io.Writer, path string) {
	info, err := os.Lstat(path)
	switch {
	case err != nil:
		fmt.Fprintln(w, "absent")
	case info.Mode()&fs.ModeSymlink != 0:
		to, _ := os.Readlink(path)
		fmt.Fprintf(w, "link %q\n", to)
	case !info.Mode().IsRegular():
		fmt.Fprintln(w, info.Mode())
	case info.Size() > mostDescribed:
		fmt.Fprintln(w, info.Mode(), info.Size(), info.ModTime().UnixNano())
	default:
		fmt.Fprintln(w, info.Mode(), info.Size())
		if file, err := os.Open(path); err == nil {
			_, _ = io.Copy(w, file) // what cannot be read is not known
			_ = file.Close()
		}
	}
}

// reportSigns begin the reports of runs, which a run may write into its project, and reportEndings end the names of those that are
// still empty.
var (
	reportEndings = []string{".xml", ".tap", ".json", ".jsonl", ".html", ".md", ".pdf"}
	reportSigns   = []string{`{"event":`, `{"format":"fern-`, "TAP version ", `{"Time":`}
)

// isReport reports whether a file looks like a report of a run.
func isReport(path string) bool {
	file, err := os.Open(path)
	if err != nil {
		return false
	}
	defer file.Close()
	head := make([]byte, 512)
	n, _ := io.ReadFull(file, head)
	text := string(bytes.TrimSpace(head[:n]))
	return text == "" && slices.Contains(reportEndings, filepath.Ext(path)) || strings.HasPrefix(text, "<") && strings.Contains(text, "<testsuite") || slices.ContainsFunc(reportSigns, func(sign string) bool { return strings.HasPrefix(text, sign) })
}

// Head returns the git revision of a folder, "" if it has none.
func Head(ctx context.Context, dir string) string {
	revision, _ := git(ctx, dir, "rev-parse", "--short", "HEAD")
	return strings.TrimSpace(revision)
}

// Commit is a commit: its revision, and the first line of its message.
type Commit struct{ Revision, Subject string }

// Commits returns the commits after a revision, the latest first, that changed any of some files, or all commits if there
// are none. It returns none if git does not know the revision.
func Commits(ctx context.Context, dir, after string, files ...string) []Commit {
	return commits(ctx, dir, append([]string{"--end-of-options", after + "..HEAD", "--"}, files...))
}

// LineCommits returns those commits that changed the lines of a file from one to another, as they are counted now.
func LineCommits(ctx context.Context, dir, after, file string, from, to int) []Commit {
	return commits(ctx, dir, []string{fmt.Sprintf("-L%d,%d:%s", from, to, file), "--end-of-options", after + "..HEAD"})
}

func commits(ctx context.Context, dir string, what []string) (commits []Commit) {
	out, err := git(ctx, dir, append([]string{"log", "--no-patch", "--format=%h%x00%s"}, what...)...)
	if err != nil {
		return nil
	}
	for line := range strings.Lines(out) {
		revision, subject, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\x00")
		commits = append(commits, Commit{revision, subject})
	}
	return commits
}

// Uncommitted returns those of some files that differ from the latest commit.
func Uncommitted(ctx context.Context, dir string, files ...string) []string {
	out, err := git(ctx, dir, append([]string{"diff", "--name-only", "--relative", "HEAD", "--"}, files...)...)
	if err != nil {
		return nil
	}
	return strings.Fields(out)
}

// commitsDated is the number of the latest commits that date files.
const commitsDated = 500

// Dates returns when files of a folder changed last, by their slash-separated paths relative to it: those of the latest
// commits, and those that differ from the last one. Without git it returns when the given files were written.
func Dates(ctx context.Context, dir string, files []string) map[string]time.Time {
	dates, written := map[string]time.Time{}, files // those of which the file system knows the date
	out, err := git(ctx, dir, "-c", "core.quotePath=false", "log", "-n", strconv.Itoa(commitsDated), "--name-only", "--relative", "--format=%x00%ct")
	if err == nil {
		written, _ = Changed(ctx, dir, "HEAD")
	}
	addCommits(dates, out)
	for _, file := range written {
		if !filepath.IsAbs(file) {
			file = filepath.Join(dir, filepath.FromSlash(file))
		}
		below, inside := filepath.Rel(dir, file)
		if info, err := os.Stat(file); err == nil && inside == nil {
			dates[filepath.ToSlash(below)] = info.ModTime()
		}
	}
	return dates
}

// addCommits sets for each file the date of its latest commit in the output of git log.
func addCommits(dates map[string]time.Time, log string) {
	var at time.Time
	for line := range strings.Lines(log) {
		line = strings.TrimSuffix(line, "\n")
		if seconds, ok := strings.CutPrefix(line, "\x00"); ok {
			n, _ := strconv.ParseInt(seconds, 10, 64)
			at = time.Unix(n, 0)
		} else if at.After(dates[line]) {
			dates[line] = at
		}
	}
}

// git runs git in a folder and returns what it prints.
func git(ctx context.Context, dir string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Run(); err != nil {
		if words := strings.TrimSpace(stderr.String()); words != "" {
			err = errors.New(words)
		}
		return "", err
	}
	return stdout.String(), nil
}

// Top returns the folder of the git repository that a folder is in.
func Top(ctx context.Context, dir string) (string, error) {
	top, err := git(ctx, dir, "rev-parse", "--show-toplevel")
	return strings.TrimSuffix(top, "\n"), err
}

// Changed lists the files, by their absolute paths, that differ between a git
// revision and the working tree, those that git does not know yet included.
func Changed(ctx context.Context, dir, revision string) ([]string, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, fmt.Errorf("touched: asks git, which is not installed: %w", err)
	}
	answers := gitSideBySide(ctx, dir,
		[]string{"rev-parse", "--show-toplevel"},
		[]string{"rev-parse", "--verify", "--quiet", "--end-of-options", revision + "^{commit}"},
		[]string{"diff", "--name-only", "--no-renames", "-z", "--end-of-options", revision, "--"},
		[]string{"ls-files", "--others", "--exclude-standard", "--full-name", "-z", "--", ":/"})
	top, known, tracked, fresh := answers[0], answers[1], answers[2], answers[3]
	switch {
	case top.err != nil:
		return nil, fmt.Errorf("touched: asks git, and %s is not inside a git repository", dir)
	case known.err != nil:
		return nil, fmt.Errorf("git knows no revision %q here: name a branch, a tag or a commit", revision)
	case tracked.err != nil:
		return nil, fmt.Errorf("git cannot list what changed since %s: %w", revision, tracked.err)
	case fresh.err != nil:
		return nil, fmt.Errorf("git cannot list new files: %w", fresh.err)
	}
	return filesBelow(strings.TrimSuffix(top.text, "\n"), tracked.text+fresh.text), nil
}

// filesBelow splits names that end with a zero byte and joins each to the folder.
func filesBelow(dir, names string) (files []string) {
	for name := range strings.SplitSeq(names, "\x00") {
		if name != "" {
			files = append(files, filepath.Join(dir, filepath.FromSlash(name)))
		}
	}
	return files
}

// gitAnswer is what git printed.
type gitAnswer struct {
	text string
	err  error
}

// gitSideBySide runs git in a folder with each of some arguments at the same time.
func gitSideBySide(ctx context.Context, dir string, all ...[]string) []gitAnswer {
	answers := make([]gitAnswer, len(all))
	var calls sync.WaitGroup
	for i, args := range all {
		calls.Go(func() { answers[i].text, answers[i].err = git(ctx, dir, args...) })
	}
	calls.Wait()
	return answers
}

// State is a word for the state of the files of a folder: it is the same as long as none
// of them is added, taken away or written. What git ignores, and what is hidden, does not
// count.
func State(ctx context.Context, dir string) string {
	digest := sha256.New()
	if revision, err := git(ctx, dir, "rev-parse", "HEAD"); err == nil {
		fmt.Fprintln(digest, revision)
		if changed, err := Changed(ctx, dir, "HEAD"); err == nil {
			for _, file := range changed {
				noteFile(digest, file)
			}
			return hex.EncodeToString(digest.Sum(nil)[:12])
		}
	}
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // what cannot be read does not count
		}
		if path != dir && d.IsDir() && hidden(d.Name()) {
			return filepath.SkipDir
		}
		noteFile(digest, path)
		return nil
	})
	return hex.EncodeToString(digest.Sum(nil)[:12])
}

// noteFile adds the size and time of a file to the digest.
func noteFile(digest io.Writer, file string) {
	if info, err := os.Lstat(file); err == nil && !info.IsDir() {
		fmt.Fprintln(digest, file, info.Size(), info.ModTime().UnixNano())
	}
}

// Ignored returns the files, given by their absolute paths, that git ignores; none without git.
func Ignored(ctx context.Context, dir string, files []string) map[string]bool {
	ignored := map[string]bool{}
	out, err := git(ctx, dir, append([]string{"ls-files", "--others", "--ignored", "--exclude-standard", "-z", "--"}, files...)...)
	if err != nil {
		return ignored
	}
	for name := range strings.SplitSeq(out, "\x00") {
		ignored[filepath.Join(dir, filepath.FromSlash(name))] = true
	}
	return ignored
}

// Tracked returns functions that report whether git tracks a file, and whether the latest commit has it as it is, by its
// path relative to a folder. Without git it tracks none.
func Tracked(ctx context.Context, dir string) (tracked, committed func(path string) bool) {
	answers := gitSideBySide(ctx, dir, []string{"ls-files", "-z"}, []string{"diff", "--name-only", "-z", "--relative", "HEAD"})
	known, changed := map[string]bool{}, map[string]bool{}
	if answers[0].err == nil {
		for name := range strings.SplitSeq(answers[0].text, "\x00") {
			known[name] = true
		}
	}
	for name := range strings.SplitSeq(answers[1].text, "\x00") {
		changed[name] = true
	}
	tracked = func(path string) bool { return known[path] }
	return tracked, func(path string) bool { return known[path] && !changed[path] && answers[1].err == nil }
}
