package history

import (
	"bytes"
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

// absurd is the most that one test may be said to take, in seconds: thirty days.
const absurd = 30 * 24 * 3600

// The columns of a file of timings. The first two are required; others may follow.
const (
	idColumn      = "id"
	secondsColumn = "seconds"
	spreadColumn  = "spread"
	setupColumn   = "setup"
)

// RepeatedError is the error of a file that has IDs more than once.
type RepeatedError struct {
	Places []string // "line 7: the id … stands already in line 3"
}

func (r *RepeatedError) Error() string {
	if len(r.Places) == 1 {
		return r.Places[0] + ": leave one of them"
	}
	return fmt.Sprintf("%s, and %d more lines repeat an id (-v lists them): leave one of each", r.Places[0], len(r.Places)-1)
}

// ReadCSV reads expected times: a header with the columns id and seconds, and perhaps spread and setup, then one
// test per line. It returns the tests in the order of the file. An error names the line; it is a *Repeated if IDs
// occur more than once.
func ReadCSV(r io.Reader) ([]catalog.Test, error) {
	data, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	most := bytes.Count(data, []byte("\n"))
	reader := csv.NewReader(bytes.NewReader(data))
	reader.TrimLeadingSpace = true
	reader.ReuseRecord = true
	at, err := readColumns(reader)
	if err != nil {
		return nil, err
	}
	tests, lines := make([]catalog.Test, 0, most), make(map[string]int, most)
	repeated := &RepeatedError{}
	for {
		record, err := reader.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		line, _ := reader.FieldPos(0)
		test, err := csvTest(record, at)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		if first := lines[test.ID]; first > 0 {
			repeated.Places = append(repeated.Places, fmt.Sprintf("line %d: the id %q is already in line %d", line, test.ID, first))
			continue
		}
		lines[test.ID] = line
		tests = append(tests, test)
	}
	if len(repeated.Places) > 0 {
		return nil, repeated
	}
	return tests, nil
}

// readColumns reads the header.
func readColumns(reader *csv.Reader) (at columns, err error) {
	header, err := reader.Read()
	if err != nil && !errors.Is(err, io.EOF) {
		return at, err
	}
	if len(header) > 0 {
		header[0] = strings.TrimPrefix(header[0], "\ufeff") // which spreadsheets put in front
	}
	at.id = slices.Index(header, idColumn)
	for i, name := range figureColumns {
		at.figures[i] = slices.Index(header, name)
	}
	if at.id < 0 || at.figures[0] < 0 {
		return at, fmt.Errorf("line 1: the header is %q, but the columns id and seconds are expected", strings.Join(header, ","))
	}
	return at, nil
}

// figureColumns are those that hold seconds; the first must be there.
var figureColumns = [...]string{secondsColumn, spreadColumn, setupColumn}

// columns has the place of each column; -1 for one that is missing.
type columns struct {
	id      int
	figures [len(figureColumns)]int
}

func csvTest(record []string, at columns) (t catalog.Test, err error) {
	id := strings.Clone(uncell(record[at.id]))
	if id == "" {
		return t, errors.New("the id is empty")
	}
	var figures [len(figureColumns)]float64
	for i, column := range at.figures {
		if column < 0 || record[column] == "" && i > 0 {
			continue
		}
		s, err := strconv.ParseFloat(record[column], 64)
		if err != nil || math.IsNaN(s) || s < 0 || s > absurd {
			return t, fmt.Errorf("the %s of %q are %q: a number from 0 to %d is expected", figureColumns[i], id, record[column], absurd)
		}
		figures[i] = s
	}
	t = catalog.Test{ID: id, Group: id, Name: id, Known: true, Expected: figures[0], Spread: figures[1], Setup: figures[2]}
	if group, name, ok := strings.Cut(id, "#"); ok {
		t.Suite, t.Group, _ = strings.Cut(group, ":")
		if t.Group == "" {
			t.Suite, t.Group = "", group
		}
		t.Name = name
	}
	return t, nil
}

// formulaSigns begin a cell that a spreadsheet takes for a formula, and runs.
const formulaSigns = "=+-@\t\r"

// CSVCell returns a text as a cell of CSV: an apostrophe goes before what a spreadsheet would run.
func CSVCell(text string) string {
	if text != "" && strings.ContainsRune(formulaSigns, rune(text[0])) {
		return "'" + text
	}
	return text
}

// plainSigns are the signs that a cell needs no quotes for.
const plainSigns = ":#/._-"

// AppendCSV appends a text as a cell of CSV.
func AppendCSV(line []byte, text string) []byte {
	text = CSVCell(text)
	for i := range len(text) {
		c := text[i]
		if ('a' > c || c > 'z') && ('A' > c || c > 'Z') && ('0' > c || c > '9') && strings.IndexByte(plainSigns, c) < 0 {
			return append(line, quotedCell(text)...)
		}
	}
	return append(line, text...)
}

// quotedCell returns a cell in the quotes that it may need.
func quotedCell(cell string) string {
	var quoted strings.Builder
	w := csv.NewWriter(&quoted)
	_ = w.Write([]string{cell}) // a strings.Builder takes all
	w.Flush()
	return strings.TrimSuffix(quoted.String(), "\n")
}

// uncell undoes CSVCell.
func uncell(cell string) string {
	if text, quoted := strings.CutPrefix(cell, "'"); quoted && CSVCell(text) == cell {
		return text
	}
	return cell
}

// TimesOf returns what a file of timings says, by ID and group.
func TimesOf(timed []catalog.Test) Times {
	tests, setups := make(ByID, len(timed)), map[string]float64{}
	for i := range timed {
		t := &timed[i]
		tests[t.ID] = Time{Seconds: t.Expected, Spread: t.Spread}
		place := t.GroupName()
		setups[place] = max(setups[place], t.Setup)
	}
	return Times{Tests: tests, Setups: setups}
}

// WriteCSV writes the times of the tests that were measured, one test per line, sorted by ID so that versions of
// the file can be compared and merged. If an earlier file, by ID, has a figure that does not differ from the new
// one within its spread, that figure stays, so that the file changes only if times do.
func WriteCSV(w io.Writer, tests []catalog.Test, earlier map[string]catalog.Test) error {
	measured := make([]*catalog.Test, 0, len(tests))
	for i := range tests {
		if tests[i].Known && tests[i].SkipReason == "" {
			measured = append(measured, &tests[i])
		}
	}
	slices.SortFunc(measured, func(a, b *catalog.Test) int { return strings.Compare(a.ID, b.ID) })
	out := csv.NewWriter(w)
	_ = out.Write([]string{idColumn, secondsColumn, spreadColumn, setupColumn}) // Error reports it below
	figure := func(seconds float64) string { return strconv.FormatFloat(Round(seconds), 'f', -1, 64) }
	for _, t := range measured {
		seconds, spread, setup := t.Expected, t.Spread, t.Setup
		if old, ok := earlier[t.ID]; ok && math.Abs(old.Expected-seconds) <= max(spread, seconds/20) {
			seconds, spread = old.Expected, old.Spread
			if math.Abs(old.Setup-setup) <= setup/4 {
				setup = old.Setup
			}
		}
		_ = out.Write([]string{CSVCell(t.ID), figure(seconds), figure(spread), figure(setup)})
	}
	out.Flush()
	return out.Error()
}
