package engine

import (
	"errors"
	"fmt"
	"os"

	"fernrelay/core/outcome"
)

// What becomes of the output of one test, in bytes: the head is told as it comes and
// the tail when the test ends; what lies between goes to a file, up to a cap.
const (
	floodHead = 256 << 10
	floodTail = 12 << 10 // so that it is kept with the words before it, see outcome.Run
	floodCap  = 64 << 20
)

// flood is the output of one test. All of it from its beginning goes to the file,
// once it is more than the head.
type flood struct {
	head  []byte // until there is a file
	tail  []byte // the newest behind the head
	total int64
	file  *os.File
	kept  int64 // bytes in the file
	err   error // why there is no more in it
}

// print tells what a test prints as long as it is not too much.
func (r *run) print(e outcome.Event) {
	f := r.floods[e.ID]
	if f == nil {
		f = &flood{}
		r.floods[e.ID] = f
	}
	f.total += int64(len(e.Text))
	if f.total <= floodHead {
		f.head = append(f.head, e.Text...)
		r.sink(e)
		return
	}
	if f.file == nil && f.err == nil {
		f.file, f.err = r.floodFile(e.ID)
		f.keep(string(f.head))
		f.head = nil
	}
	f.keep(e.Text)
	f.tail = append(f.tail, e.Text[max(0, len(e.Text)-floodTail):]...)
	if len(f.tail) > 2*floodTail {
		f.tail = append(f.tail[:0], f.tail[len(f.tail)-floodTail:]...)
	}
}

// keep writes to the file what still has room there.
func (f *flood) keep(text string) {
	text = text[:min(int64(len(text)), floodCap-f.kept)]
	if f.err != nil || text == "" {
		return
	}
	n, err := f.file.WriteString(text)
	f.kept, f.err = f.kept+int64(n), err
}

// floodFile makes the file for a test's output.
func (r *run) floodFile(id string) (*os.File, error) {
	if r.job.Floods == "" {
		return nil, errors.New("it is kept nowhere")
	}
	if err := os.MkdirAll(r.job.Floods, 0o755); err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(r.job.Floods, "output-*.txt")
	if err == nil {
		_, err = fmt.Fprintf(file, "# what %s printed\n", outcome.PlainLine(id))
	}
	return file, err
}

// ebb tells the end of a test's output where it was too much, as the test ends.
func (r *run) ebb(e outcome.Event) {
	f := r.floods[e.ID]
	delete(r.floods, e.ID)
	if f.total <= floodHead {
		return
	}
	if f.file != nil {
		f.err = errors.Join(f.err, f.file.Close())
	}
	tail := f.tail[max(0, len(f.tail)-floodTail):]
	r.sink(outcome.Event{Event: outcome.Output, ID: e.ID, Worker: e.Worker, Batch: e.Batch, At: e.At,
		Text: fmt.Sprintf("\n… output left out here …\n%s\n… it printed %.1f MB: %s", tail, float64(f.total)/1e6, f.where())})
}

// where says where the output is that was not told.
func (f *flood) where() string {
	if f.file == nil {
		return fmt.Sprintf("no file holds them: %v", f.err)
	}
	where := fmt.Sprintf("the first %.1f MB are in %s", float64(f.kept)/1e6, f.file.Name())
	if f.err != nil {
		where += fmt.Sprintf(" (%v)", f.err)
	}
	return where
}
