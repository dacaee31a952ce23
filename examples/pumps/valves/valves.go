// Package valves opens and closes the valves behind the pumps.
package valves

// Open reports whether a valve is open at a temperature in degrees: frost closes it.
func Open(degrees int) bool { return degrees > 1 }
