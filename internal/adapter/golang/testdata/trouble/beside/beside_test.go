//fern:tags near

package beside_test

import (
	"fmt"
	"testing"
)

//fern:tags quick frost
func TestTagged(t *testing.T) {
	t.Run("one", func(t *testing.T) {})
	t.Run("two", func(t *testing.T) {})
}

//fern:expect-fail the valve is not delivered yet
func TestOwed(t *testing.T) { t.Fatal("no valve") }

//fern:skip nobody wants it
func TestUnwanted(t *testing.T) { t.Fatal("it ran") }

func Example() {
	fmt.Println("hello")
	// Output: hello
}

func Example_noOutput() { fmt.Println("not run") }

func Testify(t *testing.T) {}
