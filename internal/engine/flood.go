package engine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/disk"
	"fernrelay/internal/owned"
	"fernrelay/internal/process"
)

// The output of one test is reported as it comes up to headLimit bytes, and its tail when the test ends; what is
// between goes to a file, up to a cap.
const (
	floodHead = adapter.Flood
	floodTail = 12 << 10 // so that it is kept with the words before it, see run.Run
	floodCap  = 64 << 20
)

// floodStore bounds the files of a run's floods. When they are full, those of passed tests go, the
// oldest first.
type floodStore struct {
	dir    string // made when there is something to keep; empty for no place
	room   int64  // in bytes; below 0 if it is not known yet
	passed []*flood
}

// Floods of one run take at most this many bytes, and at most one part in floodShare of what is free.
const (
	floodsCap  = 1 << 30
	floodShare = 10
)

// open makes the file of a flood.
func (s *floodStore) open(id string) (*os.File, error) {
	if s.dir == "" {
		return nil, errors.New("there is no room to keep it")
	}
	if err := os.MkdirAll(s.dir, 0o755); err != nil {
		return nil, err
	}
	if s.room < 0 {
		s.room = min(floodsCap, freeOn(s.dir)/floodShare)
	}
	file, err := os.CreateTemp(s.dir, "output-*.txt")
	if err == nil {
		_, err = fmt.Fprintf(file, "# what %s printed\n", plain.Line(id))
	}
	return file, err
}

// take takes room for some bytes and returns how many there is room for.
func (s *floodStore) take(bytes int64) int64 {
	for s.room < bytes && len(s.passed) > 0 {
		s.drop()
	}
	bytes = max(0, min(bytes, s.room))
	s.room -= bytes
	return bytes
}

// drop removes the oldest flood of a passed test.
func (s *floodStore) drop() {
	f := s.passed[0]
	s.passed = s.passed[1:]
	if f.made != nil && owned.RemoveMade(f.file.Name(), f.made) == nil {
		s.room += f.kept
	}
}

// freeOn returns how many bytes are free on the disk of a folder, if the system knows.
func freeOn(dir string) int64 {
	free, err := disk.Free(dir)
	if err != nil {
		return floodsCap * floodShare
	}
	return free
}

// flood is the output of one test. All of it from its beginning goes to the file,
// once it is more than the head.
type flood struct {
	head  []byte // until there is a file
	tail  []byte // the newest behind the head
	total int64
	file  *os.File
	made  fs.FileInfo // identifies the file once it is closed
	kept  int64       // bytes in the file
	err   error       // why no more is written to it
}

// print reports what a test prints as long as it is not too much.
func (r *execution) print(e run.Event) {
	f := r.floods[e.ID]
	if f == nil {
		f = &flood{}
		r.floods[e.ID] = f
	}
	f.total += int64(len(e.Text) + len(e.Bulk))
	if e.Bulk == nil && f.total <= floodHead {
		f.head = append(f.head, e.Text...)
		r.sink(e)
		return
	}
	if f.file == nil && f.err == nil {
		f.file, f.err = r.store.open(e.ID)
		f.keep(&r.store, f.head)
		f.head = nil
	}
	text := e.Bulk
	if text == nil {
		text = []byte(e.Text)
	}
	f.keep(&r.store, text)
	f.tail = process.AppendTail(f.tail, text, floodTail)
}

// keep writes to the file as much as there is room for.
func (f *flood) keep(s *floodStore, text []byte) {
	if f.err != nil {
		return
	}
	text = text[:s.take(min(int64(len(text)), floodCap-f.kept))]
	n, err := f.file.Write(text)
	if errors.Is(err, syscall.ENOSPC) && len(s.passed) > 0 {
		s.drop()
		var more int
		more, err = f.file.Write(text[n:])
		n += more
	}
	f.kept, f.err = f.kept+int64(n), err
}

// endFlood reports the end of a test's output that was too much, when the test ends.
func (r *execution) endFlood(e run.Event) {
	f := r.floods[e.ID]
	delete(r.floods, e.ID)
	if f.total <= floodHead {
		return
	}
	if f.file != nil {
		f.made, _ = f.file.Stat() // nil if the system does not identify it: it then stays
		f.err = errors.Join(f.err, f.file.Close())
		if e.Outcome == run.Passed {
			r.store.passed = append(r.store.passed, f)
		}
	}
	tail := f.tail[max(0, len(f.tail)-floodTail):]
	r.sink(run.Event{Event: run.Output, ID: e.ID, Worker: e.Worker, Batch: e.Batch, At: e.At,
		Text: fmt.Sprintf("\n… output left out here …\n%s\n… it printed %.1f MB: %s", tail, float64(f.total)/1e6, f.where())})
}

// where says where the output is that was not reported.
func (f *flood) where() string {
	if f.file == nil {
		return fmt.Sprintf("no file has them: %v", f.err)
	}
	where := fmt.Sprintf("the first %.1f MB are in %s", float64(f.kept)/1e6, f.file.Name())
	if f.err != nil {
		where += fmt.Sprintf(" (%v)", f.err)
	}
	return where
}
