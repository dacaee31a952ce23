package ledger

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"syscall"
	"time"

	"fernrelay/core/run"
)

// Running returns the journal of a run that goes on in a store, of several the one that began last; "" if there is
// none.
func Running(store string) (journal string, err error) {
	var latest time.Time
	for _, name := range journals(store, journalEnding) {
		info, err := os.Stat(name)
		if err != nil || journal != "" && info.ModTime().Before(latest) || !lives(name) {
			continue
		}
		journal, latest = name, info.ModTime()
	}
	return journal, nil
}

// lives reports whether the process that writes a journal lives.
func lives(name string) bool {
	file, err := os.Open(name)
	if err != nil {
		return false // it has ended this moment
	}
	defer file.Close()
	return syscall.Flock(int(file.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) != nil
}

// followEvery is the time between two looks for more in a journal.
const followEvery = 50 * time.Millisecond

// Follow reads the journal of a run that goes on. It calls begin with what the run does, and then sends its events
// to the sink as they are written, until the run is kept or its process is gone. Then it ends a run that did not
// end.
func Follow(ctx context.Context, journal string, begin func(Task), sink run.Sink) error {
	file, err := os.Open(journal)
	if err != nil {
		return err
	}
	defer file.Close()
	lines := bufio.NewReaderSize(file, 1<<20)
	var line []byte
	began, ended, gone := false, false, false
	for {
		more, err := lines.ReadBytes('\n')
		line = append(line, more...)
		switch {
		case err == nil && !began:
			var task Task
			if err := json.Unmarshal(line, &task); err != nil {
				return fmt.Errorf("the journal %s: %w", journal, err)
			}
			began = true
			begin(task)
		case err == nil:
			var e run.Event
			if err := json.Unmarshal(run.NewWords(line), &e); err != nil {
				return fmt.Errorf("the journal %s: %w", journal, err)
			}
			ended = ended || e.Event == run.RunEnds
			sink(e)
		case !errors.Is(err, io.EOF):
			return err
		case gone:
			if !ended {
				sink(run.Event{Event: run.RunEnds, At: time.Now(), Failure: run.Failure{Message: "its process was killed"}})
			}
			return nil
		}
		if err == nil {
			line = line[:0]
			continue
		}
		if gone = !lives(journal); gone {
			continue // to what was written since
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(followEvery):
		}
	}
}
