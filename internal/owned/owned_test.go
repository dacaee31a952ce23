package owned

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/internal/testfiles"
)

// names lists everything below a folder.
func names(t *testing.T, dir string) (all []string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if path != dir {
			all = append(all, strings.TrimPrefix(path, dir+"/"))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// TestFolderRemovesOnlyItself removes a folder that holds links to elsewhere and folders without permissions, and one
// whose place a link has taken.
func TestFolderRemovesOnlyItself(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"elsewhere/a": "1", "elsewhere/b/c": "2", "temp/other": "3"})
	before := names(t, dir)
	temp := filepath.Join(dir, "temp")
	f, err := MakeFolder(temp)
	must(t, err)
	testfiles.Write(t, f.Path(), map[string]string{"x/y/z": "", ".hidden": ""})
	must(t, os.Symlink("../../elsewhere", filepath.Join(f.Path(), "link")))
	must(t, os.Symlink(filepath.Join(dir, "elsewhere", "a"), filepath.Join(f.Path(), "x", "file-link")))
	must(t, os.Chmod(filepath.Join(f.Path(), "x", "y"), 0))
	must(t, os.Chmod(filepath.Join(f.Path(), "x"), 0o500))
	must(t, os.Chmod(f.Path(), 0o500))
	must(t, f.Remove())
	if now := names(t, dir); !slices.Equal(now, before) {
		t.Errorf("after removing the folder there is %v, want %v", now, before)
	}

	if f, err = MakeFolder(temp); err == nil {
		_, err = f.Mkdir("slot1")
	}
	must(t, err)
	must(t, os.Rename(f.Path(), filepath.Join(dir, "moved")))
	must(t, os.Symlink(filepath.Join(dir, "elsewhere"), f.Path()))
	for what, err := range map[string]error{"Empty": f.Empty("slot1"), "Empty above": f.Empty(".."), "Remove": f.Remove()} {
		if err == nil {
			t.Errorf("%s says nothing of a link in the place of the folder", what)
		}
	}
	must(t, os.Remove(f.Path()))
	if now := names(t, dir); !slices.Equal(slices.DeleteFunc(now, func(name string) bool { return name == "moved" }), before) {
		t.Errorf("with a link in its place there is %v, want %v", now, before)
	}
}

// head returns the first line of a record of a process that has ended, and that nobody has waited for, as in many
// containers.
func head(t *testing.T, records string) recordLine {
	t.Helper()
	info, err := os.Stat(records)
	must(t, err)
	cmd := exec.Command("sleep", "300")
	must(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Wait() })
	line := recordLine{Format: format, PID: cmd.Process.Pid, Secret: newNumber(), Records: identity(info)}
	line.Started, err = startOf(line.PID)
	must(t, err)
	must(t, cmd.Process.Kill())
	for lives(line.PID, line.Started) {
		time.Sleep(time.Millisecond)
	}
	return line
}

func writeRecord(t *testing.T, records string, lines ...recordLine) {
	t.Helper()
	var text strings.Builder
	for _, line := range lines {
		must(t, json.NewEncoder(&text).Encode(line))
	}
	testfiles.Write(t, records, map[string]string{"slots-x.jsonl": text.String()})
}

// TestFindAfterEveryStep leaves a folder as a kill after each step of making and removing it does, and holds that
// nothing of it stays, and nothing else goes.
func TestFindAfterEveryStep(t *testing.T) {
	for step, name := range []string{"named", "made", "identified", "marked", "mark written", "filled", "emptied", "mark removed", "removed"} {
		t.Run(name, func(t *testing.T) {
			records, temp := t.TempDir(), t.TempDir()
			testfiles.Write(t, temp, map[string]string{"other": ""})
			number := newNumber()
			line := recordLine{Folder: filepath.Join(temp, Prefix+number[:12]), Number: number}
			mark := filepath.Join(line.Folder, markPrefix+number)
			lines := []recordLine{head(t, records), line}
			if step >= 1 {
				must(t, os.Mkdir(line.Folder, 0o700))
			}
			if step >= 2 {
				info, err := os.Stat(line.Folder)
				must(t, err)
				line.Made = identity(info)
				lines = append(lines, line)
			}
			if step >= 3 {
				testfiles.Write(t, line.Folder, map[string]string{filepath.Base(mark): ""})
			}
			if step >= 4 {
				testfiles.Write(t, line.Folder, map[string]string{filepath.Base(mark): number + "\n" + line.Folder + "\n"})
			}
			if step == 5 {
				testfiles.Write(t, line.Folder, map[string]string{"slot1/file": ""})
			}
			if step >= 7 {
				must(t, os.Remove(mark))
			}
			if step >= 8 {
				must(t, os.Remove(line.Folder))
			}
			writeRecord(t, records, lines...)
			left, notes := Find(records)
			if len(left) != 1 || len(notes) > 0 {
				t.Fatalf("found are %v, %q", left, notes)
			}
			left[0].Kill()
			if notes := left[0].Remove(); len(notes) > 0 {
				t.Errorf("the notes are %q", notes)
			}
			if left := slices.Concat(names(t, records), names(t, temp)); !slices.Equal(left, []string{"other"}) {
				t.Errorf("left are %v", left)
			}
		})
	}
}

// TestFolderMustBeProved changes one thing at a time about a folder that a record names, and holds that it then stays.
func TestFolderMustBeProved(t *testing.T) {
	for name, change := range map[string]func(t *testing.T, f *Folder, line *recordLine){
		"nothing":      func(*testing.T, *Folder, *recordLine) {},
		"other inode":  func(_ *testing.T, _ *Folder, line *recordLine) { line.Made = "1:2" },
		"no inode":     func(_ *testing.T, _ *Folder, line *recordLine) { line.Made = "" },
		"other number": func(_ *testing.T, _ *Folder, line *recordLine) { line.Number = newNumber() },
		"no mark":      func(t *testing.T, f *Folder, _ *recordLine) { must(t, os.Remove(f.mark.Name())) },
		"mark of another place": func(t *testing.T, f *Folder, line *recordLine) {
			line.Folder = filepath.Join(t.TempDir(), filepath.Base(f.path))
			must(t, os.Rename(f.path, line.Folder))
		},
		"link in place of the mark": func(t *testing.T, f *Folder, _ *recordLine) {
			must(t, os.Rename(f.mark.Name(), f.path+"-mark"))
			must(t, os.Symlink(f.path+"-mark", f.mark.Name()))
		},
		"project": func(t *testing.T, f *Folder, _ *recordLine) {
			testfiles.Write(t, f.path, map[string]string{"go.mod": ""})
		},
		"another user": func(t *testing.T, f *Folder, _ *recordLine) {
			if err := os.Chown(f.path, os.Geteuid()+1, -1); err != nil {
				t.Skipf("this account may not give files away: %v", err)
			}
		},
		"home": func(t *testing.T, f *Folder, _ *recordLine) { t.Setenv("HOME", f.path) },
		"current folder": func(t *testing.T, f *Folder, _ *recordLine) {
			testfiles.Write(t, f.path, map[string]string{"sub/x": ""})
			t.Chdir(filepath.Join(f.path, "sub"))
		},
	} {
		t.Run(name, func(t *testing.T) {
			records := t.TempDir()
			f, err := MakeFolder(t.TempDir())
			must(t, err)
			info, err := f.root.Stat(".")
			must(t, err)
			testfiles.Write(t, f.path, map[string]string{"file": ""})
			line := recordLine{Folder: f.path, Number: f.number, Made: identity(info)}
			change(t, f, &line)
			place := line.Folder
			must(t, f.close()) // as the end of its process does
			writeRecord(t, records, head(t, records), line)
			left, _ := Find(records)
			left[0].Kill()
			notes := left[0].Remove()
			_, err = os.Stat(filepath.Join(place, "file"))
			if stays := name != "nothing"; stays != (err == nil) || stays != (len(notes) > 0) {
				t.Errorf("the folder stays: %v; the notes are %q", err, notes)
			}
		})
	}
}

// TestRecordsInUseAreLeftAlone holds that neither the record of a process that lives nor a copy of it does anything.
func TestRecordsInUseAreLeftAlone(t *testing.T) {
	records, temp := t.TempDir(), t.TempDir()
	r := Begin(records)
	f, err := r.MakeFolder(temp)
	must(t, err)
	whole, err := os.ReadFile(r.file.Name())
	must(t, err)
	testfiles.Write(t, records, map[string]string{"slots-copy.jsonl": string(whole)})
	if left, notes := Find(records); len(left) > 0 || len(notes) > 0 {
		t.Errorf("found are %v, %q", left, notes)
	}
	if err := os.Chown(filepath.Join(records, "slots-copy.jsonl"), os.Geteuid()+1, -1); err == nil { // two users in one checkout
		if left, notes := Find(records); len(left) > 0 || len(notes) != 1 || !strings.Contains(notes[0], "other users") {
			t.Errorf("of another user's record found are %v, %q", left, notes)
		}
	}
	elsewhere := t.TempDir()
	testfiles.Write(t, elsewhere, map[string]string{"slots-copy.jsonl": string(whole)})
	if left, notes := Find(elsewhere); len(left) > 0 || len(notes) != 1 {
		t.Errorf("of a copy in another folder found are %v, %q", left, notes)
	}
	if _, err := os.Stat(f.Path()); err != nil {
		t.Error(err)
	}
	must(t, f.Remove())
	must(t, r.Close())
	if left := names(t, temp); len(left) > 0 {
		t.Errorf("left are %v", left)
	}
}

// FuzzRecord holds that what a record says is checked before anything is done by it: only absolute paths with our
// prefix, whole numbers and secrets, and groups of its own process come through.
func FuzzRecord(f *testing.F) {
	number := strings.Repeat("0a", 16)
	f.Add([]byte(fmt.Sprintf("{\"format\":%q,\"pid\":12,\"secret\":%q,\"records\":\"1:2\"}\n{\"folder\":\"/tmp/fern-relay-x\",\"number\":%q,\"made\":\"1:3\"}\n{\"slot\":1}\n{\"group\":\"/g/fern-relay-12-1-0123456789ab\",\"inode\":4}\n", format, number, number)))
	f.Add([]byte("{\"pid\":12,\"groups\":\"\",\"temp\":\"/tmp\"}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		r, err := readRecord(strings.NewReader(string(text)), "1:2")
		if err != nil {
			return
		}
		if r.head.PID <= 1 || len(r.head.Secret) != 32 {
			t.Errorf("its process is %d with the secret %q", r.head.PID, r.head.Secret)
		}
		for _, line := range r.folders {
			if !filepath.IsAbs(line.Folder) || strings.Contains(line.Folder, "..") && filepath.Clean(line.Folder) != line.Folder || !strings.HasPrefix(filepath.Base(line.Folder), Prefix) || len(line.Number) != 32 {
				t.Errorf("it has the folder %+v", line)
			}
		}
		for _, line := range r.groups {
			if !filepath.IsAbs(line.Group) || !strings.HasPrefix(filepath.Base(line.Group), fmt.Sprintf("%s%d-", Prefix, r.head.PID)) {
				t.Errorf("it has the group %+v", line)
			}
		}
	})
}

// TestDamagedLoan damages the journal of a hunt in every line and at random places, and holds that the project's files then
// stay as they are, with the copies kept, or are given back.
func TestDamagedLoan(t *testing.T) {
	for name, damage := range map[string]func(lines []string) []string{
		"swapped":      func(l []string) []string { l[0], l[1] = l[1], l[0]; return l },
		"headless":     func(l []string) []string { return l[1:] },
		"of elsewhere": func(l []string) []string { l[0] = strings.Replace(l[0], `"project":"`, `"project":"1`, 1); return l },
		"outside": func(l []string) []string {
			l[1] = strings.Replace(l[1], `"path":"own.txt"`, `"path":"../own.txt"`, 1)
			return l
		},
		"git": func(l []string) []string {
			l[1] = strings.Replace(l[1], `"path":"own.txt"`, `"path":".git/hooks/x"`, 1)
			return l
		},
		"absolute": func(l []string) []string {
			l[1] = strings.Replace(l[1], `"path":"own.txt"`, `"path":"/own.txt"`, 1)
			return l
		},
		"bytes":   func(l []string) []string { l[1] = "\x00\xff\n"; return l },
		"another": func(l []string) []string { return append(l, `{"moved":{"path":"x","to":9}}`+"\n") },
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			data := filepath.Join(dir, ".fern")
			must(t, MakeData(data))
			testfiles.Write(t, dir, map[string]string{"own.txt": "mine", ".git/hooks/sample": "", "x": "y"})
			l, err := Borrow(dir, data)
			must(t, err)
			kept, err := l.Keep(Borrowed{Path: "own.txt", Mode: 0o644, Size: 4})
			must(t, err)
			must(t, l.Ready([]Borrowed{kept}, ""))
			must(t, l.Move([]Moved{{Path: "own.txt"}}))
			must(t, l.Close()) // as a kill does
			journal := filepath.Join(data, loanFolder, loanJournal)
			text, err := os.ReadFile(journal)
			must(t, err)
			testfiles.Write(t, filepath.Dir(journal), map[string]string{loanJournal: strings.Join(damage(strings.SplitAfter(string(text), "\n")), "")})
			before := names(t, filepath.Join(dir, ".git"))
			if l, err := Reclaim(dir, data); err == nil || l != nil {
				t.Fatalf("the loan is %+v, %v", l, err)
			}
			if now := names(t, filepath.Join(dir, ".git")); !slices.Equal(now, before) {
				t.Errorf("git has %v", now)
			}
			if copies, _ := filepath.Glob(filepath.Join(data, loanFolder+"-damaged-*", loanMoved, "1")); len(copies) != 1 {
				t.Errorf("what was borrowed is not kept: %v", names(t, data))
			}
			if l, err := Reclaim(dir, data); err != nil || l != nil {
				t.Errorf("the second time the loan is %+v, %v", l, err)
			}
		})
	}
}
