package app

import (
	"cmp"
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"fernrelay/core/run"
	"fernrelay/internal/wholefile"
)

// matrixRecord says how far a run of a matrix has come, so that it can be resumed.
type matrixRecord struct {
	Pick string         `json:"pick"`
	From run.Source     `json:"from"` // the sources that it runs
	Keys []string       `json:"keys"`
	Done map[string]int `json:"done"` // by key: the number of its run in the ledger
}

const matrixRecordPath = "matrix/run.json"

// readRecord reads how far the run came that was killed last.
func (r *MatrixRun) readRecord() error {
	data, err := os.ReadFile(r.recordPath())
	if errors.Is(err, fs.ErrNotExist) {
		return errors.New("no run of the matrix was ended before its end, so there is nothing to resume")
	}
	var record matrixRecord
	if err = cmp.Or(err, json.Unmarshal(data, &record)); err != nil {
		return err
	}
	r.request.Pick, r.request.Crossings = record.Pick, nil
	for _, c := range r.app.Project.Matrix.Crossings {
		if slices.Contains(record.Keys, c.Key()) {
			r.request.Crossings = append(r.request.Crossings, c)
		}
	}
	r.record = matrixRecord{Pick: record.Pick, From: record.From, Done: map[string]int{}}
	maps.Copy(r.record.Done, record.Done)
	return nil
}

func (r *MatrixRun) recordPath() string {
	return filepath.Join(r.app.Project.StorePath(), filepath.FromSlash(matrixRecordPath))
}

// writeRecord notes how far the run has come. Without it the run cannot be resumed, and continues.
func (r *MatrixRun) writeRecord() {
	if os.MkdirAll(filepath.Dir(r.recordPath()), 0o755) == nil {
		data, _ := json.Marshal(r.record)
		_ = wholefile.Replace(r.recordPath(), 0o644, wholefile.Bytes(data))
	}
}
