// Package service starts real servers that tests need, such as databases and caches, waits until they are ready, and stops
// them.
//
//	s, err := service.Start(ctx, spec, service.Place{Dir: project, Data: data, Slot: slot})
//	defer s.Stop()
//	env := s.Env() // for the tests
//	select {
//	case <-s.Died():
//		return s.Err()
//	…
//	}
//
// A service runs in a space of its own below that of its slot, so that the record of the slot is enough to stop it after this
// process was killed.
package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"fernrelay/core/plain"
	"fernrelay/internal/owned"
	"fernrelay/internal/process"
)

// Spec says how to start a server. Its command lines and values may hold {port}, {data}, {tmp}, {slot} and {space}.
type Spec struct {
	Name   string
	Create string            // a command line, run first if the data folder is empty; empty for none
	Start  string            // a command line of a program that stays in the foreground
	Ready  string            // a command line that ends with 0 once the server is ready, or tcp:{port}
	Every  time.Duration     // between two looks whether it is ready; 0 for DefaultEvery
	Within time.Duration     // in which its data is created, and in which it is ready; 0 for DefaultWithin
	Signal syscall.Signal    // stops it; 0 for SIGTERM
	Env    map[string]string // for the tests
	As     string            // the user that its commands run as, if we are root; empty for our own
	State  string            // a command line that prints its state, a line a piece, while it runs; empty for none
	Reset  string            // a command line that makes its state fresh while it runs; empty for none

	PerWorker bool // each worker has its own; otherwise all workers of a run share one
}

// What holds if a spec does not say otherwise, and how long a server may take to stop before it is killed.
const (
	DefaultEvery  = 250 * time.Millisecond
	DefaultWithin = 30 * time.Second
	stopTime      = 10 * time.Second
)

// Place is where a server runs.
type Place struct {
	Dir  string       // in which its commands run
	Data string       // the folder for its data; it is made if there is none
	Slot process.Slot // whose numbers and folders it uses
}

// A Missing error says that the program of a server is not on this machine.
type MissingError struct {
	Service, Program string
	Said             string // by the shell that did not find the program; empty if none was asked
}

func (m MissingError) Error() string {
	text := fmt.Sprintf("the service %s needs %s, which this machine does not have", m.Service, m.Program)
	if m.Said != "" {
		text += ": " + m.Said
	}
	return text
}

// Service is a server that runs.
type Service struct {
	spec  Spec
	place Place
	user  *syscall.Credential // nil for our own
	port  int
	ready time.Duration
	said  *process.Tail
	died  chan struct{} // closed when its program ends
	cmd   *process.Process

	mu      sync.Mutex
	err     error // why it ended
	stopped bool  // it was asked to end
}

// saidLimit bounds what is kept of what a server prints, in bytes.
const saidLimit = 4 << 10

// portsTried is how often a server is started with another port, as others may take a free one before it does.
const portsTried = 3

// Start starts a server and waits until it is ready. If it ends before, it is started again with another port, as the one it
// had may have been taken; the last error has what it printed.
func Start(ctx context.Context, spec Spec, place Place) (*Service, error) {
	spec.Every, spec.Within, spec.Signal = cmp.Or(spec.Every, DefaultEvery), cmp.Or(spec.Within, DefaultWithin), cmp.Or(spec.Signal, syscall.SIGTERM)
	var err error
	if place.Slot, err = place.Slot.Beside(spec.Name); err != nil { // as a hunt empties the folder of the slot
		return nil, fmt.Errorf("the service %s has no folder for temporary files: %w", spec.Name, err)
	}
	began := time.Now()
	user, err := spec.credentials()
	if err != nil {
		return nil, err
	}
	if err := create(ctx, spec, place, user); err != nil {
		return nil, err
	}
	for range portsTried {
		var s *Service
		if s, err = startOnce(ctx, spec, place, user); err == nil {
			s.ready = time.Since(began)
			return s, nil
		}
		if ended := (endedEarly{}); !errors.As(err, &ended) || ctx.Err() != nil {
			break
		}
	}
	return nil, err
}

// create fills the data folder if it is empty.
func create(ctx context.Context, spec Spec, place Place, user *syscall.Credential) error {
	if err := os.MkdirAll(place.Data, 0o700); err != nil {
		return fmt.Errorf("the data of the service %s: %w", spec.Name, err)
	}
	if user != nil {
		if err := place.Slot.OpenUp(); err != nil {
			return err
		}
	}
	if err := spec.give(user, place.Data, place.Slot.Temp); err != nil {
		return err
	}
	held, err := os.ReadDir(place.Data)
	if err != nil || len(held) > 0 || spec.Create == "" {
		return err
	}
	s := &Service{spec: spec, place: place, user: user, said: &process.Tail{Limit: saidLimit}}
	ctx, cancel := context.WithTimeoutCause(ctx, spec.Within, fmt.Errorf("it was still running after %s, its within, and was killed", spec.Within))
	defer cancel()
	cmd, line, err := s.command(ctx, spec.Create)
	if err != nil {
		return err
	}
	if err := cmd.Run(); err != nil {
		ending := process.Ending(err)
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			ending = context.Cause(ctx).Error()
		}
		// Half of the data would be taken for all of it the next time.
		return errors.Join(cmp.Or(s.lacking(err, line), s.wrong("create", line, ending)), owned.RemoveData(filepath.Dir(place.Data), filepath.Base(place.Data)))
	}
	return nil
}

// endedEarly is the error of a server that ended before it was ready.
type endedEarly struct{ error }

// startOnce starts a server at a free port.
func startOnce(ctx context.Context, spec Spec, place Place, user *syscall.Credential) (*Service, error) {
	port, err := freePort()
	if err != nil {
		return nil, fmt.Errorf("the service %s finds no free port: %w", spec.Name, err)
	}
	s := &Service{spec: spec, place: place, user: user, port: port, said: &process.Tail{Limit: saidLimit}, died: make(chan struct{})}
	cmd, line, err := s.command(context.WithoutCancel(ctx), spec.Start)
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, s.wrong("start", line, err.Error())
	}
	s.cmd = cmd
	go s.wait(line)
	within, cancel := context.WithTimeoutCause(ctx, spec.Within, fmt.Errorf("it is not ready after %s", spec.Within))
	defer cancel()
	for !s.isReady(within) {
		select {
		case <-within.Done():
			s.Stop()
			return nil, s.wrong("ready", spec.Ready, context.Cause(within).Error())
		case <-s.died:
			if err := s.Err(); errors.As(err, &MissingError{}) {
				return nil, err
			}
			return nil, endedEarly{s.Err()}
		case <-time.After(spec.Every):
		}
	}
	return s, nil
}

// freePort returns a port of the loopback that nobody uses now.
func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// wait waits until the program ends, and says why it did.
func (s *Service) wait(line string) {
	err := s.cmd.Wait()
	s.mu.Lock()
	if !s.stopped {
		s.err = cmp.Or(s.lacking(err, line), s.wrong("start", line, "it ended: "+process.Ending(err)))
	}
	s.mu.Unlock()
	close(s.died)
}

// wrong returns an error about one of the service's commands, with what was printed last.
func (s *Service) wrong(key, line, why string) error {
	text := fmt.Sprintf("the service %s: %s: %s = %q", s.spec.Name, why, key, line)
	if said := plain.Text(s.said.String()); said != "" {
		text += "; it printed last:\n" + said
	}
	return errors.New(text)
}

// portCheck begins a ready line that connects to a port instead of running a command.
const portCheck = "tcp:"

// ChecksPort reports whether the server is ready as soon as a port of it accepts connections.
func (s *Spec) ChecksPort() bool { return strings.HasPrefix(s.Ready, portCheck) }

// isReady asks the server once whether it is ready.
func (s *Service) isReady(ctx context.Context) bool {
	if address, ok := strings.CutPrefix(s.fill(s.spec.Ready), portCheck); ok {
		if !strings.Contains(address, ":") {
			address = "127.0.0.1:" + address
		}
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
		if err != nil {
			return false
		}
		conn.Close()
		return true
	}
	cmd, _, err := s.command(ctx, s.spec.Ready)
	if err != nil {
		return false
	}
	cmd.Stdout, cmd.Stderr = nil, nil // that it is not ready yet is no news
	return cmd.Run() == nil
}

// command prepares one of the service's commands, and returns it as it is run.
func (s *Service) command(ctx context.Context, line string) (*process.Process, string, error) {
	words, err := process.Words(line)
	if err != nil {
		return nil, "", fmt.Errorf("the service %s: %w", s.spec.Name, err)
	}
	for i, word := range words { // after they are parted, so that folders may have spaces
		words[i] = s.fill(word)
	}
	path := process.ProgramPath(s.place.Dir, words[0])
	if _, err := exec.LookPath(path); err != nil {
		return nil, "", MissingError{s.spec.Name, words[0], ""}
	}
	cmd := process.Command(ctx, s.place.Dir, s.place.Slot, path, words[1:]...)
	cmd.Stdout, cmd.Stderr = s.said, s.said
	cmd.SysProcAttr.Credential = s.user
	return cmd, strings.Join(words, " "), nil
}

// fill replaces what a text may hold by what the service has.
func (s *Service) fill(text string) string {
	values := s.place.Slot.Values()
	values["port"], values["data"] = strconv.Itoa(s.port), s.place.Data
	return process.Fill(text, values)
}

// Name returns the service's name.
func (s *Service) Name() string { return s.spec.Name }

// Ready returns how long it took until the service was ready.
func (s *Service) Ready() time.Duration { return s.ready }

// Env returns what tests find in their environment, as NAME=value, by name.
func (s *Service) Env() []string {
	var env []string
	for _, name := range slices.Sorted(maps.Keys(s.spec.Env)) {
		env = append(env, name+"="+s.fill(s.spec.Env[name]))
	}
	return env
}

// Died returns a channel that is closed once the service has ended, however it did.
func (s *Service) Died() <-chan struct{} { return s.died }

// Err returns why the service ended by itself, nil if it was stopped or runs.
func (s *Service) Err() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// Stop stops the service, and kills it if it does not stop in time.
func (s *Service) Stop() {
	s.mu.Lock()
	s.stopped = true
	s.mu.Unlock()
	select {
	case <-s.died:
		return
	default:
	}
	_ = s.cmd.Process.Signal(s.spec.Signal) // it may have ended this moment
	select {
	case <-s.died:
	case <-time.After(stopTime):
		_ = s.cmd.Kill() // it may have ended this moment
		<-s.died
	}
}
