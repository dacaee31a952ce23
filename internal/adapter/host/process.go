package host

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"fernrelay/internal/process"
)

// begin starts a process and exchanges hellos, unless there is one.
func (s *session) begin(ctx context.Context) error {
	if s.cmd != nil {
		return nil
	}
	command := s.adapter.Command
	cmd := process.Command(context.WithoutCancel(ctx), s.adapter.Dir, s.slot, command[0], command[1:]...)
	stdin, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	s.stderr = &process.Tail{Limit: tailLimit}
	p, err := s.newPipes()
	if err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr, cmd.ExtraFiles = p.stdout.End, p.stderr.End, []*os.File{p.channel.End}
	if err := cmd.Start(); err != nil {
		p.close()
		return fmt.Errorf("cannot start the test host of suite %s: %w", s.adapter.Suite, err)
	}
	ended := make(chan struct{})
	s.ended = ended
	go s.await(cmd, p, ended)
	s.mu.Lock()
	s.cmd, s.killed = cmd, false
	s.mu.Unlock()
	s.stdin, s.printed, s.beside, s.sources = stdin, p.stdout, p.stderr, []io.Reader{p.printed, p.messages}
	s.listen(p.printed, "")
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var hello HelloResult
	secret := rand.Text()
	params := HelloParams{Protocol: Protocol, Slot: s.slot.Number, Temp: s.slot.Temp, Channel: Channel{channelDescriptor, secret}, Sources: s.adapter.sources}
	if err := s.ask(s.adapter.Start, MethodHello, params, &hello); err != nil {
		ending := s.end()
		return fmt.Errorf("the test host of suite %s (%s) does not answer hello: %w; %s%s",
			s.adapter.Suite, strings.Join(command, " "), err, ending, s.lastWords())
	}
	if hello.Protocol != Protocol {
		return fmt.Errorf("the test host of suite %s speaks %q: %q is expected", s.adapter.Suite, hello.Protocol, Protocol)
	}
	s.hello = hello
	if hello.Channel {
		go func() { _, _ = io.Copy(outputOf{s}, p.printed) }()
		s.listen(p.messages, secret)
	}
	return nil
}

// channelDescriptor is the number that the channel's descriptor has in the process: the first after the standard ones.
const channelDescriptor = 3

// pipes are what a process writes to.
type pipes struct {
	stdout, stderr, channel *process.Pipe
	printed, messages       *io.PipeReader // what comes out of stdout and of the channel
	writers                 []*io.PipeWriter
}

func (s *session) newPipes() (*pipes, error) {
	printed, toPrinted := io.Pipe()
	messages, toMessages := io.Pipe()
	p := &pipes{printed: printed, messages: messages, writers: []*io.PipeWriter{toPrinted, toMessages}}
	var err error
	for _, made := range []struct {
		pipe **process.Pipe
		to   io.Writer
	}{{&p.stdout, toPrinted}, {&p.channel, toMessages}, {&p.stderr, io.MultiWriter(s.stderr, outputOf{s})}} {
		if *made.pipe, err = process.NewPipe(made.to); err != nil {
			p.close()
			return nil, err
		}
	}
	return p, nil
}

// close closes pipes with which no process was started.
func (p *pipes) close() {
	for _, pipe := range []*process.Pipe{p.stdout, p.stderr, p.channel} {
		if pipe != nil {
			pipe.Close()
		}
	}
}

// await waits for the process to be gone and for what it has printed.
func (s *session) await(cmd *process.Process, p *pipes, ended chan<- struct{}) {
	all := []*process.Pipe{p.stdout, p.channel, p.stderr}
	copied := make([]<-chan struct{}, len(all))
	for i, pipe := range all {
		copied[i] = pipe.Copy()
	}
	s.ending = process.Ending(cmd.Wait())
	for i, pipe := range all {
		pipe.Stop(cmd.WaitDelay, copied[i])
	}
	for _, w := range p.writers {
		_ = w.Close()
	}
	close(ended)
}

// listen reads messages from a source. A secret begins each unless it is empty.
func (s *session) listen(source io.Reader, secret string) {
	s.lines, s.secret = bufio.NewScanner(source), secret
	s.lines.Buffer(nil, maxLine)
}

// lastWords is the end of what the process printed beside its messages, on lines of its own.
func (s *session) lastWords() string {
	if said := s.stderr.String(); said != "" {
		return "\n" + said
	}
	return ""
}

// kill ends the process and its group at once.
func (s *session) kill() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cmd != nil {
		s.killed = true
		_ = s.cmd.Kill()
	}
}

// end waits for the process to be gone and forgets it. It returns how the process ended in words.
func (s *session) end() string {
	s.kill()
	_ = s.stdin.Close()
	for _, source := range s.sources {
		go func() { _, _ = io.Copy(io.Discard, source) }()
	}
	<-s.ended
	s.mu.Lock()
	s.cmd, s.running = nil, ""
	s.mu.Unlock()
	return s.ending
}

// goodbyeLimit is how long a host may take to end after it is asked to.
const goodbyeLimit = time.Second

// Close says goodbye and ends the process. The error says that the process ended badly by itself.
func (s *session) Close() error {
	if s.cmd == nil {
		return nil
	}
	_ = s.ask(goodbyeLimit, MethodBye, struct{}{}, nil) // whatever it answers, it ends now
	_ = s.stdin.Close()
	select {
	case <-s.ended:
	case <-time.After(goodbyeLimit):
	}
	s.mu.Lock()
	killed := s.killed
	s.mu.Unlock()
	select {
	case <-s.ended:
		if ending := s.end(); ending != process.Ending(nil) && !killed {
			s.noteBeyond(fmt.Sprintf("after its last test the test host of suite %s ended with %s%s", s.adapter.Suite, ending, s.lastWords()))
		}
	default:
		s.end()
	}
	if why := s.takeBeyond(); why != "" {
		return errors.New(why)
	}
	return nil
}
