package owned

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// Reclaim returns the loan of a process that is gone, nil if there is none or nothing was touched. It sets a damaged
// journal aside with its copies; the error says so.
func Reclaim(project, data string) (*Loan, error) {
	if _, err := os.Lstat(filepath.Join(data, loanFolder, loanJournal)); err != nil {
		return nil, earlierLoan(data)
	}
	l, err := openLoan(project, data)
	if errors.Is(err, ErrBusy) {
		return nil, nil // it goes on
	}
	if errors.Is(err, errForeign) {
		return nil, errors.New("a hunt of another user was killed here: what it borrowed is left to that user")
	}
	if err != nil {
		return nil, err
	}
	if err := l.read(); err != nil {
		to := fmt.Sprintf("%s-damaged-%s", loanFolder, newNumber()[:12])
		renamed := l.data.Rename(loanFolder, to)
		return nil, errors.Join(fmt.Errorf("the journal of a hunt is damaged (%w): nothing is done by it, and its copies are now in %s", err, filepath.Join(data, to)), renamed, l.Close())
	}
	if !l.ready {
		return nil, l.End()
	}
	return l, nil
}

// earlierLoan returns an error if a hunt of an earlier version, which wrote no journal, was killed while files were set
// aside.
func earlierLoan(data string) error {
	aside := filepath.Join(data, loanFolder, "aside")
	if _, err := os.Lstat(aside); err != nil {
		return nil
	}
	return fmt.Errorf("%s has files of the project that a hunt of an earlier version set aside: move them back and remove the folder", aside)
}

// mostJournal bounds a journal, in bytes.
const mostJournal = 256 << 20

// read reads the journal, and checks every line before anything is done by it. A last line that was cut off does not count.
func (l *Loan) read() error {
	info, err := l.place.Lstat(loanJournal)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() || !belongsToUs(info) || info.Size() > mostJournal {
		return errors.New("it is not a file of ours")
	}
	if l.journal, err = l.place.OpenFile(loanJournal, os.O_RDWR|os.O_APPEND, 0); err != nil {
		return err
	}
	if l.copies, err = l.place.OpenFile(loanCopies, os.O_RDONLY|syscall.O_NONBLOCK, 0); err != nil {
		return err
	}
	want, err := l.head()
	if err != nil {
		return err
	}
	lines, size := bufio.NewReader(l.journal), int64(0)
	for n := 0; ; n++ {
		text, err := lines.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return l.journal.Truncate(size) // more lines may follow
		}
		size += int64(len(text))
		if err != nil {
			return err
		}
		var line loanLine
		decoder := json.NewDecoder(bytes.NewReader(text))
		decoder.DisallowUnknownFields()
		if err := decoder.Decode(&line); err != nil {
			return fmt.Errorf("line %d: %w", n+1, err)
		}
		if n == 0 {
			if line != want {
				return errors.New("it was made in another folder")
			}
			continue
		}
		if err := l.take(line); err != nil {
			return fmt.Errorf("line %d: %w", n+1, err)
		}
	}
}

// take adds what a line of the journal says.
func (l *Loan) take(line loanLine) error {
	switch {
	case line.File != nil && !l.ready && mayBorrow(line.File.Path) && line.File.At >= 0 && line.File.Size >= 0:
		l.Files = append(l.Files, *line.File)
		l.named[line.File.Path] = true
	case line.Ready && !l.ready:
		l.ready, l.Revision = true, line.Commit
	case line.Moved != nil && l.ready && mayBorrow(line.Moved.Path) && line.Moved.To == len(l.Moved)+1:
		l.Moved = append(l.Moved, *line.Moved)
		l.named[line.Moved.Path] = true
	default:
		return errors.New("it is not a line of a journal")
	}
	return nil
}

// leftOut are the names of folders that no loan has.
var leftOut = []string{".git", ".hg", ".svn", ".fern", "node_modules"}

// LeavesOut reports whether no loan has folders of a name: those of version control, of Fern Relay, and of dependencies.
func LeavesOut(name string) bool { return slices.Contains(leftOut, name) }

// mayBorrow reports whether a path may be in a loan.
func mayBorrow(name string) bool {
	return name != "." && filepath.IsLocal(filepath.FromSlash(name)) && path.Clean(name) == name && !slices.ContainsFunc(strings.Split(name, "/"), LeavesOut)
}
