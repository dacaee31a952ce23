package host

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"fernrelay/core/catalog"
)

// late takes a notification that comes when no test was asked for.
func (s *session) late(method string, note Note) {
	switch method {
	case NoteOutput:
		_, _ = outputOf{s}.Write([]byte(note.Text))
	case NoteFinished:
		s.strange(catalog.ID(s.adapter.Suite, note.Group, note.Name), note, "after it had answered "+MethodRun)
	}
}

// ask calls a method that runs no test. A host that does not answer in time is killed; 0 is no limit.
func (s *session) ask(limit time.Duration, method string, params, answer any) error {
	late := make(chan struct{})
	if limit > 0 {
		timer := time.AfterFunc(limit, func() {
			close(late)
			s.kill()
		})
		defer timer.Stop()
	}
	err := s.call(method, params, answer, s.late)
	select {
	case <-late:
		if err != nil {
			return fmt.Errorf("it did not answer %s within %s, and was killed", method, limit)
		}
	default:
	}
	return err
}

// call sends a request and waits for its answer; notifications on the way go to hear. A line that is no message of
// the protocol is output of the running test.
func (s *session) call(method string, params, answer any, hear func(method string, note Note)) error {
	s.calls++
	id := s.calls
	raw, err := json.Marshal(params)
	if err != nil {
		return err
	}
	line, err := json.Marshal(Message{Version: "2.0", ID: &id, Method: method, Params: raw})
	if err != nil {
		return err
	}
	if _, err := s.stdin.Write(append(line, '\n')); err != nil {
		return err
	}
	var m message
	for {
		if !s.lines.Scan() {
			if err := s.lines.Err(); err != nil {
				return fmt.Errorf("its answer cannot be read: %w", err)
			}
			return errors.New("its process ended")
		}
		text, ours := s.lines.Bytes(), s.secret == ""
		if !ours {
			text, ours = bytes.CutPrefix(text, []byte(s.secret+" "))
		}
		m = message{} // one for all, as there may be very many
		err := json.Unmarshal(text, &m)
		if m.Version != "2.0" || !ours {
			_, _ = outputOf{s}.Write(append(s.lines.Bytes(), '\n'))
			continue
		}
		switch {
		case err != nil:
			return fmt.Errorf("its message %s does not parse: %w", m.Method, err)
		case m.Method != "" && hear != nil:
			hear(m.Method, m.Params)
		case m.Method != "" || m.ID == nil || *m.ID != id:
		case m.Error != nil:
			return m.Error
		case answer == nil:
			return nil
		default:
			return json.Unmarshal(m.Result, answer)
		}
	}
}

// outputOf adds what a process prints outside the protocol to the output of the running test.
type outputOf struct{ session *session }

func (o outputOf) Write(data []byte) (int, error) {
	s := o.session
	s.mu.Lock()
	id, batch := s.running, s.batch
	if (batch == nil || id == "") && len(s.stray)+len(data) <= tailLimit {
		s.stray = append(s.stray, data...)
	}
	s.mu.Unlock()
	if batch != nil && id != "" {
		batch.Output(id, data)
	}
	return len(data), nil
}
