package project

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"fernrelay/internal/process"
	"fernrelay/internal/service"
)

// serviceTable is a [[service]] as it is written.
type serviceTable struct {
	Name   string            `toml:"name"`
	Create string            `toml:"create"`
	Start  string            `toml:"start"`
	Ready  string            `toml:"ready"`
	Every  string            `toml:"every"`
	Within string            `toml:"within"`
	Stop   string            `toml:"stop"`
	Per    string            `toml:"per"`
	Env    map[string]string `toml:"env"`
	As     string            `toml:"as"`
	State  string            `toml:"state"`
	Reset  string            `toml:"reset"`
}

func (p *Project) addServices(f *file, d *document) error {
	for n := range f.Services {
		s := &f.Services[n]
		wrong := func(key, format string, args ...any) error {
			return d.wrong(d.entry("service", n, key), format, args...)
		}
		if err := p.checkService(s, wrong); err != nil {
			return err
		}
		spec, err := s.spec(wrong)
		if err != nil {
			return err
		}
		p.Services = append(p.Services, spec)
	}
	if err := p.checkServices(f.Workers.Services); err != nil {
		return d.wrong(d.entry("workers", 0, "services"), "%w", err)
	}
	for n, s := range f.Suites {
		if err := p.checkServices(s.Services); err != nil {
			return d.wrong(d.entry("suite", n, "services"), "%w", err)
		}
	}
	return nil
}

// checkService refuses a name that is taken or cannot be used, and what the service lacks.
func (p *Project) checkService(s *serviceTable, wrong wrongKey) error {
	switch {
	case !plainName(s.Name):
		return wrong("name", "a service's name is %q: expected letters, digits and signs other than : # / \\, and no dot in front, as a folder is named after it", s.Name)
	case p.service(s.Name) != nil:
		return wrong("name", "two services are named %q: rename one", s.Name)
	case s.Start == "":
		return wrong("start", "service %s has no start: add the command line of a program that stays in the foreground", s.Name)
	case s.Ready == "":
		return wrong("ready", "service %s has no ready: add a command line that succeeds once it is ready, or tcp:{port}", s.Name)
	case !slices.Contains([]string{"", "run", "worker"}, s.Per):
		return wrong("per", "per of service %s is %q: run or worker is expected", s.Name, s.Per)
	}
	for key, line := range map[string]string{"create": s.Create, "start": s.Start, "ready": s.Ready, "state": s.State, "reset": s.Reset} {
		if _, err := process.Words(line); line != "" && err != nil {
			return wrong(key, "%s = %w", key, err)
		}
	}
	return nil
}

// spec reads the signal and the durations of a service, and returns what the service is.
func (s *serviceTable) spec(wrong wrongKey) (service.Spec, error) {
	spec := service.Spec{Name: s.Name, Create: s.Create, Start: s.Start, Ready: s.Ready, Env: s.Env, As: s.As, State: s.State, Reset: s.Reset, PerWorker: s.Per == "worker"}
	if s.Stop != "" {
		if spec.Signal = signalNamed(s.Stop); spec.Signal == 0 {
			return spec, wrong("stop", "stop of service %s is %q: the name of a signal like TERM or INT is expected", s.Name, s.Stop)
		}
	}
	for _, t := range []struct {
		key, text string
		into      *time.Duration
	}{{"every", s.Every, &spec.Every}, {"within", s.Within, &spec.Within}} {
		if t.text == "" {
			continue
		}
		given, err := time.ParseDuration(t.text)
		if err != nil || given <= 0 {
			return spec, wrong(t.key, "%s of service %s is %q: a duration like 30s is expected", t.key, s.Name, t.text)
		}
		*t.into = given
	}
	return spec, nil
}

// signalNamed returns the signal with a name, as INT or SIGINT; 0 if there is none.
func signalNamed(name string) syscall.Signal {
	return unix.SignalNum("SIG" + strings.TrimPrefix(name, "SIG"))
}

// service returns the service with a name, nil if there is none.
func (p *Project) service(name string) *service.Spec {
	if n := slices.IndexFunc(p.Services, func(s service.Spec) bool { return s.Name == name }); n >= 0 {
		return &p.Services[n]
	}
	return nil
}

// checkServices returns an error for a name that no service has.
func (p *Project) checkServices(names []string) error {
	for _, name := range names {
		if p.service(name) == nil {
			return fmt.Errorf("there is no service %q: add a [[service]] of that name, or name one of: %s", name, cmp.Or(strings.Join(p.serviceNames(), ", "), "none is defined"))
		}
	}
	return nil
}

func (p *Project) serviceNames() (names []string) {
	for _, s := range p.Services {
		names = append(names, s.Name)
	}
	return names
}

// ServicesOf returns the names of the services that the tests of a suite need.
func (p *Project) ServicesOf(s Suite) []string {
	names := slices.Concat(p.Workers.Services, s.Services)
	slices.Sort(names)
	return slices.Compact(names)
}
