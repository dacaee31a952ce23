package project

import (
	"path/filepath"

	"fernrelay/internal/owned"
)

// storeName is the folder of the project's data, beside fern.toml.
const storeName = ".fern"

// recordsName is the folder of the records in it.
const recordsName = "slots"

// StorePath returns the folder of the project's data, which may not exist.
func (p *Project) StorePath() string { return filepath.Join(p.Dir, storeName) }

// Store returns the folder of the project's data. It creates the folder if necessary, with a file that keeps it
// out of git.
func (p *Project) Store() (string, error) {
	dir := p.StorePath()
	return dir, owned.MakeData(dir)
}

// RecordsPath returns the folder of the records of what runs and hunts have made, which may not exist.
func (p *Project) RecordsPath() string { return filepath.Join(p.StorePath(), recordsName) }

// Records returns the folder of the records, "" if the folder of the project's data, which it creates if necessary, cannot
// be made.
func (p *Project) Records() string {
	if _, err := p.Store(); err != nil {
		return ""
	}
	return p.RecordsPath()
}
