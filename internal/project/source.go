package project

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
)

// sourceLimit bounds how much of a source file is read, in bytes.
const sourceLimit = 8 << 20

// ReadSource reads a file that a test or a report names, given relative to the project. What such a
// name leads to may be anything: only a regular file inside the project is read, its beginning at most.
func (p *Project) ReadSource(file string) ([]byte, error) {
	root, err := os.OpenRoot(p.Dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	f, err := root.OpenFile(filepath.FromSlash(file), waitForNobody, 0)
	if err != nil {
		return nil, err
	}
	return readRegular(f)
}

// waitForNobody opens a file for reading. A fifo would wait for a writer otherwise.
const waitForNobody = os.O_RDONLY | syscall.O_NONBLOCK

// readRegular reads and closes a file that may turn out to be something else.
func readRegular(f *os.File) ([]byte, error) {
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a regular file", f.Name())
	}
	return io.ReadAll(io.LimitReader(f, sourceLimit))
}

// SourcePath returns the absolute path of a file that a test or a report names, for an editor. The error
// says why it is not to be opened: it is no regular file of the project or the Go toolchain.
func (p *Project) SourcePath(file string) (string, error) {
	path := filepath.FromSlash(file)
	if !filepath.IsAbs(path) {
		path = filepath.Join(p.Dir, path)
	}
	real, err := filepath.EvalSymlinks(path)
	var wrong *os.PathError
	if errors.As(err, &wrong) {
		return "", fmt.Errorf("%s cannot be opened: %w", file, wrong.Err)
	}
	if err != nil {
		return "", err
	}
	if !within(p.Dir, real) && !within(toolchain(), real) {
		return "", fmt.Errorf("%s is neither in the project nor in the Go toolchain", file)
	}
	info, err := os.Stat(real)
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() {
		return "", fmt.Errorf("%s is not a regular file", file)
	}
	return path, nil
}

// within reports whether a path, without links, is below a folder.
func within(dir, path string) bool {
	if dir == "" {
		return false
	}
	real, err := filepath.EvalSymlinks(dir)
	return err == nil && strings.HasPrefix(path, real+string(filepath.Separator))
}

// toolchain is the folder of the Go toolchain, empty if there is none.
func toolchain() string {
	program, err := exec.LookPath("go")
	if err != nil {
		return ""
	}
	if program, err = filepath.EvalSymlinks(program); err != nil {
		return ""
	}
	return filepath.Dir(filepath.Dir(program))
}
