package service

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/internal/process"
)

// mostState bounds what a server may print of its state, in bytes.
const mostState = 8 << 20

// Reset has the server's state made fresh, as Spec.Reset says. A server without one is left as it is.
func (s *Service) Reset(ctx context.Context) error {
	if s.spec.Reset == "" {
		return nil
	}
	_, err := s.ask(ctx, "reset", s.spec.Reset)
	return err
}

// State returns the pieces of the server's state, as Spec.State prints them; none if it has none.
func (s *Service) State(ctx context.Context) ([]hunt.Value, error) {
	if s.spec.State == "" {
		return nil, nil
	}
	printed, err := s.ask(ctx, "state", s.spec.State)
	if err != nil {
		return nil, err
	}
	return s.pieces(printed), nil
}

// pieces reads what a state command printed: a line a piece, its name and after = or a tab its value. A line that has been there before
// gets a number.
//
//	stock:tea = 5    the piece stock:tea in redis is 5
//	stock:moss       the piece stock:moss in redis is there
func (s *Service) pieces(printed []byte) (pieces []hunt.Value) {
	seen := map[string]int{}
	for line := range bytes.Lines(printed) {
		text := plain.Line(strings.TrimRight(string(line), "\r\n"))
		if strings.TrimSpace(text) == "" {
			continue
		}
		name, value := text, "there"
		if at := strings.IndexAny(text, "=\t"); at > 0 {
			name, value = text[:at], text[at+1:]
		}
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		if seen[name]++; seen[name] > 1 {
			name = fmt.Sprintf("%s (%d)", name, seen[name])
		}
		pieces = append(pieces, hunt.Value{Kind: hunt.Service, Name: name + " in " + s.spec.Name, Text: value})
	}
	return pieces
}

// ask runs a command of the service while it runs, and returns what it printed on its standard output.
func (s *Service) ask(ctx context.Context, key, line string) ([]byte, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, s.spec.Within, fmt.Errorf("it was still running after %s, its within, and was killed", s.spec.Within))
	defer cancel()
	cmd, line, err := s.command(ctx, line)
	if err != nil {
		return nil, err
	}
	out, said := &process.Tail{Limit: mostState + 1}, &process.Tail{Limit: saidLimit}
	cmd.Stdout, cmd.Stderr = out, said
	if err := cmd.Run(); err != nil {
		ending := process.Ending(err)
		if cause := context.Cause(ctx); cause != nil {
			ending = cause.Error()
		}
		text := fmt.Sprintf("the service %s: %s: %s = %q", s.spec.Name, ending, key, line)
		if printed := plain.Line(said.String()); printed != "" {
			text += "; it printed last: " + printed
		}
		return nil, fmt.Errorf("%s", text)
	}
	printed := []byte(out.String())
	if len(printed) > mostState {
		return nil, fmt.Errorf("the service %s: %s prints more than %d MB: print only what tests may leave, such as keys and counts", s.spec.Name, key, mostState>>20)
	}
	return printed, nil
}
