package owned

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// loanFormat names the format of a loan's journal.
const loanFormat = "fern-loan/1"

// The names in the folder of a loan, which is loanFolder below the project's data.
const (
	loanFolder  = "tree"
	loanJournal = "journal.jsonl"
	loanCopies  = "copies"
	loanMoved   = "moved"
)

// ErrBusy says that another process has borrowed the project's files.
var ErrBusy = errors.New("another hunt of this project is going on")

// A Borrowed is a file, a link or a folder of the project as it was when the loan began.
type Borrowed struct {
	Path    string      `json:"path"` // relative to the project, with slashes
	Mode    fs.FileMode `json:"mode"`
	Size    int64       `json:"size,omitempty"`
	Changed time.Time   `json:"changed"`
	Link    string      `json:"link,omitempty"`   // where a link leads
	At      int64       `json:"at,omitempty"`     // where its content begins among the copies
	Sum     string      `json:"sum,omitempty"`    // the SHA-256 of its content; empty if there is no copy
	Person  bool        `json:"person,omitempty"` // a person writes it, rather than tests
	Commit  bool        `json:"commit,omitempty"` // the revision has it as it is
	User    int         `json:"user"`             // whose it is
	Group   int         `json:"group"`
}

// A Moved is a file or link that was moved out of the project.
type Moved struct {
	Path  string `json:"path"`            // where it was
	To    int    `json:"to"`              // its number, from 1
	Sum   string `json:"sum,omitempty"`   // the SHA-256 of a file
	New   bool   `json:"new,omitempty"`   // it was not there when the loan began
	Aside bool   `json:"aside,omitempty"` // it was there, and no trial is to find it
}

// loanLine is a line of the journal: its head, a file, the mark that all copies are made, or a file that is moved next.
type loanLine struct {
	Format  string    `json:"format,omitempty"`
	Project string    `json:"project,omitempty"` // identifies the project's folder
	Place   string    `json:"place,omitempty"`   // identifies the folder of the loan
	File    *Borrowed `json:"file,omitempty"`
	Ready   bool      `json:"ready,omitempty"`
	Commit  string    `json:"commit,omitempty"` // the revision of the project
	Moved   *Moved    `json:"moved,omitempty"`
}

// A Loan is what a hunt borrows from the files of a project. It moves and restores only what its journal names, and the
// journal is synced first, so that the next command gives everything back if the process is killed. It is not safe for
// use by several goroutines.
type Loan struct {
	Files    []Borrowed
	Revision string // of the project when the loan began, "" without git
	Moved    []Moved

	project *os.Root
	data    *Data
	place   *os.Root        // the folder of the loan
	lock    *os.File        // of that folder
	copies  *os.File        // the contents of all files, one after the other
	size    int64           // of the copies
	journal *os.File        // nil before the loan begins, and if it is over
	named   map[string]bool // the paths that the synced journal names
	ready   bool
}

// Borrow begins a loan of a project's files, with its copies below the project's data. It returns ErrBusy while another
// process has one.
func Borrow(project, data string) (*Loan, error) {
	l, err := openLoan(project, data)
	if err != nil {
		return nil, err
	}
	if _, err := l.place.Lstat(loanJournal); err == nil {
		return nil, errors.Join(errors.New("the files that an earlier hunt borrowed are not given back yet"), l.Close())
	}
	if err := l.begin(); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// openLoan opens and locks the folder of a loan.
func openLoan(project, data string) (*Loan, error) {
	l := &Loan{named: map[string]bool{}}
	if err := l.open(project, data); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

func (l *Loan) open(project, data string) (err error) {
	if l.project, err = os.OpenRoot(project); err != nil {
		return err
	}
	if l.data, err = OpenData(data); err != nil {
		return err
	}
	if _, err = l.data.MakeFolder(loanFolder); err != nil {
		return err
	}
	var info fs.FileInfo
	if l.place, info, err = openBelow(l.data.root, loanFolder); err != nil {
		return err
	}
	if !belongsToUs(info) {
		return errForeign
	}
	if l.lock, err = l.place.Open("."); err != nil {
		return err
	}
	if syscall.Flock(int(l.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		return ErrBusy
	}
	return nil
}

// begin writes the head of the journal. Before the loan is ready, nothing in the project has been touched.
func (l *Loan) begin() error {
	err := removeBelow(l.place, loanCopies)
	if err == nil {
		l.copies, err = l.place.OpenFile(loanCopies, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	}
	if err != nil {
		return err
	}
	if err := l.place.Mkdir(loanMoved, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if l.journal, err = l.place.OpenFile(loanJournal, os.O_RDWR|os.O_CREATE|os.O_EXCL|os.O_APPEND, 0o600); err != nil {
		return err
	}
	head, err := l.head()
	if err != nil {
		return err
	}
	return l.write(head)
}

// head identifies the two folders, so that a journal that came along with a copy of them does nothing.
func (l *Loan) head() (loanLine, error) {
	project, err := l.project.Stat(".")
	if err != nil {
		return loanLine{}, err
	}
	place, err := l.place.Stat(".")
	return loanLine{Format: loanFormat, Project: identity(project), Place: identity(place)}, err
}

// write adds lines to the journal, all of them or none, as on a full disk.
func (l *Loan) write(lines ...loanLine) error {
	var text bytes.Buffer
	for _, line := range lines {
		if err := json.NewEncoder(&text).Encode(line); err != nil {
			return err
		}
	}
	size, err := l.journal.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if _, err := l.journal.Write(text.Bytes()); err != nil {
		return errors.Join(err, l.journal.Truncate(size))
	}
	return nil
}

// Keep copies the content of a regular file of the project. The error says why it cannot be restored.
func (l *Loan) Keep(f Borrowed) (Borrowed, error) {
	from, err := l.project.OpenFile(filepath.FromSlash(f.Path), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return f, err
	}
	defer from.Close()
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(l.copies, sum), io.LimitReader(from, f.Size+1))
	if err == nil && n != f.Size {
		err = errors.New("it changes while it is copied")
	}
	if err != nil {
		_, seekErr := l.copies.Seek(l.size, io.SeekStart)
		return f, errors.Join(err, seekErr)
	}
	f.At, f.Sum = l.size, text(sum)
	l.size += n
	return f, nil
}

// Content returns the content of a file of which there is a copy.
func (l *Loan) Content(f Borrowed) io.Reader { return io.NewSectionReader(l.copies, f.At, f.Size) }

// Ready syncs the copies, and then the journal with all files of the loan, and the revision that they are of. From now on
// files may be moved.
func (l *Loan) Ready(files []Borrowed, revision string) error {
	l.Files, l.Revision = files, revision
	lines := make([]loanLine, 0, len(files)+1)
	for i := range files {
		lines = append(lines, loanLine{File: &files[i]})
		l.named[files[i].Path] = true
	}
	err := l.copies.Sync()
	if err == nil {
		err = l.write(append(lines, loanLine{Ready: true, Commit: revision})...)
	}
	if err == nil {
		err = l.journal.Sync()
	}
	l.ready = err == nil
	return err
}

// Move moves files out of the project, once the synced journal names them. It returns those that it moved.
func (l *Loan) Move(files []Moved) error {
	lines := make([]loanLine, len(files))
	for i := range files {
		f := &files[i]
		f.To = len(l.Moved) + i + 1
		sum, err := l.sumOf(f.Path)
		if err != nil {
			return err
		}
		f.Sum, lines[i] = sum, loanLine{Moved: f}
	}
	if len(files) == 0 {
		return nil
	}
	if err := errors.Join(l.write(lines...), l.journal.Sync()); err != nil {
		return err
	}
	var errs []error
	for _, f := range files {
		l.named[f.Path] = true
		l.Moved = append(l.Moved, f)
		if err := gone(move(l.project, f.Path, l.place, movedName(f.To))); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// sumOf returns the SHA-256 of a file of the project, "" for a link or one that cannot be read.
func (l *Loan) sumOf(name string) (string, error) {
	info, err := l.project.Lstat(filepath.FromSlash(name))
	if err != nil || !info.Mode().IsRegular() {
		return "", gone(err)
	}
	return sumOf(l.project, filepath.FromSlash(name)), nil
}

// IsMoved reports whether a file that was moved is still in the loan's folder.
func (l *Loan) IsMoved(f Moved) bool {
	_, err := l.place.Lstat(movedName(f.To))
	return err == nil
}

// GiveBack moves a file that was moved to a path of the project that is free: its own or, with the name of a folder above
// it, one beside.
func (l *Loan) GiveBack(f Moved, to string) error {
	if !l.named[f.Path] || !mayBorrow(to) {
		return fmt.Errorf("%s is left alone: the journal does not name it", to)
	}
	if err := l.project.MkdirAll(filepath.FromSlash(path.Dir(to)), 0o755); err != nil {
		return err
	}
	if err := l.plain(to); err != nil {
		return err
	}
	return move(l.place, movedName(f.To), l.project, to)
}

// Replace moves what was moved into a folder of the project's data, which people may look into. It replaces what is there
// from an earlier trial, or keeps both if all is true.
func (l *Loan) Replace(f Moved, folder string, all bool) error {
	dir, err := l.data.MakeFolder(path.Join(folder, path.Dir(f.Path)))
	if err != nil { // a trial left a file where another left a folder
		dir, err = l.data.MakeFolder(path.Join(folder, fmt.Sprint("moved~", f.To)))
	}
	if err != nil {
		return err
	}
	root, _, err := openPlain(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	base := path.Base(f.Path)
	if _, err := root.Lstat(base); all && err == nil {
		base = fmt.Sprint(base, "~", f.To)
	}
	return errors.Join(removeBelow(root, base), gone(move(l.place, movedName(f.To), root, base)))
}

// Holds reports whether a file of the project has the content of the loan.
func (l *Loan) Holds(f Borrowed) bool {
	info, err := l.project.Lstat(filepath.FromSlash(f.Path))
	if err != nil || info.Mode() != f.Mode {
		return false
	}
	switch {
	case f.Mode.IsDir():
		return true
	case f.Mode&fs.ModeSymlink != 0:
		to, err := l.project.Readlink(filepath.FromSlash(f.Path))
		return err == nil && to == f.Link
	case !f.Mode.IsRegular() || f.Sum == "":
		return info.Size() == f.Size
	}
	return sumOf(l.project, filepath.FromSlash(f.Path)) == f.Sum
}

// plain returns an error if a folder on the way to a file of the project is a link.
func (l *Loan) plain(name string) error {
	dir := path.Dir(name)
	if dir == "." {
		return nil
	}
	parts := strings.Split(dir, "/")
	for i := range parts {
		below := path.Join(parts[:i+1]...)
		if info, err := l.project.Lstat(filepath.FromSlash(below)); err != nil || !info.IsDir() {
			return fmt.Errorf("%s is left alone: %s is not a folder", name, below)
		}
	}
	return nil
}

// End ends the loan once everything is in its place: it removes the journal, then the copies.
func (l *Loan) End() error {
	if l.journal != nil {
		if err := gone(l.place.Remove(loanJournal)); err != nil {
			return errors.Join(err, l.Close())
		}
	}
	err := removeBelow(l.place, loanCopies)
	// What was moved and found no place stays.
	if empty := l.place.Remove(loanMoved); !errors.Is(empty, syscall.ENOTEMPTY) {
		err = errors.Join(err, gone(empty))
	}
	return errors.Join(err, l.Close())
}

// Close leaves the loan as it is, for the next command to give back.
func (l *Loan) Close() error {
	var errs []error
	for _, file := range []*os.File{l.journal, l.copies, l.lock} {
		if file != nil {
			errs = append(errs, file.Close())
		}
	}
	if l.place != nil {
		errs = append(errs, l.place.Close())
	}
	if l.data != nil {
		errs = append(errs, l.data.Close())
	}
	if l.project != nil {
		errs = append(errs, l.project.Close())
	}
	return errors.Join(errs...)
}
