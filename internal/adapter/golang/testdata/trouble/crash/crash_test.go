package crash

import (
	"os"
	"syscall"
	"testing"
	"time"
)

func TestFirst(t *testing.T) {}

func TestPanics(t *testing.T) {
	var m map[string]int
	m["x"] = 1
}

func TestBetween(t *testing.T) {}

func TestExits(t *testing.T) {
	t.Log("about to leave")
	os.Exit(3)
}

func TestExitsWell(t *testing.T) { os.Exit(0) }

func TestKilled(t *testing.T) {
	_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
	time.Sleep(time.Second)
}

func TestHangs(t *testing.T) { time.Sleep(time.Hour) }

func TestWrong(t *testing.T) {
	t.Log("a hint")
	t.Errorf("got %d, want %d", 3, 4)
}

func TestSkips(t *testing.T) { t.Skip("not today") }

func TestLast(t *testing.T) {}

func ExampleWrong() {
	println("to the side")
	// Output: right
}

func FuzzSeeds(f *testing.F) {
	f.Add(1)
	f.Fuzz(func(t *testing.T, n int) {
		if n != 1 {
			t.Fatal("not a seed")
		}
	})
}
