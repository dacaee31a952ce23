package main

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"fernrelay/internal/testfiles"
)

// bait fills a folder with files that nobody may touch: plain ones, dotfiles, links, a FIFO, folders, and names that look
// like ours. The returned function reports what has changed since.
func bait(t *testing.T, dir string) (changed func() string) {
	t.Helper()
	testfiles.Write(t, dir, map[string]string{"thesis.txt": "years of work", ".hidden": "secret", "deep/er/still": "here", "deep/cgroup.kill": "", "slot1/own.txt": "mine", "cgroup.kill": "",
		"fern-relay-x/keep.txt": "mine", "fern-relay-0123456789ab/slot1/keep.txt": "mine", "slots-x.jsonl": "{}\n", "copies/1": "not yours", "aside/a": "b"})
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(os.Symlink("thesis.txt", filepath.Join(dir, "link")))
	must(os.Symlink("deep", filepath.Join(dir, "folder-link")))
	must(os.Mkdir(filepath.Join(dir, "empty"), 0o755))
	must(syscall.Mkfifo(filepath.Join(dir, "fifo"), 0o600))
	before := contents(t, dir)
	return func() string {
		t.Helper()
		now := contents(t, dir)
		var changes []string
		for name, was := range before {
			if now[name] != was {
				changes = append(changes, fmt.Sprintf("%s was %q and is %q", name, was, now[name]))
			}
		}
		return strings.Join(changes, "\n")
	}
}

// contents describes everything below a folder, by path: mode, where a link leads, what a file holds.
func contents(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == dir {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		words := info.Mode().String()
		if link, err := os.Readlink(path); err == nil {
			words += " to " + link
		} else if d.Type().IsRegular() {
			data, _ := os.ReadFile(path) // "" also for one that may not be read
			words += ": " + string(data)
		}
		all[strings.TrimPrefix(path, dir+"/")] = words
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// TestRecordsMakeNothingHappen lays records of killed runs into a project as a checkout could bring them, and holds that
// commands set them aside and touch nothing: neither what they name, nor the current folder.
func TestRecordsMakeNothingHappen(t *testing.T) {
	dead := exec.Command("true")
	if err := dead.Run(); err != nil {
		t.Fatal(err)
	}
	pid := dead.Process.Pid
	server := exec.Command("sleep", "300") // of the same user, with the environment of a slot
	server.Env = append(os.Environ(), fmt.Sprintf("FERN_SPACE=fern%d_1_", pid), "FERN_RELAY_OWNER=")
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = server.Process.Kill(); _ = server.Wait() }()
	around := t.TempDir()
	changed := bait(t, around)
	number := "0123456789ab0123456789ab0123456789ab"[:32]
	for name, lines := range map[string]string{
		"no control groups":      fmt.Sprintf(`{"pid":%d,"groups":"","temp":""}`, pid),
		"any folder":             fmt.Sprintf(`{"pid":%d,"groups":"%s/","temp":"%s/fern-relay-x"}`, pid, around, around),
		"the slot of a folder":   fmt.Sprintf(`{"pid":%d,"groups":"","temp":""}`+"\n"+`{"Number":1,"Temp":%q,"Space":"fern"}`, pid, around),
		"no line":                "\n",
		"no JSON":                "\x00\xff{{{",
		"nothing named":          fmt.Sprintf(`{"format":"fern-owned/1","pid":%d,"secret":"%s","records":"0:0"}`, pid, number),
		"the present format":     recordOf(t, pid, number, `{"folder":"%[1]s/fern-relay-0123456789ab","number":"%[2]s","made":"%[3]s"}`, around),
		"a number that is none":  recordOf(t, pid, number, `{"folder":"%[1]s/fern-relay-x","number":"","made":"%[3]s"}`, around),
		"above":                  recordOf(t, pid, number, `{"folder":"%[1]s/fern-relay-x/..","number":"%[2]s","made":"%[3]s"}`, around),
		"relative":               recordOf(t, pid, number, `{"folder":"fern-relay-x","number":"%[2]s","made":"%[3]s"}`, around),
		"a group that is none":   recordOf(t, pid, number, `{"group":"%[1]s/deep","inode":1}`, around),
		"a group with our name":  recordOf(t, pid, number, fmt.Sprintf(`{"group":"%%[1]s/fern-relay-%d-1-0123456789ab","inode":1}`, pid), around),
		"an empty secret":        recordOf(t, pid, "", `{"slot":1}`, around),
		"the first process":      recordOf(t, 1, number, `{"slot":1}`, around),
		"a slot of another size": recordOf(t, pid, number, `{"slot":-1}`, around),
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			testfiles.Write(t, dir, map[string]string{"names": "a\n", "run": "exit 0\n",
				"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"cat names\"\nrun = \"sh run {name}\"\n[workers]\nclean = \"touch cleaned\"\n"})
			record := filepath.Join(".fern", "slots", "slots-x.jsonl")
			testfiles.Write(t, dir, map[string]string{record: strings.ReplaceAll(lines, "HERE", identityOf(t, dir)) + "\n"})
			testfiles.Write(t, dir, map[string]string{record: strings.ReplaceAll(lines, "HERE", identityOf(t, filepath.Join(dir, ".fern", "slots"))) + "\n"})
			for _, args := range [][]string{{"list"}, {"ledger", "runs"}, {"run"}} {
				cmd := command(around, append([]string{"-C", dir}, args...)...)
				if got := finish(t, cmd); got.status != 0 && args[0] != "ledger" {
					t.Errorf("%v: status %d: %s", args, got.status, got.stderr)
				}
				if changed := changed(); changed != "" {
					t.Fatalf("%v:\n%s", args, changed)
				}
			}
			if _, err := os.Stat(filepath.Join(dir, record)); err == nil {
				t.Error("the record is still in its place")
			}
			if runs, err := os.ReadDir(dir); err != nil || len(runs) > 5 {
				t.Errorf("the project has %v, %v", runs, err)
			}
			if syscall.Kill(server.Process.Pid, 0) != nil || cleaned(server.Process.Pid) {
				t.Fatal("a process of the user was killed")
			}
		})
	}
}

// cleaned reports whether a child of this process has ended.
func cleaned(pid int) bool {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && strings.Contains(string(data), ") Z")
}

// identityOf returns what a record says of its own folder.
func identityOf(t *testing.T, dir string) string {
	t.Helper()
	info, err := os.Stat(dir)
	if err != nil {
		return ""
	}
	stat := info.Sys().(*syscall.Stat_t)
	return fmt.Sprintf("%d:%d", stat.Dev, stat.Ino)
}

// recordOf returns a record whose head is right for the folder that it lies in.
func recordOf(t *testing.T, pid int, secret, line, dir string) string {
	t.Helper()
	number := "0123456789ab0123456789ab0123456789ab"[:32]
	made := identityOf(t, filepath.Join(dir, "fern-relay-0123456789ab"))
	return fmt.Sprintf(`{"format":"fern-owned/1","pid":%d,"started":1,"secret":%q,"records":"HERE"}`, pid, secret) + "\n" + fmt.Sprintf(line+"%.0[1]s%.0[2]s%.0[3]s", dir, number, made)
}

// TestDataBehindLinks holds that commands follow no link that a checkout has in the place of our data.
func TestDataBehindLinks(t *testing.T) {
	for _, link := range []string{".fern", ".fern/slots", ".fern/runs", ".fern/ledger.db", ".fern/build", ".fern/tree"} {
		t.Run(link, func(t *testing.T) {
			dir, elsewhere := t.TempDir(), t.TempDir()
			changed := bait(t, elsewhere)
			testfiles.Write(t, dir, map[string]string{"go.mod": "module example.org/x\n\ngo 1.26\n", "x_test.go": "package x\n\nimport \"testing\"\n\nfunc TestX(t *testing.T) {}\n"})
			if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, link)), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.Symlink(elsewhere, filepath.Join(dir, link)); err != nil {
				t.Fatal(err)
			}
			before := len(contents(t, elsewhere))
			for _, args := range [][]string{{"list"}, {"run"}, {"ledger", "runs"}} {
				if got := fern(t, dir, args...); got.status != 2 || !strings.Contains(got.stderr, "is a link") {
					t.Errorf("%v: status %d: %s%s", args, got.status, got.stdout, got.stderr)
				}
			}
			if changed := changed(); changed != "" || len(contents(t, elsewhere)) != before {
				t.Errorf("what the link leads to has changed: %s", changed)
			}
		})
	}
}

// TestReplacedTemporaryFolder has a test replace the folder above its slot by a link, and holds that neither a run nor a
// hunt empties what the link leads to.
func TestReplacedTemporaryFolder(t *testing.T) {
	dir, elsewhere := t.TempDir(), t.TempDir()
	changed := bait(t, elsewhere)
	testfiles.Write(t, dir, map[string]string{"names": "a\nb\nc\n",
		"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"cat names\"\nrun = \"sh run {name}\"\n",
		"run":       "above=$(dirname \"$TMPDIR\")\ncase $above in */fern-relay-*) mv \"$above\" \"$above-moved\"; ln -s '" + elsewhere + "' \"$above\";; esac\ntest $1 = a -o ! -e left && touch left\n"})
	temp := t.TempDir()
	for _, args := range [][]string{{"run", "--workers", "2"}, {"hunt", "b", "--workers", "1"}, {"hunt", "--workers", "2"}, {"list"}} {
		cmd := command(dir, args...)
		cmd.Env = append(os.Environ(), "TMPDIR="+temp)
		finish(t, cmd)
		if changed := changed(); changed != "" {
			t.Fatalf("%v:\n%s", args, changed)
		}
	}
}

// TestKilledHuntGivesBack kills hunts in a trial that has changed files of the project, and holds that the next command
// restores them, tracked or not, and keeps what a person wrote meanwhile.
func TestKilledHuntGivesBack(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"cat names\"\nrun = \"sh run {name}\"\n",
		"names":     "spoils\nvictim\n", "data/tracked.txt": "tracked", "tool": "#!/bin/sh\n", ".gitignore": "untracked.txt\nhunting\nbegan\n",
		"run": `case $1 in
spoils) rm -f untracked.txt; echo spoilt > data/tracked.txt; chmod 600 tool; echo x > new.txt; if test -e hunting; then touch began; sleep 300; fi;;
victim) grep -q tracked data/tracked.txt;;
esac
`})
	if err := os.Chmod(filepath.Join(dir, "tool"), 0o755); err != nil {
		t.Fatal(err)
	}
	git(t, dir, "init", "-q")
	git(t, dir, "add", ".")
	git(t, dir, "commit", "-qm", "as it is")
	testfiles.Write(t, dir, map[string]string{"untracked.txt": "an hour of work"})
	want := contents(t, dir)
	testfiles.Write(t, dir, map[string]string{"hunting": ""})
	cmd := command(dir, "hunt", "victim", "--workers", "1")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "a trial to change files", func() bool { _, err := os.Stat(filepath.Join(dir, "began")); return err == nil })
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	if _, err := os.Stat(filepath.Join(dir, "untracked.txt")); err == nil {
		t.Fatal("the trial changed nothing")
	}
	testfiles.Write(t, dir, map[string]string{"data/tracked.txt": "a person's edit"})
	got := fern(t, dir, "ledger", "runs")
	now := contents(t, dir)
	for name, was := range want {
		if now[name] != was && !strings.HasPrefix(name, ".fern") && !strings.HasPrefix(name, ".git/") {
			t.Errorf("%s was %q and is %q", name, was, now[name])
		}
	}
	if kept := now["data/tracked.txt.fern-kept"]; !strings.HasSuffix(kept, ": a person's edit") || !strings.Contains(got.stderr, "tracked.txt.fern-kept") {
		t.Errorf("the edit is kept as %q; it says\n%s", kept, got.stderr)
	}
	if left, _ := os.ReadDir(filepath.Join(dir, ".fern", "tree")); len(left) > 0 {
		t.Errorf("left are %v", left)
	}
}

// TestNothingStaysOfKills kills runs at many moments from their first on, half of them the moment that their temporary
// folder appears, and holds that the next command leaves no temporary folder, no record and no process.
func TestNothingStaysOfKills(t *testing.T) {
	dir, temp := t.TempDir(), t.TempDir()
	testfiles.Write(t, dir, map[string]string{"names": "a\nb\n", "run": "setsid sleep 271 & sleep 0.05\n",
		"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"cat names\"\nrun = \"sh run {name}\"\n"})
	if got := fern(t, dir, "run"); got.status != 0 {
		t.Fatal(got.stderr)
	}
	for n := range 60 {
		cmd := command(dir, "run")
		cmd.Env = append(os.Environ(), "TMPDIR="+temp)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if n%2 == 0 {
			time.Sleep(time.Duration(n) * time.Millisecond)
		} else {
			waitForMore(t, temp)
		}
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	got := fern(t, dir, "list")
	for _, folder := range []string{temp, filepath.Join(dir, ".fern", "slots")} {
		if left, err := os.ReadDir(folder); err != nil || len(left) > 0 {
			t.Errorf("%s has %v, %v\n%s", folder, left, err, got.stderr)
		}
	}
	if left, _ := exec.Command("pgrep", "-f", "sleep 271").Output(); len(left) > 0 {
		t.Errorf("these processes are left: %s", left)
	}
}

// waitForMore waits until a folder has an entry that it has not now, and looks all the time.
func waitForMore(t *testing.T, dir string) {
	t.Helper()
	known, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for began := time.Now(); time.Since(began) < time.Minute; {
		now, _ := os.ReadDir(dir)
		for _, entry := range now {
			if !slices.ContainsFunc(known, func(k fs.DirEntry) bool { return k.Name() == entry.Name() }) {
				return
			}
		}
	}
	t.Fatalf("%s has no new entry", dir)
}

// TestProcessesOfOthersLive starts a run from a shell that has servers in the background and then becomes the run, as the
// first command of a container does, and holds that the servers live on.
func TestProcessesOfOthersLive(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"names": "a\n", "run": "exit 0\n",
		"fern.toml": "[[suite]]\nname = \"c\"\nkind = \"command\"\nlist = \"cat names\"\nrun = \"sh run {name}\"\n"})
	binary := command(dir).Path
	script := fmt.Sprintf(`env -i setsid sleep 272 >/dev/null 2>&1 & echo $!; (setsid sh -c 'sleep 273 >/dev/null 2>&1 & echo $!') ; exec %s -C %s run >/dev/null`, binary, dir)
	out, err := exec.Command("sh", "-c", script).Output()
	if err != nil {
		t.Fatal(err)
	}
	pids := strings.Fields(string(out))
	if len(pids) != 2 {
		t.Fatalf("the servers are %q", out)
	}
	for _, pid := range pids {
		if _, err := os.Stat("/proc/" + pid); err != nil {
			t.Errorf("server %s was killed", pid)
		}
		_ = exec.Command("kill", pid).Run()
	}
}
