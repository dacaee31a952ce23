// Package glasshouse is the demo project: the control software of a large botanical glasshouse, invented, with its
// tests and with honest trouble among them. Tests share the state of one process and some forget to restore it.
package glasshouse

import (
	"embed"

	_ "fernrelay/internal/demo/glasshouse/alarms" // each registers its tests
	_ "fernrelay/internal/demo/glasshouse/boiler"
	_ "fernrelay/internal/demo/glasshouse/import"
	_ "fernrelay/internal/demo/glasshouse/irrigation"
	_ "fernrelay/internal/demo/glasshouse/ledger-book"
	_ "fernrelay/internal/demo/glasshouse/misting"
	_ "fernrelay/internal/demo/glasshouse/rounds"
	_ "fernrelay/internal/demo/glasshouse/seedbank"
	_ "fernrelay/internal/demo/glasshouse/sensors"
	_ "fernrelay/internal/demo/glasshouse/shade"
	_ "fernrelay/internal/demo/glasshouse/vents"
)

// Sources are the demo project's files, to be laid out in its folder.
//
//go:embed */*.go
var Sources embed.FS
