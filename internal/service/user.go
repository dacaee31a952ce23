package service

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
)

// credentials returns those of the user that a service runs as, nil for our own. Only root can run it as another: for anybody else it
// stays our own, as nobody else is refused for being root.
func (s *Spec) credentials() (*syscall.Credential, error) {
	if s.As == "" || os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup(s.As)
	if err != nil {
		return nil, fmt.Errorf("the service %s: as = %q: %w", s.Name, s.As, err)
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	gid, errOfGroup := strconv.ParseUint(u.Gid, 10, 32)
	if err := errors.Join(err, errOfGroup); err != nil {
		return nil, fmt.Errorf("the service %s: as = %q: %w", s.Name, s.As, err)
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// give makes the user of a service the owner of folders that we made for it. The error names a folder above that the user cannot enter.
func (s *Spec) give(to *syscall.Credential, folders ...string) error {
	if to == nil {
		return nil
	}
	for _, folder := range folders {
		for above, below := filepath.Dir(folder), folder; above != below; above, below = filepath.Dir(above), above {
			info, err := os.Stat(above)
			if err != nil {
				return err
			}
			if !mayEnter(info, to) {
				return fmt.Errorf("the service %s runs as %s, who cannot enter %s, which its folder %s is in: allow it (chmod o+x), or put the project elsewhere", s.Name, s.As, above, folder)
			}
		}
		err := os.Lchown(folder, int(to.Uid), int(to.Gid))
		if errors.Is(err, fs.ErrPermission) {
			return fmt.Errorf("the service %s: root cannot give %s to %s in this container: leave out as, or allow CAP_CHOWN", s.Name, folder, s.As)
		}
		if err != nil {
			return fmt.Errorf("the service %s: %w", s.Name, err)
		}
	}
	return nil
}

// mayEnter reports whether a user may enter a folder.
func mayEnter(info fs.FileInfo, u *syscall.Credential) bool {
	mode := info.Mode().Perm()
	switch owner, ok := info.Sys().(*syscall.Stat_t); {
	case !ok:
		return true
	case owner.Uid == u.Uid:
		return mode&0o100 != 0
	case owner.Gid == u.Gid:
		return mode&0o010 != 0
	}
	return mode&0o001 != 0
}
