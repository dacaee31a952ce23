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
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/demo/glasshouse"
	"fernrelay/internal/ledger"
	"fernrelay/internal/owned"
	"fernrelay/internal/process"
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
run = "{fern-relay} demo-host"         # the program that opens the project
timeout = "20s"

[tags]
slow = "took>=900ms"

[picks]
desk = "quick not nightly"            # while working
shaky = "flips>1 or rate<90%"
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
start = "{fern-relay} demo-store shelf 127.0.0.1:{port}"
ready = "tcp:{port}"
every = "20ms"
env = { GLASS_STORE_AT = "127.0.0.1:{port}" }

[[service]]                           # another, which takes longer to start
name = "cellar"
start = "{fern-relay} demo-store cellar 127.0.0.1:{port}"
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

// LayOut writes the demo project into a folder of the user's cache and returns the folder. It keeps an existing
// ledger and fern.toml. A fern.toml of an earlier version is kept beside the new one.
func LayOut() (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("there is no place for the demo project: %w", err)
	}
	dir := filepath.Join(cache, "fern-relay", "glasshouse")
	return dir, LayOutIn(dir)
}

// LayOutIn writes the demo project into a folder.
func LayOutIn(dir string) error {
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
	if err := writeConfig(filepath.Join(dir, project.FileName)); err != nil {
		return err
	}
	return layOutPast(filepath.Join(dir, ".fern"))
}

// writeConfig writes fern.toml. It leaves one alone that serves the tests in the way of this version, perhaps with changes of its
// user, and keeps any other beside the new one.
func writeConfig(file string) error {
	kept, err := os.ReadFile(file)
	if err == nil && bytes.Contains(kept, []byte(`"`+process.Self+" "+HostCommand+`"`)) {
		return nil
	}
	if err == nil {
		if err := write(file+".before", kept); err != nil {
			return err
		}
	}
	return write(file, []byte(config))
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
