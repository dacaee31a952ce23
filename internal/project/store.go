package project

import (
	"os"
	"path/filepath"
)

// storeName is the folder of the project's data, beside fern.toml.
const storeName = ".fern"

// StorePath returns the folder of the project's data, which may not exist.
func (p *Project) StorePath() string { return filepath.Join(p.Dir, storeName) }

// Store returns the folder of the project's data. It creates the folder if necessary, with a file that keeps it
// out of git.
func (p *Project) Store() (string, error) {
	dir := p.StorePath()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	ignore := filepath.Join(dir, ".gitignore")
	if _, err := os.Stat(ignore); err == nil {
		return dir, nil
	}
	return dir, os.WriteFile(ignore, []byte("*\n"), 0o644)
}
