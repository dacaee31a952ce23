package state

import "testing"

func TestQuiet(t *testing.T) {}

func TestRaises(t *testing.T) { current.next.limits["low"][0] = 5 }

func TestOther(t *testing.T) { t.Setenv("SOMETHING", "else") }

func TestReads(t *testing.T) {
	if got := Limit("low"); got != 1 {
		t.Fatalf("got %d, want 1", got)
	}
}
