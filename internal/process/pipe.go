package process

import (
	"errors"
	"io"
	"os"
	"sync"
	"syscall"
	"time"
)

// A Pipe carries what a process writes to a descriptor. What is in it at a moment can be taken
// with Drain, so that it is known before something that the process wrote elsewhere later.
//
//	pipe, err := NewPipe(w)
//	cmd.ExtraFiles = []*os.File{pipe.End}
//	err = cmd.Start()
//	copied := pipe.Copy()
//	err = cmd.Wait()
//	pipe.Stop(delay, copied) // as others may still hold the other end
type Pipe struct {
	End *os.File // the end that the process writes to; Copy closes ours

	read   *os.File
	raw    syscall.RawConn
	to     io.Writer
	mu     sync.Mutex // held from a reading until it is written
	buffer [32 << 10]byte
}

// pipeSize is how much a pipe holds at most, in bytes (pipe(7)).
const pipeSize = 64 << 10

// NewPipe returns a pipe whose content is written to a writer.
func NewPipe(to io.Writer) (*Pipe, error) {
	read, end, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	raw, err := read.SyscallConn()
	if err != nil {
		return nil, errors.Join(err, read.Close(), end.Close())
	}
	return &Pipe{End: end, read: read, raw: raw, to: to}, nil
}

// Close closes both ends of a pipe that no process was started with.
func (p *Pipe) Close() { _ = errors.Join(p.read.Close(), p.End.Close()) }

// part takes what is in the pipe, as much as the buffer holds.
func (p *Pipe) part(fd uintptr) (n int, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for {
		n, err = syscall.Read(int(fd), p.buffer[:])
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if n > 0 {
			_, _ = p.to.Write(p.buffer[:n])
		}
		return n, err
	}
}

// Copy copies until nobody has the other end any more, or until Stop. Then it closes the channel that it returns.
func (p *Pipe) Copy() (copied <-chan struct{}) {
	_ = p.End.Close() // the process has its own
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = p.raw.Read(func(fd uintptr) (done bool) {
			for {
				switch n, err := p.part(fd); {
				case errors.Is(err, syscall.EAGAIN):
					return false
				case n <= 0:
					return true
				}
			}
		})
	}()
	return done
}

// Drain takes what is in the pipe now.
func (p *Pipe) Drain() {
	_ = p.raw.Control(func(fd uintptr) {
		for taken := 0; taken < pipeSize; {
			n, _ := p.part(fd)
			if n <= 0 {
				return
			}
			taken += n
		}
	})
}

// Stop ends Copy after a while and closes our end.
func (p *Pipe) Stop(after time.Duration, copied <-chan struct{}) {
	_ = p.read.SetReadDeadline(time.Now().Add(after))
	<-copied
	_ = p.read.Close()
}
