// Package hosts has the libraries by which tests in other languages speak the test-host protocol, as files to be copied beside the
// tests:
//
//	err := os.WriteFile("fernhost.py", hosts.Python, 0o644)
package hosts

import _ "embed"

// The libraries, each one file without dependencies.
var (
	//go:embed python/fernhost.py
	Python []byte
	//go:embed node/fernhost.js
	JavaScript []byte
)
