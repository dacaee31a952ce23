package process

import (
	"bytes"
	"os"
	"syscall"
	"testing"
)

// TestDrain takes what is in a pipe at a moment, whether or not somebody waits for more, and
// does not wait itself.
func TestDrain(t *testing.T) {
	var taken bytes.Buffer
	p, err := NewPipe(&taken)
	if err != nil {
		t.Fatal(err)
	}
	// A second descriptor of our end, as the process would have it.
	fd, err := syscall.Dup(int(p.End.Fd()))
	if err != nil {
		t.Fatal(err)
	}
	end := os.NewFile(uintptr(fd), "end")
	defer end.Close()
	say := func(words string) {
		if _, err := end.WriteString(words); err != nil {
			t.Fatal(err)
		}
	}
	p.Drain()
	say("before")
	p.Drain()
	if taken.String() != "before" {
		t.Errorf("taken is %q", taken.String())
	}
	copied := p.Copy()
	for n := range 2000 {
		say(" and more")
		p.Drain()
		p.mu.Lock()
		if got, want := taken.Len(), len("before")+(n+1)*len(" and more"); got != want {
			t.Fatalf("after %d words %d bytes are taken, want %d", n, got, want)
		}
		p.mu.Unlock()
	}
	p.Stop(0, copied) // though the other end is open
}
