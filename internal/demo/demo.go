// Package demo lays out the demo project, a made-up glasshouse, so that the
// whole of Fern Relay can be tried on it. The project's test host is this very
// program, started again as a second process.
package demo

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"

	"fernrelay/internal/demo/glasshouse"
	"fernrelay/internal/project"
	"fernrelay/internal/wholefile"
)

// HostCommand is the command of this program that serves the demo's tests.
const HostCommand = "demo-host"

// past is a ledger with about thirty real runs of the demo project, made by
// scripts/demo-past.
//
//go:embed past.db.gz
var past []byte

const config = `# The demo project of Fern Relay: the control software of a made-up glasshouse.

[project]
name = "glasshouse"

[[suite]]
name = "glasshouse"
kind = "host"
run = %s
timeout = "20s"

[tags]
slow = "took>=900ms"

[picks]
desk = "quick not nightly"            # while working
shaky = "flips>1 or rate<90%%"
cold = "frost or (clock in:alarms/**)"

[[rule]]                              # all of them talk over one line
pick = "bus"
holds = ["boiler-bus"]

[[rule]]
pick = "id:glasshouse:irrigation/drip#holds_when_dry"
needs = ["opens_at_dawn"]

[[rule]]                              # the archive is not reached from everywhere
pick = "in:import"
only-if = "not env:GLASS_OFFLINE"

[resources]
boiler-bus = 1

[fleet]
start = "8s"                           # to check out and build, before the first test

[workers]
count = 4
# GLASS_MENDED "on" mends the pair in shade: hunt --verify then says so. GLASS_BUS "38400" makes
# the boiler bus faster. GLASS_ARCHIVE "away" takes the archive away that lists are imported from.
env = { GLASS_MENDED = "off", GLASS_BUS = "19200", GLASS_ARCHIVE = "here" }
`

// runLine is the line of the configuration that names this program.
var runLine = regexp.MustCompile(`(?m)^run = .*$`)

// LayOut writes the demo project into a folder of the user's cache and returns the folder. It keeps an existing
// ledger, and all of a fern.toml except the line that names this program.
func LayOut() (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("there is no place for the demo project: %w", err)
	}
	dir := filepath.Join(cache, "fern-relay", "glasshouse")
	err = fs.WalkDir(glasshouse.Sources, ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := glasshouse.Sources.ReadFile(path)
		if err != nil {
			return err
		}
		return write(filepath.Join(dir, filepath.FromSlash(path)), data)
	})
	if err != nil {
		return "", err
	}
	program, err := os.Executable()
	if err != nil {
		return "", err
	}
	command := strconv.Quote(fmt.Sprintf("'%s' %s", program, HostCommand))
	file := filepath.Join(dir, project.FileName)
	text := fmt.Appendf(nil, config, command)
	if kept, err := os.ReadFile(file); err == nil && runLine.Match(kept) {
		text = runLine.ReplaceAllLiteral(kept, []byte("run = "+command))
	}
	if err := write(file, text); err != nil {
		return "", err
	}
	return dir, layOutPast(filepath.Join(dir, ".fern", "ledger.db"))
}

func layOutPast(file string) error {
	if _, err := os.Stat(file); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	packed, err := gzip.NewReader(bytes.NewReader(past))
	if err != nil {
		return err
	}
	data, err := io.ReadAll(packed)
	if err != nil {
		return err
	}
	return write(file, data)
}

// write replaces a file whole, so that two demos that start at once do not see halves.
func write(name string, data []byte) error {
	if old, err := os.ReadFile(name); err == nil && bytes.Equal(old, data) {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return wholefile.Write(name, wholefile.Bytes(data))
}
