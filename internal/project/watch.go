package project

import (
	"context"
	"crypto/sha256"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
)

// quiet is how long nothing must change before changes are reported: an editor or a checkout writes several files
// at once.
const quiet = 200 * time.Millisecond

// patience is how long changes wait to be reported if they never end.
const patience = 2 * time.Second

// Watch reports which files below a folder changed, by their absolute paths, until ctx ends. It leaves out hidden
// folders, vendor and node_modules. An error means that it no longer notices changes.
func Watch(ctx context.Context, dir string, report func(files []string)) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer w.Close()
	if err := addFolders(w, dir); err != nil {
		return err
	}
	changed := map[string]fsnotify.Op{} // what was done to each
	var since time.Time                 // of the first of them
	reported := map[string][sha256.Size]byte{}
	settled := time.NewTimer(quiet)
	settled.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-w.Errors:
			if !errors.Is(err, fsnotify.ErrEventOverflow) {
				return err
			}
			changed[dir] |= fsnotify.Write // more than could be counted
			settled.Reset(quiet)
		case e := <-w.Events:
			if e.Op == fsnotify.Chmod || hidden(filepath.Base(e.Name)) {
				continue
			}
			if info, err := os.Stat(e.Name); err == nil && info.IsDir() {
				if err := addFolders(w, e.Name); err != nil {
					return err
				}
			}
			if len(changed) == 0 {
				since = time.Now()
			}
			changed[e.Name] |= e.Op
			settled.Reset(min(quiet, patience-time.Since(since)))
		case <-settled.C:
			files := slices.Sorted(maps.Keys(changed))
			emptied := func(file string) bool { return !changed[file].Has(fsnotify.Create) && isEmpty(file) }
			if left := patience - time.Since(since); left > 0 && slices.ContainsFunc(files, emptied) {
				settled.Reset(min(quiet, left)) // it is being written, on a disk that takes its time
				continue
			}
			if files = otherwise(files, reported); len(files) > 0 {
				report(files)
			}
			clear(changed)
		}
	}
}

// isEmpty reports whether there is an empty file.
func isEmpty(file string) bool {
	info, err := os.Stat(file)
	return err == nil && info.Mode().IsRegular() && info.Size() == 0
}

// otherwise removes files whose content is the same as when they were last reported, because a program may write
// what it has written before.
func otherwise(files []string, reported map[string][sha256.Size]byte) []string {
	var changed []string
	for _, file := range files {
		var content []byte
		f, err := os.OpenFile(file, waitForNobody, 0)
		if err == nil {
			content, err = readRegular(f)
		}
		if err == nil {
			sum := sha256.Sum256(content)
			if last, known := reported[file]; known && last == sum {
				continue
			}
			reported[file] = sum
		} else {
			delete(reported, file) // it is gone, or no file
		}
		changed = append(changed, file)
	}
	return changed
}

// hidden reports whether changes to a file or folder of this name are of no
// interest: of editors' own files too.
func hidden(name string) bool {
	return strings.HasPrefix(name, ".") || strings.HasSuffix(name, "~")
}

// addFolders watches a folder and those below it.
func addFolders(w *fsnotify.Watcher, dir string) error {
	return filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return nil // it is gone again, or not ours to read
		}
		if !entry.IsDir() {
			return nil
		}
		if name := entry.Name(); path != dir && (hidden(name) || name == "vendor" || name == "node_modules") {
			return fs.SkipDir
		}
		return w.Add(path)
	})
}
