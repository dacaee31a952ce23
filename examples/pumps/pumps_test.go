package pumps

import "testing"

func TestFlowOfNone(t *testing.T) {
	if got := Flow(0, 20); got != 0 {
		t.Errorf("no pump moves %d litres, want 0", got)
	}
}

func TestFlowIsLimited(t *testing.T) {
	if got := Flow(1, 500); got > 40 {
		t.Errorf("one pump moves %d litres, want 40 at most", got)
	}
}

func TestDroughtRation(t *testing.T) {
	Limit = 5 // and nobody sets it back
	if got := Flow(2, 20); got != 10 {
		t.Errorf("in a drought two pumps move %d litres, want 10", got)
	}
}

func TestFlowOfOne(t *testing.T) {
	if got := Flow(1, 3); got != 3 {
		t.Errorf("one pump moves %d litres, want 3", got)
	}
}

func TestFlowOfTwo(t *testing.T) {
	if got := Flow(2, 20); got != 40 {
		t.Errorf("two pumps move %d litres, want 40", got)
	}
}
