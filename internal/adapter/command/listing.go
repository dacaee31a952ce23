package command

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/plain"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
)

// listed is a line of the list command's output in its JSON form.
type listed struct {
	Group string        `json:"group"`
	Name  string        `json:"name"`
	Kind  catalog.Kind  `json:"kind"`
	File  string        `json:"file"` // relative to the suite's folder
	Line  int           `json:"line"`
	Tags  []string      `json:"tags"`
	Rules catalog.Rules `json:"rules"`
}

// Discover runs the list command and reads its lines.
func (a *Adapter) Discover(ctx context.Context) (found adapter.Found, err error) {
	limited, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	if a.Limits.Idle > 0 {
		late := fmt.Errorf("it was still running after %s, and was killed", a.Limits.Idle)
		defer time.AfterFunc(a.Limits.Idle, func() { cancel(late) }).Stop()
	}
	cmd := process.Command(limited, a.Dir, process.Slot{}, a.List[0], a.List[1:]...)
	number, size := 0, 0
	lines := &process.LineWriter{Limit: maxLine, Line: func(text string) error {
		number++
		size += len(text) + 1
		var err error
		switch text = strings.TrimSuffix(text, "\r"); {
		case size > maxList:
			err = fmt.Errorf("it prints more than %d MB", maxList>>20)
		case strings.TrimSpace(text) != "":
			err = a.parseLine(&found, text)
		}
		if err != nil {
			cancel(nil) // nobody reads the rest
		}
		return err
	}}
	stderr := &process.Tail{Limit: messageLimit}
	cmd.Stdout, cmd.Stderr = lines, stderr
	err = cmd.Run()
	if wrong := lines.Close(); wrong != nil {
		return found, fmt.Errorf("line %d of what the list command of suite %s prints: %w", max(1, number), a.Suite, wrong)
	}
	if err != nil {
		return found, a.failed(limited, err, stderr.String())
	}
	found.Close(listName)
	a.names = catalog.NamesOf(found.Tests)
	if note := a.shellNote(); note != "" {
		found.Notes = append(found.Notes, note)
	}
	if len(found.Tests) == 0 {
		found.Nothing = fmt.Sprintf("ran %q in %s, which ended with exit status 0 and printed nothing on its standard output: it should print the name of one test per line",
			strings.Join(a.List, " "), a.Dir)
	}
	return found, nil
}

// listName is how messages name the source of what a list command says.
const listName = "the list command"

// failed says why the list command gave no list.
func (a *Adapter) failed(ctx context.Context, err error, said string) error {
	command := strings.Join(a.List, " ")
	var exit *exec.ExitError
	cause := context.Cause(ctx)
	switch {
	case errors.Is(cause, context.Canceled):
		return cause
	case cause != nil:
		return fmt.Errorf("the list command %q of suite %s: %w: %s", command, a.Suite, cause, plain.Line(process.LastLines(said, messageLimit)))
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("the list command %q of suite %s is not executable: chmod +x %s", command, a.Suite, a.List[0])
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, exec.ErrNotFound):
		return fmt.Errorf("the list command %q of suite %s is not there: look into list in fern.toml; it runs in %s", command, a.Suite, a.Dir)
	case errors.As(err, &exit):
		return fmt.Errorf("the list command %q of suite %s failed with %s: %s", command, a.Suite, process.Ending(err), plain.Line(process.LastLines(said, messageLimit)))
	}
	return fmt.Errorf("the list command %q of suite %s: %w", command, a.Suite, err)
}

// parseLine reads a line: a name, or a JSON object. Without a group it is in that which the suite cuts from the name, or else in the
// folder that the name begins with.
func (a *Adapter) parseLine(found *adapter.Found, text string) error {
	reported := listed{Name: strings.TrimSpace(text)}
	if strings.HasPrefix(reported.Name, "{") {
		reported.Name = ""
		decoder := json.NewDecoder(strings.NewReader(text))
		decoder.DisallowUnknownFields()
		if err := decoder.Decode(&reported); err != nil {
			if strings.Contains(err.Error(), `unknown field "marks"`) {
				return errors.New("its field marks is now called rules")
			}
			return fmt.Errorf("it does not parse: %w", err)
		}
	}
	t := catalog.Test{Suite: a.Suite, Group: cmp.Or(reported.Group, a.groupOf(reported.Name)), Name: reported.Name,
		Kind: cmp.Or(reported.Kind, catalog.KindScript), Line: reported.Line}
	if found.Repeated(catalog.ID(t.Suite, t.Group, t.Name)) {
		return nil
	}
	if info, err := os.Stat(filepath.Join(a.Dir, reported.Name)); reported.File == "" && err == nil && info.Mode().IsRegular() {
		reported.File = reported.Name // the name of a script is its place
	}
	if reported.File != "" {
		t.File = path.Join(a.Below, reported.File)
	}
	return found.Add(t, reported.Tags, reported.Rules, listName)
}

// groupOf returns the group of a test by its name.
func (a *Adapter) groupOf(name string) string {
	if a.Group != nil {
		if match := a.Group.FindStringSubmatch(name); match != nil && match[1] != "" {
			return match[1]
		}
	}
	return path.Dir(name)
}
