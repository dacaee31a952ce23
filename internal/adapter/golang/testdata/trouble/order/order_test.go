package order

import (
	"fmt"
	"testing"
)

func TestA(t *testing.T) {}
func TestB(t *testing.T) {}
func TestC(t *testing.T) {}

func ExampleTrue() {
	fmt.Println(true)
	// Output: true
}
