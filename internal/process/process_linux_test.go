package process

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"fernrelay/internal/owned"
)

// TestNothingEscapes starts programs that leave processes behind in every way: in the background,
// in a session of their own, with a cleared environment, and as parents that start more as they die.
func TestNothingEscapes(t *testing.T) {
	for name, script := range map[string]string{
		"background":          "sleep 61 &",
		"session":             "(setsid sleep 61 & ) ; exit 0",
		"cleared environment": "env -i setsid sleep 61 & exit 0",
		"many generations":    "(setsid sh -c 'trap \"\" TERM; while :; do (env -i setsid sleep 61 &) ; sleep 0.02; done' &); sleep 0.1; exit 0",
	} {
		for _, cgroups := range []bool{true, false} {
			t.Run(fmt.Sprintf("%s, control groups %t", name, cgroups), func(t *testing.T) {
				cmd := Command(t.Context(), "", Slot{Space: "fern_test_"}, "sh", "-c", script)
				cmd.noGroup = !cgroups
				if err := cmd.Run(); err != nil {
					t.Fatal(err)
				}
				if left := descendants(t); len(left) > 0 {
					t.Errorf("left are %v", left)
				}
			})
		}
	}
}

// descendants lists the commands of the processes below this one.
func descendants(t *testing.T) (found []string) {
	t.Helper()
	var walk func(pid int)
	walk = func(pid int) {
		for _, child := range owned.Processes(func(child int) bool {
			fields, err := owned.ProcessStat(child)
			return err == nil && fields[1] == fmt.Sprint(pid) && fields[0] != "Z"
		}) {
			line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", child))
			if len(line) == 0 {
				continue // it was killed and is ending
			}
			found = append(found, strings.ReplaceAll(string(line), "\x00", " "))
			walk(child)
		}
	}
	walk(os.Getpid())
	return found
}

// TestPreparedServer holds that what prepare starts in the background lives until the slot's end, and
// not longer, also while tests come and go.
func TestPreparedServer(t *testing.T) {
	u := Setup{Dir: t.TempDir(), Prepare: []string{"sh", "-c", "env -i setsid sleep 62 & setsid sleep 62 &"}}
	slots, err := u.Open()
	if err != nil {
		t.Fatal(err)
	}
	slot, err := slots.Slot(1)
	if err == nil {
		err = u.Begin(t.Context(), slot)
	}
	if err == nil {
		err = Command(t.Context(), "", slot, "sh", "-c", "setsid sleep 63 &").Run()
	}
	if err != nil {
		t.Fatal(err)
	}
	if left := descendants(t); len(left) != 2 || strings.Contains(strings.Join(left, ""), "63") {
		t.Errorf("after a test these run: %v", left)
	}
	if err := u.End(slot); err != nil {
		t.Error(err)
	}
	if left := descendants(t); len(left) > 0 {
		t.Errorf("after the slot's end these run: %v", left)
	}
	if err := slots.Close(); err != nil {
		t.Error(err)
	}
}

// TestRecover kills a process that uses slots, and holds that the next one kills what it left, cleans
// its slots and removes its temporary files, though their folders cannot be written into.
func TestRecover(t *testing.T) {
	dir := t.TempDir()
	records := filepath.Join(dir, "records")
	other := exec.Command(os.Args[0], "-test.run=TestBeKilled")
	other.Env = append(os.Environ(), "BE_KILLED="+records, "TMPDIR="+dir)
	out, err := other.Output()
	if state := other.ProcessState; state == nil || state.ExitCode() != -1 {
		t.Fatalf("the other process ended with %v\n%s", err, out)
	}
	u := Setup{Dir: dir, Clean: []string{"sh", "-c", "echo {slot} >> cleaned"}, Records: records}
	notes := u.Recover().Clean()
	if len(notes) != 1 || !strings.HasPrefix(notes[0], "cleaned up after process ") {
		t.Errorf("the notes are %q", notes)
	}
	if cleaned, _ := os.ReadFile(filepath.Join(dir, "cleaned")); string(cleaned) != "1\n2\n" {
		t.Errorf("cleaned are the slots %q", cleaned)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, owned.Prefix+"*")); len(left) > 0 {
		t.Errorf("left are %v", left)
	}
	if again := u.Recover().Clean(); again != nil {
		t.Errorf("the second time the notes are %q", again)
	}
	for _, line := range strings.Fields(string(out)) {
		pid, err := strconv.Atoi(line)
		if err == nil && syscall.Kill(pid, 0) == nil {
			t.Errorf("process %d lives", pid)
		}
	}
}

// TestBeKilled is the process that TestRecover starts.
func TestBeKilled(t *testing.T) {
	records := os.Getenv("BE_KILLED")
	if records == "" {
		t.Skip("it runs for TestRecover alone")
	}
	slots, err := Setup{Records: records}.Open()
	if err != nil {
		t.Fatal(err)
	}
	for n := 1; n <= 2; n++ {
		slot, err := slots.Slot(n)
		if err != nil {
			t.Fatal(err)
		}
		cmd := Command(context.Background(), slot.Temp, slot, "sh", "-c", "mkdir -p locked/in; chmod 0 locked; setsid sleep 64 >/dev/null & echo $!")
		cmd.Stdout, cmd.leaves = os.Stdout, true
		if err := cmd.Run(); err != nil {
			t.Fatal(err)
		}
	}
	_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
}
