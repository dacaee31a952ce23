package owned

import "golang.org/x/sys/unix"

// sync writes the copies of a loan to the disk, all at once.
func (l *Loan) sync() error { return unix.Syncfs(int(l.lock.Fd())) }
