package owned

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
)

// format names the format of records. Records of another format are set aside.
const format = "fern-owned/1"

// Records are found again by these names. A damaged one stays beside them under another name.
const (
	recordPrefix  = "slots-"
	recordEnding  = ".jsonl"
	damagedPrefix = "damaged-"
)

// recordLine is one line of a record: its head, which is the first, or one thing that its process made.
type recordLine struct {
	Format  string `json:"format,omitempty"`
	PID     int    `json:"pid,omitempty"`
	Started uint64 `json:"started,omitempty"` // when the process started, as the system counts; 0 if it does not say
	Secret  string `json:"secret,omitempty"`  // marks the environment of the processes below it
	Records string `json:"records,omitempty"` // identifies the folder of the record

	Folder string `json:"folder,omitempty"` // path
	Number string `json:"number,omitempty"` // of the folder
	Made   string `json:"made,omitempty"`   // identifies the folder; empty on the line that is written before it is made

	Group string `json:"group,omitempty"` // path of a control group
	Inode uint64 `json:"inode,omitempty"` // of the control group

	Slot *int `json:"slot,omitempty"` // the number of a slot in use
}

// secret marks the environment of everything that starts below this process.
var secret = sync.OnceValue(newNumber)

// SecretVariable is the variable that holds the secrets of this process and of the Fern Relay processes above it,
// separated by colons.
const SecretVariable = "FERN_RELAY_OWNER"

// Mark returns the setting of SecretVariable for the environment of a process below this one. The next command finds the
// process by it if this one is killed.
func Mark() string { return SecretVariable + "=" + Secrets() }

// Secrets returns the value of SecretVariable for the processes below this one.
var Secrets = sync.OnceValue(func() string {
	if above := os.Getenv(SecretVariable); above != "" {
		return above + ":" + secret()
	}
	return secret()
})

// A Record names what one process has made, so that the next command cleans up if the process is killed. Each thing is
// named before it is made. It is safe for use by several goroutines.
type Record struct {
	mu    sync.Mutex
	file  *os.File // nil if there is no place for it
	size  int64
	group groupHome
}

// Begin begins a record in a folder, which is made if necessary. Without a place, as if records is empty or cannot be
// written to, the record is kept nowhere: what it names stays after a kill.
func Begin(records string) *Record {
	r := &Record{}
	if records == "" || os.MkdirAll(records, 0o755) != nil {
		return r
	}
	root, info, err := openPlain(records)
	if err != nil {
		return r
	}
	defer root.Close()
	if r.file = newRecord(root); r.file == nil {
		return r
	}
	started, _ := startOf(os.Getpid()) // 0 if it is not known
	if r.add(recordLine{Format: format, PID: os.Getpid(), Started: started, Secret: secret(), Records: identity(info)}) != nil {
		_ = r.Close()
	}
	return r
}

// newRecord makes a file for a record and locks it as long as this process lives. It returns nil where that is not possible.
func newRecord(root *os.Root) *os.File {
	for {
		file, err := root.OpenFile(recordPrefix+newNumber()[:12]+recordEnding, os.O_RDWR|os.O_CREATE|os.O_EXCL|os.O_APPEND, 0o600)
		if err != nil {
			return nil
		}
		if syscall.Flock(int(file.Fd()), syscall.LOCK_EX) != nil { // as on some network disks
			_ = errors.Join(RemoveFile(file), file.Close()) // it is empty
			return nil
		}
		if stillThere(file) {
			return file
		}
		file.Close() // another command has removed it, as it was empty and not locked yet
	}
}

// add adds a line, all of it or nothing, as on a full disk.
func (r *Record) add(line recordLine) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.file == nil {
		return nil
	}
	text, err := json.Marshal(line)
	if err != nil {
		return err
	}
	n, err := r.file.Write(append(text, '\n'))
	if err != nil {
		return errors.Join(err, r.file.Truncate(r.size))
	}
	r.size += int64(n)
	return nil
}

// MakeFolder makes a marked folder below another one, of which the record knows before it exists.
func (r *Record) MakeFolder(parent string) (*Folder, error) {
	parent, err := filepath.Abs(parent)
	if err != nil {
		return nil, err
	}
	number := newNumber()
	line := recordLine{Folder: filepath.Join(parent, Prefix+number[:12]), Number: number}
	_ = r.add(line) // on a full disk it is not cleaned up after a kill
	return makeFolder(parent, number, func(made string) error {
		line.Made = made
		_ = r.add(line)
		return nil
	})
}

// UseSlot notes that a slot is in use, which is cleaned after a kill.
func (r *Record) UseSlot(number int) { _ = r.add(recordLine{Slot: &number}) }

// Close removes the record, once nothing is left of what it names.
func (r *Record) Close() error {
	r.group.remove()
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.file == nil {
		return nil
	}
	err := errors.Join(RemoveFile(r.file), r.file.Close())
	r.file = nil
	return err
}

// stillThere reports whether a file has not been removed since it was opened.
func stillThere(file *os.File) bool {
	now, err := os.Lstat(file.Name())
	if err != nil {
		return false
	}
	then, err := file.Stat()
	return err == nil && os.SameFile(now, then)
}

// Left is what a process has left that is gone.
type Left struct {
	PID     int
	Used    bool // it had made something that the record names
	Slots   []int
	Folders []*Folder // that were proved to be ours; those of the slots come first
	file    *os.File
	record  *record
	notes   []string
}

// record is what a record says.
type record struct {
	head    recordLine
	folders []recordLine // each folder once, as its last line says
	groups  []recordLine
	slots   []int
}

// Bounds of what is read.
const (
	mostRecords = 1000
	mostRecord  = 16 << 20 // bytes
	mostSlots   = 10_000
)

// Find finds the records of processes that are gone. It sets a damaged record aside, and leaves alone the records of
// other users. The notes say so.
func Find(records string) (left []*Left, notes []string) {
	root, info, err := openPlain(records)
	if err != nil {
		return nil, nil // there are none
	}
	defer root.Close()
	names, err := entries(root)
	if err != nil {
		return nil, []string{fmt.Sprintf("records of earlier runs cannot be read: %v", err)}
	}
	foreign, seen := 0, 0
	for _, name := range names {
		if !strings.HasPrefix(name, recordPrefix) || !strings.HasSuffix(name, recordEnding) {
			continue
		}
		if seen++; seen > mostRecords {
			break
		}
		l, err := open(root, name, identity(info))
		switch {
		case errors.Is(err, errForeign):
			foreign++
		case err != nil:
			notes = append(notes, setAside(root, name, err))
		case l != nil:
			left = append(left, l)
		}
	}
	if foreign > 0 {
		notes = append(notes, fmt.Sprintf("%s holds records of other users' runs, which are left alone", records))
	}
	return left, notes
}

// errForeign says that a record belongs to another user.
var errForeign = errors.New("it belongs to another user")

// open opens the record of a process that is gone. It returns nil if the process lives or nothing is left to do. Any
// error but errForeign says that the record is damaged.
func open(root *os.Root, name, folder string) (*Left, error) {
	info, err := root.Lstat(name)
	if err != nil {
		return nil, nil // its process has just removed it
	}
	if !belongsToUs(info) {
		return nil, errForeign
	}
	if !info.Mode().IsRegular() {
		return nil, errors.New("it is not a file")
	}
	file, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, nil // as above
	}
	l := &Left{file: file}
	if syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil || !stillThere(file) {
		return nil, l.release()
	}
	if info, err = file.Stat(); err != nil {
		return nil, errors.Join(err, l.release())
	}
	if info.Size() == 0 { // its process was killed before it made anything
		return nil, errors.Join(RemoveFile(file), l.release())
	}
	if l.record, err = readRecord(io.LimitReader(file, mostRecord), folder); err != nil {
		return nil, errors.Join(err, l.release())
	}
	if lives(l.record.head.PID, l.record.head.Started) { // it is a copy of a record in use
		return nil, l.release()
	}
	l.PID, l.Slots = l.record.head.PID, l.record.slots
	l.Used = len(l.record.folders)+len(l.record.groups)+len(l.record.slots) > 0
	return l, nil
}

func (l *Left) release() error { return l.file.Close() }

// readRecord reads a record, and checks every line before anything is done by it. A last line that was cut off does not
// count.
func readRecord(r io.Reader, folder string) (*record, error) {
	lines := bufio.NewReader(r)
	found := &record{}
	places := map[string]int{} // of folders by number
	for n := 0; ; n++ {
		text, err := lines.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		var line recordLine
		decoder := json.NewDecoder(bytes.NewReader(text))
		decoder.DisallowUnknownFields()
		if err := decoder.Decode(&line); err != nil && n > 0 {
			return nil, fmt.Errorf("line %d: %w", n+1, err)
		}
		if n == 0 { // whatever it is, it says of which version it is
			found.head = line
			if err := line.checkHead(folder); err != nil {
				return nil, err
			}
			continue
		}
		if err := found.take(line, places); err != nil {
			return nil, fmt.Errorf("line %d: %w", n+1, err)
		}
	}
	if found.head.Format == "" {
		return nil, errors.New("it has no first line")
	}
	return found, nil
}

func (line *recordLine) checkHead(folder string) error {
	switch {
	case line.Format != format:
		return errors.New("it is not of this version")
	case line.PID <= 1 || !isNumber(line.Secret):
		return errors.New("its first line names no process of ours")
	case line.Records != folder:
		return errors.New("it was made in another folder")
	}
	return nil
}

// take adds what a line says.
func (r *record) take(line recordLine, places map[string]int) error {
	switch {
	case line.Folder != "":
		if err := wellFormed(line.Folder, line.Number); err != nil {
			return err
		}
		at, known := places[line.Number]
		if !known {
			places[line.Number] = len(r.folders)
			r.folders = append(r.folders, line)
		} else if r.folders[at].Folder == line.Folder {
			r.folders[at] = line
		} else {
			return errors.New("two folders have one number")
		}
	case line.Group != "":
		if !filepath.IsAbs(line.Group) || filepath.Clean(line.Group) != line.Group || !isGroupName(filepath.Base(line.Group), r.head.PID) {
			return fmt.Errorf("%q is not a control group of process %d", line.Group, r.head.PID)
		}
		r.groups = slices.DeleteFunc(r.groups, func(g recordLine) bool { return g.Group == line.Group })
		r.groups = append(r.groups, line)
	case line.Slot != nil:
		if *line.Slot < 0 || len(r.slots) > mostSlots {
			return fmt.Errorf("%d is not the number of a slot", *line.Slot)
		}
		r.slots = append(r.slots, *line.Slot)
	default:
		return errors.New("it names nothing")
	}
	return nil
}

// setAside renames a damaged record, so that nothing is ever done by it.
func setAside(root *os.Root, name string, why error) (note string) {
	to := damagedPrefix + name
	if _, err := root.Lstat(to); err == nil {
		to = damagedPrefix + newNumber()[:12] + "-" + name
	}
	if err := root.Rename(name, to); err != nil {
		return fmt.Sprintf("the record %s is damaged (%v) and ignored; remove it", filepath.Join(root.Name(), name), why)
	}
	return fmt.Sprintf("a record of an earlier run is damaged (%v): nothing is done by it, and it is now %s", why, filepath.Join(root.Name(), to))
}

// Kill kills what the process has left running: what is in its control groups, and what has its secret in the
// environment. It then opens the folders that are proved to be ours.
func (l *Left) Kill() {
	for _, g := range l.record.groups {
		if err := killGroup(g.Group, g.Inode); err != nil {
			l.notes = append(l.notes, err.Error())
		}
	}
	killMarked(l.record.head.Secret)
	for _, line := range l.record.folders {
		f, err := openFolder(line.Folder, line.Number, line.Made)
		switch {
		case err == nil:
			l.Folders = append(l.Folders, f)
		case errors.Is(err, fs.ErrNotExist):
		case line.Made == "" && syscall.Rmdir(line.Folder) == nil: // its process was killed as soon as it had made it
		default:
			l.notes = append(l.notes, fmt.Sprintf("the folder %s is left alone: %v", line.Folder, err))
		}
	}
}

// Remove removes the folders and the record. The notes say what it left alone.
func (l *Left) Remove() (notes []string) {
	notes = l.notes
	for _, f := range l.Folders {
		if err := f.Remove(); err != nil {
			notes = append(notes, err.Error())
		}
	}
	if err := errors.Join(RemoveFile(l.file), l.release()); err != nil {
		notes = append(notes, err.Error())
	}
	return notes
}
