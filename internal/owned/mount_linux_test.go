package owned

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"fernrelay/internal/testfiles"
)

// TestOtherMountsAreLeftAlone removes a folder in which the folder of somebody else is mounted.
func TestOtherMountsAreLeftAlone(t *testing.T) {
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"elsewhere/a": "1"})
	f, err := MakeFolder(dir)
	must(t, err)
	inside := filepath.Join(f.Path(), "deep", "mounted")
	must(t, os.MkdirAll(inside, 0o755))
	if err := syscall.Mount(filepath.Join(dir, "elsewhere"), inside, "", syscall.MS_BIND, ""); err != nil {
		t.Skipf("this account may not mount: %v", err)
	}
	err = f.Remove()
	must(t, syscall.Unmount(inside, 0))
	if err == nil || !strings.Contains(err.Error(), "mounted") {
		t.Errorf("Remove returned %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "elsewhere", "a")); err != nil {
		t.Errorf("what was mounted is gone: %v", err)
	}
}
