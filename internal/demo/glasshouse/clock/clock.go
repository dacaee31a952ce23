// Package clock is the time of day inside the glasshouse.
package clock

import (
	"fmt"
	"time"

	"fernrelay/internal/demo/testhost"
)

// offset is how far the glasshouse's clock is ahead of the sun.
var offset = testhost.Variable("clock.offset", func() time.Duration { return 0 })

// Dawn is when the sun rises, after midnight.
const Dawn = 5*time.Hour + 40*time.Minute

// Advance moves the clock forward.
func Advance(d time.Duration) { *offset += d }

// Offset returns how far the clock is ahead.
func Offset() time.Duration { return *offset }

// At reads the clock at a time after midnight by the sun.
func At(sun time.Duration) time.Duration { return (sun + *offset) % (24 * time.Hour) }

// Show writes a time of day.
func Show(d time.Duration) string {
	return fmt.Sprintf("%02d:%02d", int(d.Hours()), int(d.Minutes())%60)
}
