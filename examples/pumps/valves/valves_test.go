package valves

import (
	"fmt"
	"testing"
)

func TestOpensInSummer(t *testing.T) {
	for _, degrees := range []int{15, 25, 35} {
		t.Run(fmt.Sprint(degrees, "_degrees"), func(t *testing.T) {
			if !Open(degrees) {
				t.Errorf("the valve is closed at %d degrees", degrees)
			}
		})
	}
}

//fern:tags frost
func TestClosesInFrost(t *testing.T) {
	if Open(-3) {
		t.Error("the valve is open at -3 degrees")
	}
}
