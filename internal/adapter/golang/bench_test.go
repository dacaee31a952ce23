package golang

import (
	"testing"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/process"
)

// BenchmarkShortLines runs a test that prints 64 MB in lines of 11 bytes.
func BenchmarkShortLines(b *testing.B) {
	a, found := module(b, Config{Limits: process.Limits{Test: time.Minute}}, map[string]string{"p/p_test.go": `package p

import (
	"os"
	"strings"
	"testing"
)

func TestFlood(t *testing.T) {
	block := strings.Repeat("line 12345\n", 5957)
	for range 1000 {
		os.Stdout.WriteString(block)
	}
}
`})
	tests := choose(b, found, "p#TestFlood")
	s := open(b, a, tests)
	b.SetBytes(1000 * 5957 * 11)
	for b.Loop() {
		printed := 0
		err := s.Run(b.Context(), tests, func(e run.Event) { printed += len(e.Text) + len(e.Bulk) })
		if err != nil || printed != 1000*5957*11 {
			b.Fatalf("%d bytes printed, %v", printed, err)
		}
	}
}
