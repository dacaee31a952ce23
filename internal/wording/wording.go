// Package wording writes figures for people, alike on screens, in reports and in drawings.
//
//	wording.Plural(3, "test")           // 3 tests
//	wording.Percent(0.842)              // 84 %
//	wording.TimeChange(now, before)     // up 40 %
package wording

import (
	"fmt"
	"math"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/plain"
)

// Plural returns a number of things: 1 test, 2 tests.
func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// Some lists the first of some names, and counts the others: "a, b and 3 more".
func Some(names []string, most int) string {
	text := strings.Join(names[:min(len(names), most)], ", ")
	if more := len(names) - most; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// Percent returns a share: 84 %, or 99.9 % if a whole number would say too much.
func Percent(share float64) string {
	switch {
	case math.IsNaN(share):
		return "–"
	case share > 0.99 && share < 1:
		return fmt.Sprintf("%.1f %%", math.Min(99.9, 100*share))
	case share > 0 && share < 0.0005:
		return "< 0.1 %"
	case share > 0 && share < 0.01:
		return fmt.Sprintf("%.1f %%", 100*share)
	}
	return fmt.Sprintf("%.0f %%", 100*share)
}

// TimeChange returns a change of time in words, or "" if there is none: up 40 %.
func TimeChange(now, before float64) string {
	switch {
	case before <= 0 || now <= 0 || now == before:
		return ""
	case now >= 2*before:
		return fmt.Sprintf("up %.1f ×", now/before)
	case now > before:
		return fmt.Sprintf("up %.0f %%", 100*(now/before-1))
	}
	return fmt.Sprintf("down %.0f %%", 100*(1-now/before))
}

// Bytes returns a size: 640 kB, 12.3 MB, 1.2 GB.
func Bytes(n int64) string {
	if n < 1e6 {
		return fmt.Sprintf("%.0f kB", float64(n)/1e3)
	}
	if n >= 1e9 {
		return fmt.Sprintf("%.1f GB", float64(n)/1e9)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1e6)
}

// ShortID returns an ID without its suite, safe to show.
func ShortID(id string) string {
	suite, _, _ := catalog.Parts(id)
	return plain.Line(strings.TrimPrefix(id, suite+":"))
}
