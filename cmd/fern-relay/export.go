package main

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/wholefile"
)

// exportColumns are the columns of an export as CSV.
var exportColumns = []string{"run", "began", "revision", "dirty", "machine", "source", "id", "outcome", "seconds", "worker", "batch", "message", "file", "line"}

// exportLine is a line of an export as JSON.
type exportLine struct {
	Run      int       `json:"run"`
	Began    time.Time `json:"began"`
	Revision string    `json:"revision,omitempty"`
	Dirty    bool      `json:"dirty,omitempty"`
	Machine  string    `json:"machine,omitempty"`
	Source   string    `json:"source,omitempty"`
	testLine
}

func newExport(s *settings) *cobra.Command {
	var asJSON bool
	var file string
	cmd := &cobra.Command{
		Use:   "export",
		Short: "Write every result of every run, as CSV or JSON Lines",
		Args:  none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			switch ending := strings.ToLower(filepath.Ext(file)); {
			case file == "" || ending == ".csv" && !asJSON:
			case ending == ".jsonl":
				asJSON = true
			default:
				return fmt.Errorf("-o is %q: a file ending in .csv or .jsonl is expected", file)
			}
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			write := func(w io.Writer) error {
				out := bufio.NewWriter(w)
				return errors.Join(export(r, out, asJSON), out.Flush())
			}
			switch {
			case file == "" && asJSON: // in which escapes mean the same
				return write(cmd.OutOrStdout())
			case file == "":
				return write(stdout.Raw()) // sanitised cell by cell
			}
			return wholefile.Write(file, write)
		},
	}
	addJSON(cmd, &asJSON, "a JSON object a line, with outputs and steps")
	cmd.Flags().StringVarP(&file, "output", "o", "", "write to this `file`, ending in .csv or .jsonl")
	return cmd
}

// export writes the runs one after the other, the oldest first.
func export(r *app.History, w io.Writer, asJSON bool) error {
	lines := exportCSV
	if asJSON {
		lines = exportJSON
	} else if _, err := fmt.Fprintln(w, strings.Join(exportColumns, ",")); err != nil {
		return err
	}
	return r.Ledger().EachRun(lines, func(lines []byte) error {
		_, err := w.Write(lines)
		return err
	})
}

// exportJSON returns the results of a run as JSON Lines.
func exportJSON(k *run.Record, results iter.Seq[*run.Result]) ([]byte, error) {
	var lines bytes.Buffer
	encoder := newEncoder(&lines)
	for res := range results {
		if err := encoder.Encode(exportLine{k.Number, k.Began, k.Revision, k.Dirty, k.Machine, k.Imported, newTestLine(res)}); err != nil {
			return nil, err
		}
	}
	return lines.Bytes(), nil
}

// exportedRow is about how many bytes a row of an export as CSV has.
const exportedRow = 120

// exportCSV returns the results of a run as CSV. A csv.Writer would double the time that the export of a large ledger takes.
func exportCSV(k *run.Record, results iter.Seq[*run.Result]) ([]byte, error) {
	own := strconv.AppendInt(nil, int64(k.Number), 10)
	for _, cell := range []string{k.Began.UTC().Format(time.RFC3339), k.Revision, strconv.FormatBool(k.Dirty), k.Machine, k.Imported} {
		own = history.AppendCSV(append(own, ','), plain.Line(cell))
	}
	lines := make([]byte, 0, k.Tests()*exportedRow)
	for res := range results {
		lines = append(append(lines, own...), ',')
		lines = history.AppendCSV(lines, plain.Line(res.ID))
		lines = append(append(lines, ','), res.Outcome...)
		lines = strconv.AppendFloat(append(lines, ','), res.Seconds, 'f', -1, 64)
		lines = strconv.AppendInt(append(lines, ','), int64(res.Worker), 10)
		lines = strconv.AppendInt(append(lines, ','), int64(res.Batch), 10)
		lines = history.AppendCSV(append(lines, ','), plain.Text(res.Message))
		lines = history.AppendCSV(append(lines, ','), plain.Line(res.File))
		lines = append(strconv.AppendInt(append(lines, ','), int64(res.Line), 10), '\n')
	}
	return lines, nil
}
