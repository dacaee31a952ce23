package ledger

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

var errDamaged = errors.New("the file is damaged")

// Damaged reports whether an error says that the ledger's file is damaged, or is none.
func Damaged(err error) bool {
	var wrong *sqlite.Error
	if errors.As(err, &wrong) {
		code := wrong.Code() & 0xff // the rest says more exactly what is wrong
		return code == sqlite3.SQLITE_CORRUPT || code == sqlite3.SQLITE_NOTADB
	}
	return errors.Is(err, errDamaged)
}

// full reports whether an error says that there is no room on the disk.
func full(err error) bool {
	var wrong *sqlite.Error
	return errors.As(err, &wrong) && (wrong.Code() == sqlite3.SQLITE_FULL || wrong.Code() == sqlite3.SQLITE_IOERR_SHMSIZE)
}

// SetAside gives a damaged ledger another name, by which it is given back, so that a new one
// can begin. Where it is not damaged, as when another process was first, it stays, and the
// name is empty. Nobody of this process has it open.
func SetAside(ctx context.Context, store string) (name string, err error) {
	lock, err := lockStore(store)
	if err != nil {
		return "", err
	}
	defer lock.Close()
	path := filepath.Join(store, FileName)
	if !damagedFile(ctx, path) {
		return "", nil
	}
	name = fmt.Sprintf("ledger-damaged-%s.db", time.Now().Format("20060102-150405.000"))
	for _, ending := range []string{"", "-wal", "-shm"} {
		err := os.Rename(path+ending, filepath.Join(store, name+ending))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", fmt.Errorf("the damaged ledger cannot be put aside: %w", err)
		}
	}
	return name, nil
}

// lockStore waits until no other process opens the ledger of a store or puts it aside, and keeps
// others from it until the lock is closed; on a disk that has no locks it does nothing.
func lockStore(store string) (lock io.Closer, err error) {
	file, err := os.OpenFile(filepath.Join(store, "ledger.lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	_ = syscall.Flock(int(file.Fd()), syscall.LOCK_EX)
	return file, nil
}

func damagedFile(ctx context.Context, path string) bool {
	l, err := connect(path, toWrite)
	if err != nil {
		return false
	}
	defer l.Close()
	return Damaged(l.Check(ctx))
}
