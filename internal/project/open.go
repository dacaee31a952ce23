package project

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"fernrelay/internal/owned"
)

// Real returns the absolute path of a folder without links, as the toolchain and others that a project starts name it.
func Real(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		return real, nil
	}
	return dir, nil // reading it reports the error
}

// Open reads the project in a folder. Of a folder inside a project the project
// is found above it, and Below says where in it the folder is.
func Open(dir string) (*Project, error) {
	p, err := open(dir)
	if err == nil {
		err = owned.CheckData(p.StorePath())
	}
	if err != nil {
		return nil, err
	}
	if from, err := Real(dir); err == nil {
		if below, err := filepath.Rel(p.Dir, from); err == nil && below != "." && filepath.IsLocal(below) {
			p.Below = filepath.ToSlash(below)
		}
	}
	return p, nil
}

func open(dir string) (*Project, error) {
	dir, err := Real(dir)
	if err != nil {
		return nil, err
	}
	if _, err := os.ReadDir(dir); err != nil {
		return nil, unreadable(dir, err)
	}
	for above := dir; ; above = filepath.Dir(above) {
		path := filepath.Join(above, FileName)
		data, err := os.ReadFile(path)
		if err == nil {
			return parse(above, path, data)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, unreadable(path, err)
		}
		if above == filepath.Dir(above) {
			return WithoutFile(dir)
		}
	}
}

func unreadable(path string, err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	hint := "name the folder of a project"
	if errors.Is(err, fs.ErrPermission) {
		hint = "change its permissions so that you can read it"
	}
	return fmt.Errorf("cannot read %s: %w: %s", path, err, hint)
}
