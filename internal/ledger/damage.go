package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"fernrelay/internal/ledger/packs"
)

var errDamaged = errors.New("the file is damaged")

// Damaged reports whether an error says that the ledger's file is damaged, or no ledger.
func Damaged(err error) bool { return Reason(err) != "" }

// Reason returns in words what is wrong with a damaged ledger, "" if an error says something else.
func Reason(err error) string {
	var wrong *sqlite.Error
	switch {
	case errors.Is(err, errDamaged):
		_, reason, _ := strings.Cut(err.Error(), errDamaged.Error())
		return cmp.Or(strings.TrimPrefix(reason, ": "), "parts of it are overwritten")
	case errors.Is(err, packs.ErrDamaged):
		return "parts of it are overwritten"
	case !errors.As(err, &wrong):
		return ""
	}
	switch wrong.Code() & 0xff { // the rest is more specific
	case sqlite3.SQLITE_CORRUPT:
		return "parts of it are overwritten"
	case sqlite3.SQLITE_NOTADB:
		return "it is no database"
	case sqlite3.SQLITE_ERROR, sqlite3.SQLITE_MISMATCH: // our statements are right, so that it is the file
		return "it is a database of another program, or parts of it are missing"
	}
	return ""
}

// scanner is a row of an answer.
type scanner interface{ Scan(into ...any) error }

// scan reads a row. What cannot be read is damaged, as every column is written by this program.
func scan(row scanner, into ...any) error {
	err := row.Scan(into...)
	var wrong *sqlite.Error
	if errors.As(err, &wrong) || errors.Is(err, sql.ErrNoRows) || errors.Is(err, context.Canceled) || errors.Is(err, sql.ErrTxDone) {
		return err
	}
	return unreadable(err)
}

// unreadable is the error of something in the ledger that cannot be read.
func unreadable(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w: parts of it are overwritten", errDamaged) // what the error says means nothing to people
}

// roomless returns an error in plain words for one of a full disk.
func roomless(err error) error {
	if full(err) {
		return fmt.Errorf("the disk is full: %w", syscall.ENOSPC)
	}
	return err
}

// full reports whether an error says that there is no room on the disk.
func full(err error) bool {
	var wrong *sqlite.Error
	return errors.Is(err, syscall.ENOSPC) || errors.As(err, &wrong) && (wrong.Code() == sqlite3.SQLITE_FULL || wrong.Code() == sqlite3.SQLITE_IOERR_SHMSIZE)
}

// SetAside renames the ledger in a store if it is damaged, so that a new one can begin. damage is the error
// that it caused. The note names the file; it is empty if the ledger turns out not to be damaged.
func SetAside(ctx context.Context, store string, damage error) (note string, err error) {
	lock, err := lockStore(store)
	if err != nil {
		return "", err
	}
	defer lock.Close()
	path := filepath.Join(store, FileName)
	if !damagedFile(ctx, path) {
		return "", nil
	}
	name := fmt.Sprintf("ledger-damaged-%s.db", time.Now().Format("20060102-150405.000"))
	for _, ending := range []string{"", "-wal", "-shm"} {
		err := renameData(store, path+ending, filepath.Join(store, name+ending))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", fmt.Errorf("the damaged ledger cannot be renamed: %w", err)
		}
	}
	return fmt.Sprintf("the ledger was damaged: %s. It is now %s, and a new one begins", Reason(damage), filepath.Join(store, name)), nil
}

// lockStore waits until no other process opens the ledger of a store or sets it aside, and keeps others from it
// until the lock is closed; on a disk without locks it does nothing.
func lockStore(store string) (lock io.Closer, err error) {
	file, err := os.OpenFile(filepath.Join(store, "ledger.lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	_ = syscall.Flock(int(file.Fd()), syscall.LOCK_EX)
	return file, nil
}

// damagedFile reports whether a file is damaged, or no ledger.
func damagedFile(ctx context.Context, path string) bool {
	if _, err := os.Lstat(path); err != nil {
		return false // another process has set it aside
	}
	l, err := openToWrite(path)
	if err != nil {
		return Damaged(err)
	}
	defer l.Close()
	if err := l.Check(ctx); err != nil {
		return Damaged(err)
	}
	return Damaged(l.migrate()) // which reads what an old version keeps
}
