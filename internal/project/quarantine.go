package project

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"fernrelay/core/quarantine"
)

// quarantined is a [[test]] of a file of tests in quarantine.
type quarantined struct {
	ID     string         `toml:"id"`
	Reason string         `toml:"reason"`
	Since  toml.LocalDate `toml:"since,omitempty"`
	Until  toml.LocalDate `toml:"until"`
	Hunt   int            `toml:"hunt,omitempty"`
	After  []string       `toml:"after,omitempty"`
	Beside []string       `toml:"beside,omitempty"`
}

// quarantineTable is the name of the tables of the file.
const quarantineTable = "test"

// Quarantine reads a file of tests in quarantine.
func Quarantine(path string) (quarantine.List, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no file %s: fern-relay hunt --quarantine %s writes it", path, path)
	}
	if err != nil {
		return nil, unreadable(path, err)
	}
	return parseQuarantine(path, data)
}

func parseQuarantine(path string, data []byte) (quarantine.List, error) {
	var f struct {
		Tests []quarantined `toml:"test"`
	}
	decoder := toml.NewDecoder(bytes.NewReader(data))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&f); err != nil {
		return nil, positioned(path, err)
	}
	d := newDocument(path, data)
	list := make(quarantine.List, len(f.Tests))
	seen := map[string]bool{}
	for i, t := range f.Tests {
		wrong := func(key, format string, args ...any) error {
			return d.wrong(d.entry(quarantineTable, i, key), format, args...)
		}
		switch {
		case t.ID == "":
			return nil, wrong("id", "this test has no id")
		case seen[t.ID]:
			return nil, wrong("id", "%s is in quarantine twice: remove one of the entries", t.ID)
		case t.Reason == "":
			return nil, wrong("reason", "%s has no reason: say why its failures are known", t.ID)
		case t.Until == toml.LocalDate{}:
			return nil, wrong("until", "%s has no date: say until when its failures are owed, as in until = %s", t.ID, time.Now().AddDate(0, 0, quarantine.DaysOwed).Format(quarantine.Day))
		}
		seen[t.ID] = true
		list[i] = quarantine.Entry{ID: t.ID, Reason: t.Reason, Since: dayOf(t.Since), Until: dayOf(t.Until), Hunt: t.Hunt, After: t.After, Beside: t.Beside}
		if list[i].Until.Before(list[i].Since) {
			return nil, wrong("until", "the quarantine of %s ends before it begins on %s", t.ID, t.Since)
		}
	}
	return list, nil
}

// dayOf returns the beginning of a day here; zero for no day.
func dayOf(d toml.LocalDate) time.Time {
	if d == (toml.LocalDate{}) {
		return time.Time{}
	}
	return d.AsTime(time.Local)
}

// AddQuarantine adds tests to a file of tests in quarantine, which it creates if there is none. It leaves those alone that the
// file has already, and returns how many it added.
func AddQuarantine(path string, more quarantine.List) (added int, err error) {
	const head = "# Tests whose failures are known. fern-relay run --quarantine runs them last and apart, and owes their\n" +
		"# failures until the date. Mend them, and remove them from here.\n"
	check := func(data []byte) error {
		_, err := parseQuarantine(path, data)
		return err
	}
	err = change(path, head, func(d *document) ([]byte, error) {
		have, err := parseQuarantine(path, d.data)
		if err != nil {
			return nil, err
		}
		for _, e := range more {
			if have.Has(e.ID) {
				continue
			}
			lines, err := toml.Marshal(quarantined{e.ID, e.Reason, localDate(e.Since), localDate(e.Until), e.Hunt, e.After, e.Beside})
			if err != nil {
				return nil, err
			}
			d = newDocument(path, d.withTable("[["+quarantineTable+"]]", strings.TrimSpace(string(lines))))
			added++
		}
		return d.data, nil
	}, check)
	return added, err
}

func localDate(t time.Time) toml.LocalDate {
	return toml.LocalDate{Year: t.Year(), Month: int(t.Month()), Day: t.Day()}
}
