// Package units reads depths of rain in the unit that is the default.
package units

import "fernrelay/internal/demo/testhost"

// fallback is the unit of a reading that names none.
var fallback = testhost.Variable("units.fallback", func() string { return "millimetres" })

// Use makes a unit the default.
func Use(unit string) { *fallback = unit }

// Default is the unit of readings that name none.
func Default() string { return *fallback }

// Millimetres returns a reading without a unit in millimetres.
func Millimetres(reading float64) float64 {
	if *fallback == "inches" {
		return 25.4 * reading
	}
	return reading
}
