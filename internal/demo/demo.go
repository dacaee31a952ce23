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
	"slices"
	"strconv"
	"time"

	"fernrelay/core/lazy"
	"fernrelay/core/run"
	"fernrelay/internal/demo/glasshouse"
	"fernrelay/internal/ledger"
	"fernrelay/internal/owned"
	"fernrelay/internal/project"
	"fernrelay/internal/wholefile"
)

// HostCommand is the command of this program that serves the demo's tests.
const HostCommand = "demo-host"

// StoreCommand is the command of this program that is the demo's stand-in for a database server.
const StoreCommand = "demo-store"

// past is a ledger with thirty real runs of the demo project, made by
// scripts/demo-past. Their dates are made up when the project is laid out.
//
//go:embed past.db.gz
var past []byte

const config = `# The demo project of Fern Relay: the control software of a made-up glasshouse.

[project]
name = "glasshouse, demo data"

[[suite]]
name = "glasshouse"
kind = "host"
%[1]s
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

[[service]]                           # a stand-in for a database server, which ships with the demo
name = "shelf"
%[2]s
ready = "tcp:{port}"
every = "20ms"
env = { GLASS_STORE_AT = "127.0.0.1:{port}" }

[[service]]                           # another, which takes longer to start
name = "cellar"
%[3]s
ready = "tcp:{port}"
every = "20ms"
env = { GLASS_STORE_AT = "127.0.0.1:{port}" }

[matrix]                              # fern-relay matrix run, or leg 6
pick = "quick not nightly not in:irrigation"
at-once = 2
[matrix.vary]
store = ["memory", "shelf", "cellar"]
season = ["winter", "summer"]
[[matrix.with]]
of = { store = "shelf" }
services = ["shelf"]
[[matrix.with]]
of = { store = "cellar" }
services = ["cellar"]
[[matrix.with]]
of = { season = "summer" }
env = { GLASS_SEASON = "summer" }
[[matrix.with]]
of = { store = "memory", season = "summer" }
leave-out = "the model has no summer"
[[matrix.add]]
of = { store = "paper", season = "winter" }
[[matrix.with]]
of = { store = "paper" }
may-fail = "nobody keeps it any more"
[matrix.then]
run = "echo the glasshouse may open"
`

// programLines are the lines of the configuration that name this program.
var programLines = []func() *regexp.Regexp{lazy.Regexp(`(?m)^run = .* ` + HostCommand + `"$`),
	lazy.Regexp(`(?m)^start = .* ` + StoreCommand + ` shelf 127.0.0.1:\{port\}"$`), lazy.Regexp(`(?m)^start = .* ` + StoreCommand + ` cellar 127.0.0.1:\{port\}"$`)}

// LayOut writes the demo project into a folder of the user's cache and returns the folder. It keeps an existing
// ledger, and all of a fern.toml except the lines that name this program. One of an earlier version is kept beside the new one.
func LayOut() (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("there is no place for the demo project: %w", err)
	}
	program, err := os.Executable()
	if err != nil {
		return "", err
	}
	dir := filepath.Join(cache, "fern-relay", "glasshouse")
	return dir, LayOutIn(dir, program)
}

// LayOutIn writes the demo project into a folder; program is the fern-relay that serves its tests.
func LayOutIn(dir, program string) error {
	err := fs.WalkDir(glasshouse.Sources, ".", func(path string, entry fs.DirEntry, err error) error {
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
		return err
	}
	lines := programLinesOf(program)
	file := filepath.Join(dir, project.FileName)
	text := fmt.Appendf(nil, config, lines[0], lines[1], lines[2])
	switch kept, err := os.ReadFile(file); {
	case err == nil && namesProgram(kept):
		for i, line := range programLines {
			kept = line().ReplaceAllLiteral(kept, []byte(lines[i]))
		}
		text = kept
	case err == nil: // of an earlier version, perhaps with changes of its user
		if err := write(file+".before", kept); err != nil {
			return err
		}
	}
	if err := write(file, text); err != nil {
		return err
	}
	return layOutPast(filepath.Join(dir, ".fern"))
}

// programLinesOf returns the lines of the configuration that name a program.
func programLinesOf(program string) (lines []string) {
	line := func(key, args string) {
		lines = append(lines, key+" = "+strconv.Quote(fmt.Sprintf("'%s' %s", program, args)))
	}
	line("run", HostCommand)
	line("start", StoreCommand+" shelf 127.0.0.1:{port}")
	line("start", StoreCommand+" cellar 127.0.0.1:{port}")
	return lines
}

// namesProgram reports whether a configuration has all lines that name this program, so that it is one of this version.
func namesProgram(text []byte) bool {
	return !slices.ContainsFunc(programLines, func(line func() *regexp.Regexp) bool { return !line().Match(text) })
}

// layOutPast writes the recorded past into a store that has no ledger.
func layOutPast(store string) error {
	file := filepath.Join(store, ledger.FileName)
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
	if err := owned.MakeData(store); err != nil {
		return err
	}
	record := owned.Begin(filepath.Join(store, "slots"))
	defer record.Close()
	aside, err := record.MakeFolder(store)
	if err != nil {
		return err
	}
	defer aside.Remove()
	past := filepath.Join(aside.Path(), ledger.FileName)
	if err := write(past, data); err != nil {
		return err
	}
	if err := redate(aside.Path(), time.Now()); err != nil {
		return err
	}
	whole, err := os.ReadFile(past)
	if err != nil {
		return err
	}
	return write(file, whole)
}

// redate makes up the dates of the past: a run on five days of six before today, in working hours.
func redate(store string, now time.Time) error {
	l, err := ledger.Open(store)
	if err != nil {
		return err
	}
	last, err := l.Runs()
	if err == nil {
		err = l.Redate(func(k *run.Record) time.Time {
			day := 1 + (last-k.Number)*6/5
			return time.Date(now.Year(), now.Month(), now.Day()-day, 8+k.Number*7%10, k.Number*23%60, k.Number*37%60, 0, now.Location())
		})
	}
	return errors.Join(err, l.Close())
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
