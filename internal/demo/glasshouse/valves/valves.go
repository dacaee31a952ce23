// Package valves is the registry of the glasshouse's water valves.
package valves

import (
	"errors"
	"slices"

	"fernrelay/internal/demo/testhost"
)

// open holds the numbers of the valves that are open.
var open = testhost.Variable("valves.open", func() []int { return nil })

// Count is the number of valves.
const Count = 12

// ErrNoValve says that there is no valve of that number.
var ErrNoValve = errors.New("no such valve")

// Open opens a valve.
func Open(n int) error {
	if n < 1 || n > Count {
		return ErrNoValve
	}
	if !slices.Contains(*open, n) {
		*open = append(*open, n)
	}
	return nil
}

// Close closes a valve.
func Close(n int) { *open = slices.DeleteFunc(*open, func(o int) bool { return o == n }) }

// IsOpen reports whether a valve is open.
func IsOpen(n int) bool { return slices.Contains(*open, n) }

// AllOpen lists the open valves.
func AllOpen() []int { return slices.Sorted(slices.Values(*open)) }

// Litres returns the flow through a number of open valves in a time of seconds.
func Litres(valves int, seconds float64) float64 { return 0.25 * float64(valves) * seconds }
