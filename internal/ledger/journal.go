package ledger

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"fernrelay/core/run"
	"fernrelay/internal/format/events"
	"fernrelay/internal/owned"
)

// A Journal holds the events of a run that goes on, so that they are not lost with the process. It is a file of
// its own in the store's folder runs, locked as long as the process lives, and removed once the run is kept in the
// ledger. A nil *Journal does nothing.
//
//	{"pid":4711,"pick":"frost","tests":["u:g#a", …],"batches":[…]}    the task
//	{"event":"run", …}
//	{"event":"started","id":"u:g#a", …}
//	{"event":"output","id":"u:g#a","text":"the valve leaks\n", …}      only of a test that ends badly
//	{"event":"finished","id":"u:g#a","outcome":"failed", …}
//
// The file is locked while its run goes on. One that is not locked any more and has no end is the journal of a run that was killed.
type Journal struct {
	store string // that it is in
	name  string
	task  Task
	file  *os.File
	lines *events.Writer
	open  map[string]*run.Result // tests that run and printed something, by ID, with their output
}

// Task says what a run was to do. It is the first line of a journal.
type Task struct {
	PID int `json:"pid"` // of the process that runs it
	run.Meta
	InOrder bool     `json:"in_order"`
	Tests   []string `json:"tests"` // IDs, in the order to run

	Batches []TaskBatch `json:"batches"` // in the order in which they are taken
}

// Record returns the record of the task's run, with the journal that it had.
func (t Task) Record(journal string) run.Record {
	k := run.Record{Meta: t.Meta}
	if journal != "" {
		k.Journal = filepath.Base(journal)
	}
	return k
}

// TaskBatch is a batch of a task.
type TaskBatch struct {
	Worker int    `json:"worker,omitempty"` // the only one that takes it; 0 for whichever is free
	Apart  string `json:"apart,omitempty"`  // batches with the same value never run side by side
	Tests  []int  `json:"tests"`            // by their places in the task's
}

const (
	journalFolder = "runs"
	journalEnding = ".jsonl"
	floodsEnding  = ".output"
	killedName    = "killed.jsonl"
)

// BeginJournal begins the journal of a run in a project's store.
func BeginJournal(store string, task Task) (*Journal, error) {
	folder := filepath.Join(store, journalFolder)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	removeFloods(store)
	file, err := os.CreateTemp(folder, "new-*"+journalEnding)
	if err != nil {
		return nil, err
	}
	name := filepath.Join(folder, "run-"+strings.TrimPrefix(filepath.Base(file.Name()), "new-"))
	err = json.NewEncoder(file).Encode(task)
	if err == nil && syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
		// Others find it from now on, locked and with its task.
		err = renameData(store, file.Name(), name)
	} else {
		// Without locks nobody could distinguish a run that goes on from one that was killed, so nobody is to find
		// this one.
		err = errors.Join(err, owned.RemoveFile(file))
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return &Journal{store, name, task, file, events.NewWriter(file), map[string]*run.Result{}}, nil
}

// Write adds an event to the journal. Output, which may be endless, it writes only of tests that end badly, just before
// their end, and only the part that a run keeps.
func (j *Journal) Write(e run.Event) {
	switch {
	case j == nil:
		return
	case e.Event == run.Output:
		j.hold(e)
		return
	case e.Event == run.Finished:
		j.writeOutput(e)
	}
	j.lines.Write(e)
}

// hold keeps what a running test prints until its end.
func (j *Journal) hold(e run.Event) {
	if j.open[e.ID] == nil {
		j.open[e.ID] = &run.Result{}
	}
	j.open[e.ID].Keep(e.Text)
}

// writeOutput writes the output of a test if it ends badly, and drops it.
func (j *Journal) writeOutput(end run.Event) {
	if r := j.open[end.ID]; r != nil && end.Outcome.Bad() {
		j.lines.Write(run.Event{Event: run.Output, ID: end.ID, At: end.At, Worker: end.Worker, Batch: end.Batch, Text: string(r.Output)})
	}
	delete(j.open, end.ID)
}

// Floods is the folder for output of this run that is too much to keep with it, empty for none. It
// stays until the next run begins.
func (j *Journal) Floods() string {
	if j == nil {
		return ""
	}
	return strings.TrimSuffix(j.name, journalEnding) + floodsEnding
}

// renameData moves a file of a store to another name in it.
func renameData(store, from, to string) error {
	data, err := owned.OpenData(store)
	if err != nil {
		return err
	}
	return errors.Join(data.Rename(nameIn(store, from), nameIn(store, to)), data.Close())
}

// removeData removes a file or folder of a store. It is no error if there is none.
func removeData(store, path string) error { return owned.RemoveData(store, nameIn(store, path)) }

// nameIn returns a path relative to the store that it is in.
func nameIn(store, path string) string {
	name, err := filepath.Rel(store, path)
	if err != nil {
		return "" // which nothing has as its name
	}
	return name
}

// journals lists what is in the folder of journals of a store with an ending.
func journals(store, ending string) (paths []string) {
	folder := filepath.Join(store, journalFolder)
	entries, _ := os.ReadDir(folder) // none if there is no folder yet
	for _, entry := range entries {
		if strings.HasPrefix(entry.Name(), "run-") && strings.HasSuffix(entry.Name(), ending) && entry.Type()&fs.ModeSymlink == 0 {
			paths = append(paths, filepath.Join(folder, entry.Name()))
		}
	}
	return paths
}

// removeFloods removes the floods of runs without a journal.
func removeFloods(store string) {
	for _, dir := range journals(store, floodsEnding) {
		if _, err := os.Stat(strings.TrimSuffix(dir, floodsEnding) + journalEnding); errors.Is(err, fs.ErrNotExist) {
			_ = removeData(store, dir) // else the next run does it
		}
	}
}

// MakeRoom makes room on a full disk: it removes the floods of runs that have ended, and of their journals
// everything but the outcomes. It returns how many bytes that frees.
func MakeRoom(store string) (freed int64) {
	for _, name := range journals(store, journalEnding) {
		file, err := os.OpenFile(name, os.O_RDWR, 0)
		if err != nil {
			continue
		}
		if syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
			floods := strings.TrimSuffix(name, journalEnding) + floodsEnding
			freed += sizeOf(floods) + compact(file)
			_ = removeData(store, floods) // else the next run does it
		}
		file.Close()
	}
	return freed
}

func sizeOf(dir string) (size int64) {
	_ = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if info, err := d.Info(); err == nil {
				size += info.Size()
			}
		}
		return nil
	})
	return size
}

// compact removes everything but the outcomes from a journal whose process is gone. It returns how many bytes
// shorter the file is.
func compact(file *os.File) int64 {
	k, err := readJournal(file)
	before, sizeErr := file.Seek(0, io.SeekEnd)
	if err != nil || sizeErr != nil || len(k.Task.Tests) == 0 {
		return 0
	}
	text, err := summary(k.Task, k.Run)
	if err != nil || int64(len(text)) >= before || rewrite(file, text) != nil {
		return 0
	}
	return before - int64(len(text))
}

// summary is a journal of a run that holds its outcomes and nothing else.
func summary(task Task, r *run.Run) ([]byte, error) {
	var text bytes.Buffer
	if err := json.NewEncoder(&text).Encode(task); err != nil {
		return nil, err
	}
	lines := events.NewWriter(&text)
	r.Replay(func(e run.Event) {
		if e.Event == run.RunBegins || e.Event == run.Finished {
			lines.Write(e)
		}
	})
	err := lines.Close()
	return text.Bytes(), err
}

// rewrite replaces what is in a file, in its place, as a full disk has no room for another file.
func rewrite(file *os.File, text []byte) error {
	if _, err := file.WriteAt(text, 0); err != nil {
		return err
	}
	return file.Truncate(int64(len(text)))
}

// End removes the journal, as its run is kept.
func (j *Journal) End() error {
	if j == nil {
		return nil
	}
	_ = j.lines.Close() // the ledger has its content
	return errors.Join(removeData(j.store, j.name), j.file.Close())
}

// Leave leaves the journal of a run that has ended and could not be kept: the next process that opens
// the ledger keeps it. If the journal is not whole, as on a full disk, the outcomes take the place of the rest.
func (j *Journal) Leave(run *run.Run) error {
	if j == nil {
		return nil
	}
	err := j.lines.Close()
	if err != nil {
		text, summaryErr := summary(j.task, run)
		if summaryErr == nil && rewrite(j.file, text) == nil {
			err = nil
		}
	}
	return errors.Join(err, j.file.Close())
}

// Name is the name of the journal's file, empty for none.
func (j *Journal) Name() string {
	if j == nil {
		return ""
	}
	return j.name
}
