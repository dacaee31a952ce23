package mainly

import (
	"os"
	"testing"
)

var ready bool

func TestMain(m *testing.M) {
	ready = true
	m.Run()
	os.Exit(7)
}

func TestLater(t *testing.T) { t.Skip("not now") }

func TestReady(t *testing.T) {
	if !ready {
		t.Fatal("TestMain did not run")
	}
}
