package host

import (
	"context"
	"fmt"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
)

// Probe runs all but the last test in a fresh state and asks for the state.
func (s *session) Probe(ctx context.Context, tests []catalog.Test, _ []string) ([]hunt.Value, error) {
	if err := s.Reset(ctx); err != nil {
		return nil, err
	}
	defer context.AfterFunc(ctx, s.kill)()
	if err := s.Run(ctx, tests[:len(tests)-1], func(run.Event) {}); err != nil {
		return nil, err
	}
	return s.state(ctx)
}

// Looks returns what the state looks at, in words, "" if the host does not say.
func (s *session) Looks() string { return s.hello.Looks }

// state asks for the state.
func (s *session) state(ctx context.Context) ([]hunt.Value, error) {
	if err := s.begin(ctx); err != nil {
		return nil, err
	}
	if !s.can(CanState) {
		return nil, fmt.Errorf("the test host of suite %s cannot report its state", s.adapter.Suite)
	}
	var state StateResult
	if err := s.ask(s.adapter.Handshake, MethodState, struct{}{}, &state); err != nil {
		return nil, fmt.Errorf("the test host of suite %s does not report its state: %w", s.adapter.Suite, err)
	}
	for i := range state.Values {
		state.Values[i].File = s.adapter.projectFile(state.Values[i].File)
	}
	return state.Values, nil
}

// Restore has the host remember its fresh state, runs all but the last test, has it put
// the one piece back, and runs the last.
func (s *session) Restore(ctx context.Context, tests []catalog.Test, what hunt.Change, sink run.Sink) error {
	if err := s.Reset(ctx); err != nil {
		return err
	}
	defer context.AfterFunc(ctx, s.kill)()
	if _, err := s.state(ctx); err != nil {
		return err
	}
	if !s.can(CanRestore) {
		return fmt.Errorf("the test host of suite %s cannot restore its state", s.adapter.Suite)
	}
	process, last := s.cmd, len(tests)-1
	if err := s.Run(ctx, tests[:last], func(run.Event) {}); err != nil {
		return err
	}
	if s.cmd != process {
		return fmt.Errorf("the test host of suite %s ended before the state could be restored", s.adapter.Suite)
	}
	if err := s.ask(s.adapter.Handshake, MethodRestore, RestoreParams{what.Kind, what.Name}, nil); err != nil {
		return fmt.Errorf("the test host of suite %s does not restore %s: %w", s.adapter.Suite, what.Name, err)
	}
	return s.Run(ctx, tests[last:], sink)
}
