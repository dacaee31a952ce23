package testhost

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/core/hunt"
	"fernrelay/internal/adapter/host"
	"fernrelay/internal/owned"
)

// Serve answers the protocol's requests until bye or the end of the input.
// Shared files of the tests are kept below the slot's folder for temporary files.
func Serve(in io.Reader, out io.Writer) error {
	s := &server{encoder: json.NewEncoder(out)}
	for _, t := range registered {
		s.tests = append(s.tests, t())
	}
	slices.SortStableFunc(s.tests, func(a, b test) int { return strings.Compare(a.Group, b.Group) })
	defer s.end()
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var m host.Message
		if err := json.Unmarshal(lines.Bytes(), &m); err != nil {
			return fmt.Errorf("a request does not parse: %w", err)
		}
		result, err := s.answer(m)
		if err := s.reply(m.ID, result, err); err != nil {
			return err
		}
		if m.Method == host.MethodBye {
			return nil
		}
	}
	return lines.Err()
}

type server struct {
	encoder *json.Encoder
	tests   []test
	folder  *owned.Folder // nil before hello
	temp    string        // in folder, for the files that tests share
}

// sharedName is the folder of shared files in the server's own.
const sharedName = "shared"

// end removes the shared files.
func (s *server) end() {
	if s.folder != nil {
		_ = s.folder.Remove() // else with the slot
	}
}

// makeFolder makes the folder of shared files below that of the slot.
func (s *server) makeFolder(below string) (err error) {
	if s.folder, err = owned.MakeFolder(below); err == nil {
		s.temp, err = s.folder.Mkdir(sharedName)
	}
	return err
}

func (s *server) reply(id *int, result any, problem error) error {
	m := host.Message{Version: "2.0", ID: id}
	if problem != nil {
		m.Error = &host.Error{Code: 1, Message: problem.Error()}
		return s.encoder.Encode(m)
	}
	var err error
	if m.Result, err = json.Marshal(result); err != nil {
		return err
	}
	return s.encoder.Encode(m)
}

func (s *server) answer(m host.Message) (any, error) {
	switch m.Method {
	case host.MethodHello:
		var params host.HelloParams
		if err := json.Unmarshal(m.Params, &params); err != nil {
			return nil, err
		}
		return host.HelloResult{Protocol: host.Protocol, Name: "glasshouse"}, s.makeFolder(params.Temp)
	case host.MethodDiscover:
		found := host.DiscoverResult{}
		for _, t := range s.tests {
			found.Tests = append(found.Tests, t.Test)
		}
		return found, nil
	case host.MethodRun:
		return struct{}{}, s.run(m.Params)
	case host.MethodReset:
		return struct{}{}, s.reset()
	case host.MethodState:
		return s.state()
	case host.MethodRestore:
		return struct{}{}, s.restore(m.Params)
	case host.MethodBye:
		return struct{}{}, nil
	}
	return nil, fmt.Errorf("there is no method %q", m.Method)
}

func (s *server) run(raw json.RawMessage) error {
	var params host.RunParams
	if err := json.Unmarshal(raw, &params); err != nil {
		return err
	}
	byName := map[host.TestName]*test{}
	for i := range s.tests {
		byName[s.tests[i].TestName] = &s.tests[i]
	}
	var failed error
	for _, asked := range params.Tests {
		t := byName[asked.TestName]
		if t == nil {
			return fmt.Errorf("there is no test %s of group %s", asked.Name, asked.Group)
		}
		runTest(t, s.temp, asked.Steps, func(method string, note host.Note) {
			params, err := json.Marshal(note)
			if err == nil {
				err = s.encoder.Encode(host.Message{Version: "2.0", Method: method, Params: params})
			}
			if err != nil {
				failed = err
			}
		})
	}
	return failed
}

func (s *server) reset() error {
	for _, v := range variables {
		v.reset()
	}
	if s.folder == nil {
		return nil
	}
	return s.folder.Empty(sharedName)
}

// restore sets a variable or a shared file to what it is in a fresh process.
func (s *server) restore(raw json.RawMessage) error {
	var what host.RestoreParams
	if err := json.Unmarshal(raw, &what); err != nil {
		return err
	}
	for _, v := range variables {
		if what.Kind == hunt.Variable && what.Name == v.name {
			v.reset()
			return nil
		}
	}
	if what.Kind == hunt.File && s.folder != nil && filepath.IsLocal(what.Name) {
		return s.folder.RemoveBelow(path.Join(sharedName, what.Name))
	}
	return fmt.Errorf("the %s %s cannot be restored", what.Kind, what.Name)
}

// state returns the variables, the shared files, the environment and the working folder of this process.
func (s *server) state() (host.StateResult, error) {
	var values []hunt.Value
	for _, v := range variables {
		values = append(values, hunt.Value{Kind: hunt.Variable, Name: v.name, Text: v.text(), File: v.file, Line: v.line})
	}
	entries, err := os.ReadDir(s.temp)
	if err != nil {
		return host.StateResult{}, err
	}
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(s.temp, e.Name()))
		if err != nil {
			return host.StateResult{}, err
		}
		values = append(values, hunt.Value{Kind: hunt.File, Name: e.Name(), Text: string(text)})
	}
	values = append(values, hunt.EnvironmentValues(os.Environ())...)
	dir, err := os.Getwd()
	return host.StateResult{Values: append(values, hunt.Value{Kind: hunt.Folder, Name: "working folder", Text: dir})}, err
}
