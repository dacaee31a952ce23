// Package state keeps things that tests forget to put back.
package state

type settings struct {
	limits map[string][]int
	next   *settings
}

var current = func() *settings {
	s := &settings{limits: map[string][]int{"low": {1, 2}, "high": {8, 9}}}
	s.next = s
	return s
}()

// Limit gives a limit.
func Limit(name string) int { return current.limits[name][0] }
