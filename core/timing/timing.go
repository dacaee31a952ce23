// Package timing says how long a test will take, from how long it took.
package timing

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"fernrelay/core/catalog"
)

// Default is the time assumed for a test, in seconds, where nothing at all is known.
const Default = 0.1

// Expect sets Expected and Known of every test from the seconds of its latest
// runs, by ID: their median, so that one odd run does not bend it.
// A test never measured gets the median of its group, then of its suite, then
// of all, then Default. A test that is put out takes no time.
func Expect(tests []catalog.Test, past map[string][]float64) {
	type place struct{ suite, group string }
	groups, suites := map[place][]float64{}, map[string][]float64{}
	var all []float64
	for i := range tests {
		t := &tests[i]
		t.Known = len(past[t.ID]) > 0 || t.PutOut != ""
		if t.PutOut != "" {
			t.Expected = 0
			continue
		}
		if !t.Known {
			continue
		}
		t.Expected = median(past[t.ID])
		at := place{t.Suite, t.Group}
		groups[at] = append(groups[at], t.Expected)
		suites[t.Suite] = append(suites[t.Suite], t.Expected)
		all = append(all, t.Expected)
	}
	groupMedian, suiteMedian := map[place]float64{}, map[string]float64{}
	for at, seconds := range groups {
		groupMedian[at] = median(seconds)
	}
	for suite, seconds := range suites {
		suiteMedian[suite] = median(seconds)
	}
	otherwise := Default
	if len(all) > 0 {
		otherwise = median(all)
	}
	for i := range tests {
		t := &tests[i]
		if t.Known {
			continue
		}
		t.Expected = otherwise
		if m, ok := suiteMedian[t.Suite]; ok {
			t.Expected = m
		}
		if m, ok := groupMedian[place{t.Suite, t.Group}]; ok {
			t.Expected = m
		}
	}
}

func median(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}

// absurd is the most that one test may be said to take, in seconds: thirty days.
const absurd = 30 * 24 * 3600

// ReadCSV reads expected times: a header with the columns id and seconds (more
// are allowed), then a test a line. The tests come in the order of the file. An
// error names the line.
func ReadCSV(r io.Reader) ([]catalog.Test, error) {
	reader := csv.NewReader(r)
	reader.TrimLeadingSpace = true
	header, err := reader.Read()
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	idColumn, secondsColumn := slices.Index(header, "id"), slices.Index(header, "seconds")
	if idColumn < 0 || secondsColumn < 0 {
		return nil, fmt.Errorf("line 1: the header is %q, but the columns id and seconds are expected", strings.Join(header, ","))
	}
	var tests []catalog.Test
	lines := map[string]int{}
	for {
		record, err := reader.Read()
		if errors.Is(err, io.EOF) {
			return tests, nil
		}
		if err != nil {
			return nil, err
		}
		line, _ := reader.FieldPos(0)
		test, err := csvTest(record[idColumn], record[secondsColumn])
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		if first := lines[test.ID]; first > 0 {
			return nil, fmt.Errorf("line %d: the id %q stands already in line %d", line, test.ID, first)
		}
		lines[test.ID] = line
		tests = append(tests, test)
	}
}

func csvTest(id, seconds string) (catalog.Test, error) {
	if id == "" {
		return catalog.Test{}, errors.New("the id is empty")
	}
	s, err := strconv.ParseFloat(seconds, 64)
	if err != nil || math.IsNaN(s) || s < 0 || s > absurd {
		return catalog.Test{}, fmt.Errorf("the seconds of %q are %q: a number from 0 to %d is expected", id, seconds, absurd)
	}
	t := catalog.Test{ID: id, Group: id, Name: id, Expected: s, Known: true}
	if group, name, ok := strings.Cut(id, "#"); ok {
		t.Suite, t.Group, _ = strings.Cut(group, ":")
		if t.Group == "" {
			t.Suite, t.Group = "", group
		}
		t.Name = name
	}
	return t, nil
}
