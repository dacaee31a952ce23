package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"syscall"

	"fernrelay/core/plain"
	"fernrelay/internal/process"
)

// Config says which services the suites of a project need.
type Config struct {
	Specs []Spec
	Needs map[string][]string // by suite: the names of its services
	Dir   string              // in which commands run
	Data  string              // each service has its data in a folder below this one

	Fresh bool // servers that can be reset are when they have started, and each worker has its own, as for trials

	Shared *Set     // has services for several runs at once; nil for none
	Share  []string // the names of those of Needs that Shared has
}

// Missing returns a [Missing] error if this machine does not have the program of a service that a suite needs.
func (c *Config) Missing(suite string) error {
	for _, spec := range c.specs(suite) {
		for _, line := range []string{spec.Create, spec.Start} {
			words, err := process.Words(line)
			if err != nil {
				continue // starting it reports the error
			}
			if _, err := exec.LookPath(process.ProgramPath(c.Dir, words[0])); err != nil {
				return MissingError{spec.Name, words[0], ""}
			}
		}
	}
	return nil
}

func (c *Config) specs(suite string) (specs []Spec) {
	for _, spec := range c.Specs {
		if slices.Contains(c.Needs[suite], spec.Name) {
			specs = append(specs, spec)
		}
	}
	return specs
}

// A Set is the services of one run or hunt. Each starts when a suite on a worker first needs it, several at a time, and runs
// until the set is closed.
//
//	set := service.NewSet(config, shared, func(s *service.Service) { fmt.Println(s.Name(), "is ready") })
//	defer set.Close()
//	env, err := set.Use(ctx, "go", slot)
//	ctx, release := set.Guard(ctx, "go", slot)
//	defer release()
//
// It is safe for use by several goroutines.
type Set struct {
	config Config
	shared func() (process.Slot, error)
	ready  func(*Service)
	ctx    context.Context // ends when the set is closed
	cancel context.CancelFunc

	mu       sync.Mutex
	servers  map[server]*entry
	reported map[*Service]bool // of the shared ones
}

// server identifies a server of a set.
type server struct {
	name string
	slot int // 0 for one that all workers share
}

// entry is a server that starts, runs, or did not start.
type entry struct {
	started chan struct{} // closed once service and err are set
	service *Service      // nil if it did not start
	err     error
	lock    *os.File // of its data
	shared  bool     // it belongs to the set that others share
}

// NewSet returns the services of a run, none of which has started. shared returns the slot of those that all workers share. It
// calls ready, which may be nil, for each service that is ready.
func NewSet(config Config, shared func() (process.Slot, error), ready func(*Service)) *Set {
	s := &Set{config: config, shared: shared, ready: ready, servers: map[server]*entry{}, reported: map[*Service]bool{}}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

// Names returns the names of the services that a suite needs.
func (s *Set) Names(suite string) []string { return s.config.Needs[suite] }

// Missing is as Config.Missing.
func (s *Set) Missing(suite string) error { return s.config.Missing(suite) }

// Use starts what a suite needs on a worker with a slot, unless it runs, and returns what its tests find in their environment,
// as NAME=value. The error says why a service cannot start, or why it ended.
func (s *Set) Use(ctx context.Context, suite string, slot process.Slot) (env []string, err error) {
	for _, e := range s.entries(suite, slot) {
		select {
		case <-e.started:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		if e.err != nil {
			return nil, e.err
		}
		if err := e.service.Err(); err != nil {
			return nil, err
		}
		s.report(e)
		env = append(env, e.service.Env()...)
	}
	return env, nil
}

// report reports a shared service once, which another run may have started.
func (s *Set) report(e *entry) {
	s.mu.Lock()
	seen := !e.shared || s.reported[e.service]
	s.reported[e.service] = true
	s.mu.Unlock()
	if !seen && s.ready != nil {
		s.ready(e.service)
	}
}

// Guard returns a context that ends when a service that a suite uses on a worker ends by itself, with that as its cause. The
// caller calls release.
func (s *Set) Guard(ctx context.Context, suite string, slot process.Slot) (guarded context.Context, release func()) {
	guarded, cancel := context.WithCancelCause(ctx)
	for _, e := range s.entries(suite, slot) {
		go func() {
			select {
			case <-e.started:
			case <-guarded.Done():
				return
			}
			if e.err != nil {
				return
			}
			select {
			case <-e.service.Died():
				if err := e.service.Err(); err != nil {
					cancel(err)
				}
			case <-guarded.Done():
			}
		}()
	}
	return guarded, func() { cancel(nil) }
}

// entries returns the servers that a suite uses on a worker, and begins to start those that have not been started.
func (s *Set) entries(suite string, slot process.Slot) (all []*entry) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, spec := range s.config.specs(suite) {
		if s.config.Shared != nil && slices.Contains(s.config.Share, spec.Name) {
			all = append(all, s.config.Shared.share(spec))
			continue
		}
		id := server{name: spec.Name}
		spec.PerWorker = spec.PerWorker || s.config.Fresh && spec.Reset != ""
		if spec.PerWorker {
			id.slot = slot.Number
		}
		all = append(all, s.entry(id, spec, slot))
	}
	return all
}

// share returns the server of a service that several runs share.
func (s *Set) share(spec Spec) *entry {
	s.mu.Lock()
	defer s.mu.Unlock()
	spec.PerWorker = false
	e := s.entry(server{name: spec.Name}, spec, process.Slot{})
	e.shared = true
	return e
}

// entry returns a server, and begins to start it if it has not been started. The caller holds the lock.
func (s *Set) entry(id server, spec Spec, slot process.Slot) *entry {
	e := s.servers[id]
	if e == nil {
		e = &entry{started: make(chan struct{})}
		s.servers[id] = e
		go func() {
			defer close(e.started)
			e.err = s.start(e, spec, slot)
		}()
	}
	return e
}

func (s *Set) start(e *entry, spec Spec, slot process.Slot) (err error) {
	name := spec.Name
	if spec.PerWorker {
		name = fmt.Sprint(name, "-", slot.Number)
	} else if slot, err = s.shared(); err != nil {
		return err
	}
	data, lock, err := claimData(s.config.Data, name)
	if err != nil {
		return fmt.Errorf("the data of the service %s: %w", spec.Name, err)
	}
	e.lock = lock
	if e.service, err = Start(s.ctx, spec, Place{Dir: s.config.Dir, Data: data, Slot: slot}); err != nil {
		return err
	}
	if s.config.Fresh {
		if err := e.service.Reset(s.ctx); err != nil {
			e.service.Stop()
			return err
		}
	}
	if s.ready != nil {
		s.ready(e.service)
	}
	return nil
}

// Resettable returns the servers of a suite that have started, can be reset, and serve one worker alone; none if the set is not for
// trials.
func (s *Set) Resettable(suite string, slot process.Slot) (all []*Service) {
	if !s.config.Fresh {
		return nil
	}
	for _, e := range s.entries(suite, slot) {
		select {
		case <-e.started:
		default:
			continue
		}
		if e.service != nil && !e.shared && e.service.spec.Reset != "" {
			all = append(all, e.service)
		}
	}
	return all
}

// mostData bounds the runs that may have a data folder of one service at once.
const mostData = 100

// claimData returns a folder for data that no other run uses. The claim ends with this process, or when the lock is closed.
func claimData(below, name string) (data string, lock *os.File, err error) {
	if err := os.MkdirAll(below, 0o755); err != nil {
		return "", nil, err
	}
	for n := 1; n <= mostData; n++ {
		data = filepath.Join(below, name)
		if n > 1 {
			data += fmt.Sprint("~", n)
		}
		if lock, err = os.OpenFile(data+".lock", os.O_CREATE|os.O_RDWR, 0o644); err != nil {
			return "", nil, err
		}
		if syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
			return data, lock, nil
		}
		lock.Close()
	}
	return "", nil, fmt.Errorf("%d other runs use it", mostData)
}

// Close stops all services.
func (s *Set) Close() error {
	s.cancel()
	s.mu.Lock()
	defer s.mu.Unlock()
	var wg sync.WaitGroup
	errs := make(chan error, len(s.servers))
	for _, e := range s.servers {
		wg.Go(func() {
			<-e.started
			if e.service != nil {
				e.service.Stop()
			}
			if e.lock != nil {
				errs <- e.lock.Close()
			}
		})
	}
	wg.Wait()
	close(errs)
	var all error
	for err := range errs {
		all = errors.Join(all, err)
	}
	return all
}

// lacking returns a Missing error for a command that ended with the status 127, by which POSIX shells say that they do not find
// a program; nil for another end.
func (s *Service) lacking(err error, line string) error {
	var exit *exec.ExitError
	if !errors.As(err, &exit) || exit.ExitCode() != 127 {
		return nil
	}
	return MissingError{s.spec.Name, fmt.Sprintf("a program that %q starts", line), plain.Line(s.said.String())}
}
