package parallel

import (
	"os"
	"testing"
	"time"
)

func TestOne(t *testing.T) {
	t.Parallel()
	time.Sleep(50 * time.Millisecond)
}

func TestLeaves(t *testing.T) {
	t.Parallel()
	time.Sleep(20 * time.Millisecond)
	os.Exit(4)
}

func TestTwo(t *testing.T) {
	t.Parallel()
	time.Sleep(50 * time.Millisecond)
}
