package app

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernrelay/core/lazy"
	"fernrelay/internal/format/junit"
)

// reportEndings are the endings of the files that are taken out of a folder.
var reportEndings = []string{".xml", ".tap", ".json", ".jsonl", ".ndjson"}

// reportFiles returns the files of places, in the order of their runs.
func reportFiles(places []string) ([]string, error) {
	var files []string
	for _, place := range places {
		info, err := os.Stat(place)
		switch {
		case err == nil && info.IsDir():
			err = filepath.WalkDir(place, func(path string, d fs.DirEntry, err error) error {
				if err == nil && d.Type().IsRegular() && slices.Contains(reportEndings, strings.ToLower(filepath.Ext(path))) && !isOther(path) {
					files = append(files, path)
				}
				return err
			})
			if err != nil {
				return nil, err
			}
		case err == nil:
			files = append(files, place)
		default:
			found, globErr := filepath.Glob(place)
			if globErr != nil {
				return nil, fmt.Errorf("%s is no file, and as a glob it is wrong: %w", place, globErr)
			}
			if len(found) == 0 {
				return nil, err
			}
			files = append(files, found...)
		}
	}
	if len(files) == 0 {
		return nil, fmt.Errorf("there is no report in %s: files ending in %s are looked for", strings.Join(places, ", "), strings.Join(reportEndings, ", "))
	}
	slices.Sort(files)
	files = slices.Compact(files)
	times := make(map[string]time.Time, len(files))
	for _, file := range files {
		times[file] = timeOf(file)
	}
	slices.SortStableFunc(files, func(a, b string) int { return times[a].Compare(times[b]) })
	return files, nil
}

// firstElement is the first element of an XML document.
var firstElement = lazy.Regexp(`<([A-Za-z][\w:.-]*)`)

// isOther reports whether a file among reports is clearly something else, such as a configuration. An empty or
// unreadable file is not, because reading it reports the reason.
func isOther(file string) bool {
	head := bytes.TrimSpace(bytes.TrimPrefix(headOf(file), []byte("\ufeff")))
	switch {
	case len(head) == 0:
		return false
	case head[0] == '<':
		first := firstElement().FindSubmatch(head)
		return first != nil && !bytes.HasPrefix(first[1], []byte("testsuite"))
	case head[0] == '{' || head[0] == '[':
		return !bytes.HasPrefix(head, []byte(`{"event":`)) && !bytes.Contains(head, []byte(`"Action":`))
	}
	return false
}

// headOf returns the beginning of a file, empty if it cannot be read.
func headOf(file string) []byte {
	f, err := os.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	head := make([]byte, 16<<10)
	n, _ := io.ReadFull(f, head) // as much as there is
	return head[:n]
}

// timestampPattern is a time in the beginning of a report.
var timestampPattern = lazy.Regexp(`(?:timestamp="|"(?:Time|at)":")(\d{4}-\d\d-\d\dT[\d:.]+(?:Z|[+-]\d\d:\d\d)?)"`)

// timeOf returns when the run of a report began, if its beginning says so, or else when the file was written.
func timeOf(file string) time.Time {
	head := headOf(file)
	has := func(sign string) bool { return bytes.Contains(head, []byte(sign)) } // which is quicker to see
	if !has(`timestamp="`) && !has(`"Time":"`) && !has(`"at":"`) {
		head = nil
	}
	if m := timestampPattern().FindSubmatch(head); m != nil {
		if t, ok := junit.Time(string(m[1])); ok { // as the other formats have it, too
			return t
		}
	}
	info, err := os.Stat(file)
	if err != nil {
		return time.Time{} // reading it reports the reason
	}
	return info.ModTime()
}
