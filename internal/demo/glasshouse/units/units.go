// Package units reads temperatures in the unit that is the default.
package units

import "fernrelay/internal/demo/testhost"

// fallback is the unit of a reading that names none.
var fallback = testhost.Variable("units.fallback", func() string { return "celsius" })

// Use makes a unit the default.
func Use(unit string) { *fallback = unit }

// Default is the unit of readings that name none.
func Default() string { return *fallback }

// Celsius gives a reading without a unit in degrees Celsius.
func Celsius(reading float64) float64 {
	if *fallback == "fahrenheit" {
		return (reading - 32) / 1.8
	}
	return reading
}
