// Package command finds and runs the tests of any program: one command lists
// them, another runs one of them in a process of its own, and its exit status is
// the result.
//
//	list = "./list-checks"      # a name a line, or JSON lines
//	run = "./check --only {name}"
package command

import (
	"bufio"
	"bytes"
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
	"slices"
	"strconv"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/outcome"
	"fernrelay/internal/adapter"
)

// Config is what a suite behind commands needs to know.
type Config struct {
	Suite   string
	Dir     string        // the suite's folder, absolute: where the commands run
	Below   string        // the suite's folder as seen from the project, with slashes
	List    []string      // the command that lists the tests, with its arguments
	Run     []string      // the command that runs one, with placeholders
	Timeout time.Duration // of one test
}

// Placeholders are what the words of Run may hold, each between braces.
var Placeholders = []string{"name", "file", "slot", "tmp"}

// Adapter finds and runs the tests of one suite.
type Adapter struct{ Config }

// New makes the adapter. The error names a placeholder that there is not.
func New(config Config) (*Adapter, error) {
	for _, word := range config.Run {
		for rest := word; ; {
			_, after, opens := strings.Cut(rest, "{")
			name, behind, closes := strings.Cut(after, "}")
			if !opens || !closes {
				break
			}
			if !slices.Contains(Placeholders, name) {
				return nil, fmt.Errorf("run has the placeholder {%s}: there are {%s}", name, strings.Join(Placeholders, "} {"))
			}
			rest = behind
		}
	}
	return &Adapter{config}, nil
}

// listed is a line of the list command's output in its JSON form.
type listed struct {
	Group string        `json:"group"`
	Name  string        `json:"name"`
	Kind  catalog.Kind  `json:"kind"`
	File  string        `json:"file"` // relative to the suite's folder
	Line  int           `json:"line"`
	Tags  []string      `json:"tags"`
	Marks catalog.Marks `json:"marks"`
}

// Discover runs the list command and reads its lines.
func (a *Adapter) Discover(ctx context.Context) (found adapter.Found, err error) {
	cmd := adapter.Command(ctx, a.Dir, adapter.Slot{}, a.List[0], a.List[1:]...)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Run(); err != nil {
		return found, a.failed(err, stderr.String())
	}
	lines := bufio.NewScanner(&stdout)
	lines.Buffer(nil, maxLine)
	for n := 1; lines.Scan(); n++ {
		text := strings.TrimSuffix(lines.Text(), "\r")
		if strings.TrimSpace(text) == "" {
			continue
		}
		if err := a.tell(&found, text); err != nil {
			return found, fmt.Errorf("line %d of what the list command of suite %s prints: %w", n, a.Suite, err)
		}
	}
	if err := lines.Err(); err != nil {
		return found, fmt.Errorf("what the list command of suite %s prints cannot be read: %w", a.Suite, err)
	}
	if len(found.Tests) == 0 {
		found.Nothing = fmt.Sprintf("ran %q in %s, which ended well and printed nothing on its standard output: it should print the name of a test a line",
			strings.Join(a.List, " "), a.Dir)
	}
	return found, nil
}

// maxLine bounds one line of the list command, in bytes.
const maxLine = 1 << 20

// failed says why the list command gave no list.
func (a *Adapter) failed(err error, said string) error {
	command := strings.Join(a.List, " ")
	var exit *exec.ExitError
	switch {
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("the list command %q of suite %s is not executable: chmod +x %s", command, a.Suite, a.List[0])
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, exec.ErrNotFound):
		return fmt.Errorf("the list command %q of suite %s is not there: look into list in fern.toml; it runs in %s", command, a.Suite, a.Dir)
	case errors.As(err, &exit):
		return fmt.Errorf("the list command %q of suite %s failed with %s: %s", command, a.Suite, adapter.Ending(err), outcome.PlainLine(lastLines(said)))
	}
	return fmt.Errorf("the list command %q of suite %s: %w", command, a.Suite, err)
}

// tell reads a line: a name, whose folder is its group, or a JSON object.
func (a *Adapter) tell(found *adapter.Found, text string) error {
	told := listed{Name: strings.TrimSpace(text)}
	if strings.HasPrefix(told.Name, "{") {
		told.Name = ""
		decoder := json.NewDecoder(strings.NewReader(text))
		decoder.DisallowUnknownFields()
		if err := decoder.Decode(&told); err != nil {
			return fmt.Errorf("it does not parse: %w", err)
		}
	}
	if info, err := os.Stat(filepath.Join(a.Dir, told.Name)); told.File == "" && err == nil && info.Mode().IsRegular() {
		told.File = told.Name // the name of a script is its place
	}
	t := catalog.Test{Suite: a.Suite, Group: cmp.Or(told.Group, path.Dir(told.Name)), Name: told.Name,
		Kind: cmp.Or(told.Kind, catalog.KindScript), Line: told.Line}
	if told.File != "" {
		t.File = path.Join(a.Below, told.File)
	}
	return found.Tell(t, told.Tags, told.Marks, "the list command")
}

// Touched knows of no files but those that tests stand in, which go without saying.
func (a *Adapter) Touched([]string) (func(*catalog.Test) bool, error) {
	return func(*catalog.Test) bool { return false }, nil
}

// Prepare has nothing to make ready.
func (a *Adapter) Prepare(context.Context, []catalog.Test) error { return nil }

// Scope is the group: no process holds more than one test, and what tests leave
// outside of their processes is looked for in their own group.
func (a *Adapter) Scope() adapter.Scope { return adapter.ScopeGroup }

// Open makes a session, which has no process of its own.
func (a *Adapter) Open(_ context.Context, slot adapter.Slot) (adapter.Session, error) {
	return &session{a, slot}, nil
}

type session struct {
	adapter *Adapter
	slot    adapter.Slot
}

// Run runs each test in a process of its own.
func (s *session) Run(ctx context.Context, tests []catalog.Test, sink outcome.Sink) error {
	batch := adapter.NewBatch(tests, s.adapter.Timeout, sink)
	for next := batch.Next(); len(next) > 0; next = batch.Next() {
		if err := s.one(ctx, &next[0], batch); err != nil {
			return err
		}
	}
	return nil
}

func (s *session) one(ctx context.Context, t *catalog.Test, batch *adapter.Batch) error {
	words := s.words(t)
	cmd := adapter.Command(ctx, s.adapter.Dir, s.slot, words[0], words[1:]...)
	cmd.Stdout = printed{batch, t.ID}
	cmd.Stderr = cmd.Stdout
	ready := make(chan struct{})
	batch.Begin(func() {
		<-ready
		_ = adapter.KillGroup(cmd)
	})
	batch.Started(t.ID)
	err := cmd.Start()
	close(ready)
	if err != nil {
		batch.Finished(outcome.Event{ID: t.ID, Outcome: outcome.Errored, File: t.File, Line: t.Line, Message: "it cannot be started: " + err.Error()})
		return ctx.Err()
	}
	err = cmd.Wait()
	_ = adapter.KillGroup(cmd) // what the process left behind in its group
	if ctx.Err() != nil {
		return ctx.Err()
	}
	ending, last := adapter.Ending(err), lastLines(batch.Words(t.ID))
	e := outcome.Event{ID: t.ID, Outcome: outcome.Passed, File: t.File, Line: t.Line}
	switch code := cmd.ProcessState.ExitCode(); {
	case code > 0:
		e.Outcome, e.Message = outcome.Failed, ending
		if last != "" {
			e.Message += ": " + last
		}
		e.Expected, e.Actual = outcome.Compared(last)
	case code < 0:
		batch.Ended(ending, func(string) (string, string, int) { return last, t.File, t.Line })
		return nil
	}
	batch.Finished(e)
	return nil
}

// words is the run command for a test.
func (s *session) words(t *catalog.Test) []string {
	file, err := filepath.Rel(filepath.FromSlash(s.adapter.Below), filepath.FromSlash(t.File))
	if err != nil {
		file = t.File
	}
	fill := strings.NewReplacer("{name}", t.Name, "{file}", file, "{slot}", strconv.Itoa(s.slot.Number), "{tmp}", s.slot.Temp)
	words := make([]string, len(s.adapter.Config.Run))
	for i, word := range s.adapter.Config.Run {
		words[i] = fill.Replace(word)
	}
	return words
}

// printed takes what the process of a test prints.
type printed struct {
	batch *adapter.Batch
	id    string
}

func (p printed) Write(data []byte) (int, error) {
	p.batch.Output(p.id, string(data))
	return len(data), nil
}

// lastLines is the end of what a command said, for a message.
func lastLines(said string) string {
	lines := strings.Split(strings.TrimSpace(said), "\n")
	return strings.Join(lines[max(0, len(lines)-3):], "\n")
}

// Probe says that a program of any kind cannot tell its state.
func (s *session) Probe(context.Context, []catalog.Test) ([]hunt.Value, error) {
	return nil, errors.New("the tests are programs, which do not tell their state")
}

// Reset has nothing to do: every test begins a process of its own.
func (s *session) Reset(context.Context) error { return nil }

// Close has nothing to do: no process outlives Run.
func (s *session) Close() error { return nil }
