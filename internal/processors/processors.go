// Package processors counts the processors of this machine, and keeps the screen quick while all of them are busy.
//
//	processors.Spare()
//	workers := processors.Count()
package processors

import "runtime"

// count is as many as the Go runtime finds when the program starts.
var count = runtime.GOMAXPROCS(0)

// Count returns the number of processors that tests can use.
func Count() int { return count }

// spare is how many threads the screen has of its own.
const spare = 2

// Spare lets more goroutines run at the same time than there are processors. While the events of tests keep all busy,
// the Go runtime lets a goroutine that draws wait for its turn, up to 10 ms each time; with threads to spare, the
// operating system decides instead, and prefers what has slept.
func Spare() { runtime.GOMAXPROCS(count + spare) }
