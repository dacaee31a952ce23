package host

import (
	"errors"
	"io"
	"os"
	"sync"
	"syscall"
	"time"
)

// stream is the standard error of a process. What stands in it at a moment can be taken before it is
// gone on, so that what a test printed is heard before its end is.
type stream struct {
	read, write *os.File // the two ends of a pipe
	raw         syscall.RawConn
	to          io.Writer
	mu          sync.Mutex // held from a reading until that is written
	buffer      [32 << 10]byte
}

// pipeSize is how much a pipe holds at most, in bytes (pipe(7)).
const pipeSize = 64 << 10

// newStream makes a stream that is written to a writer.
func newStream(to io.Writer) (*stream, error) {
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	raw, err := read.SyscallConn()
	if err != nil {
		return nil, errors.Join(err, read.Close(), write.Close())
	}
	return &stream{read: read, write: write, raw: raw, to: to}, nil
}

// part takes what stands in the pipe, as much as the buffer holds.
func (s *stream) part(fd uintptr) (n int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for {
		n, err = syscall.Read(int(fd), s.buffer[:])
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if n > 0 {
			_, _ = s.to.Write(s.buffer[:n])
		}
		return n, err
	}
}

// copy takes all that comes until nobody has the other end any more, or until it is stopped.
func (s *stream) copy() {
	_ = s.raw.Read(func(fd uintptr) (done bool) {
		for {
			switch n, err := s.part(fd); {
			case errors.Is(err, syscall.EAGAIN):
				return false
			case n <= 0:
				return true
			}
		}
	})
}

// drain takes what stands in the pipe now.
func (s *stream) drain() {
	_ = s.raw.Control(func(fd uintptr) {
		for taken := 0; taken < pipeSize; {
			n, _ := s.part(fd)
			if n <= 0 {
				return
			}
			taken += n
		}
	})
}

// stop ends copy in a while, as others than the process may still have the other end.
func (s *stream) stop(in time.Duration) { _ = s.read.SetReadDeadline(time.Now().Add(in)) }
