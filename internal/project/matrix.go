package project

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"fernrelay/core/matrix"
	"fernrelay/core/pick"
	"fernrelay/internal/process"
)

// Matrix is what varies between the runs of a project's tests.
type Matrix struct {
	*matrix.Matrix
	Pick   string // of all crossings; empty for all tests
	AtOnce int    // crossings that run at the same time, from 1
	Then   string // the command after all crossings that must pass have passed; empty for none

	ThenWithin time.Duration // of that command
}

// matrixTable is [matrix] as it is written.
type matrixTable struct {
	Pick   string              `toml:"pick"`
	AtOnce int                 `toml:"at-once"`
	Vary   map[string][]string `toml:"vary"`
	With   []struct {
		Of         map[string]string `toml:"of"`
		Services   []string          `toml:"services"`
		Share      []string          `toml:"share"`
		Env        map[string]string `toml:"env"`
		BuildFlags []string          `toml:"build-flags"`
		Pick       string            `toml:"pick"`
		LeaveOut   string            `toml:"leave-out"`
		MayFail    string            `toml:"may-fail"`
	} `toml:"with"`
	Add []struct {
		Of map[string]string `toml:"of"`
	} `toml:"add"`
	Then struct {
		Run    string `toml:"run"`
		Within string `toml:"within"`
	} `toml:"then"`
}

// defaultThenWithin is how long the command after all crossings may take if fern.toml does not say.
const defaultThenWithin = 10 * time.Minute

func (p *Project) addMatrix(f *file, d *document) error {
	m := f.Matrix
	if m == nil {
		return nil
	}
	if m.AtOnce < 0 {
		return d.wrong(d.entry("matrix", 0, "at-once"), "at-once is %d: a number from 1 is expected", m.AtOnce)
	}
	if _, err := d.pick(d.entry("matrix", 0, "pick"), m.Pick); m.Pick != "" && err != nil {
		return err
	}
	spec, err := p.matrixSpec(m, d)
	if err != nil {
		return err
	}
	crossed, err := matrix.New(spec)
	var wrong *matrix.Error
	switch {
	case errors.As(err, &wrong) && d.table("matrix."+wrong.Table, 0) == nil:
		return d.wrong(d.entry("matrix", 0, wrong.Table), "%w", err)
	case errors.As(err, &wrong):
		return d.wrong(d.entry("matrix."+wrong.Table, wrong.Entry, wrong.Name), "%w", err)
	case err != nil:
		return err
	}
	if _, err := process.Words(m.Then.Run); m.Then.Run != "" && err != nil {
		return d.wrong(d.entry("matrix.then", 0, "run"), "run = %w", err)
	}
	within := defaultThenWithin
	if m.Then.Within != "" {
		if within, err = time.ParseDuration(m.Then.Within); err != nil || within <= 0 {
			return d.wrong(d.entry("matrix.then", 0, "within"), "within is %q: a duration like 10m is expected", m.Then.Within)
		}
	}
	p.Matrix = &Matrix{Matrix: crossed, Pick: m.Pick, AtOnce: max(1, m.AtOnce), Then: m.Then.Run, ThenWithin: within}
	return nil
}

// matrixSpec reads what varies in a matrix, and what its values bring along.
func (p *Project) matrixSpec(m *matrixTable, d *document) (spec matrix.Spec, err error) {
	for _, e := range d.entries("matrix.vary") { // a map has lost their order
		spec.Names = append(spec.Names, matrix.Name{Name: e.key, Values: m.Vary[e.key]})
	}
	for n, w := range m.With {
		if err := p.checkServices(w.Services); err != nil {
			return spec, d.wrong(d.entry("matrix.with", n, "services"), "%w", err)
		}
		if err := p.checkServices(w.Share); err != nil {
			return spec, d.wrong(d.entry("matrix.with", n, "share"), "%w", err)
		}
		if _, err := d.pick(d.entry("matrix.with", n, "pick"), w.Pick); w.Pick != "" && err != nil {
			return spec, err
		}
		spec.With = append(spec.With, matrix.With{Of: w.Of, Services: w.Services, Share: w.Share, Env: w.Env, BuildFlags: w.BuildFlags, Pick: w.Pick, LeaveOut: w.LeaveOut, MayFail: w.MayFail})
	}
	for _, a := range m.Add {
		spec.Add = append(spec.Add, a.Of)
	}
	return spec, nil
}

// PickOf returns the pick of a crossing: that of the matrix, narrowed by that of the crossing.
func (m *Matrix) PickOf(c *matrix.Crossing) string { return pick.Join(m.Pick, c.Pick) }

// At returns the project as it is in a crossing of its matrix: with the crossing's environment, services and build flags, and
// with folders of its own.
func (p *Project) At(c *matrix.Crossing) *Project {
	at := *p
	at.Crossing = c
	at.Workers.Env = map[string]string{"XDG_CACHE_HOME": filepath.Join(p.crossingPath(c), "cache")}
	maps.Copy(at.Workers.Env, p.Workers.Env)
	maps.Copy(at.Workers.Env, c.Env)
	at.Workers.Services = slices.Concat(p.Workers.Services, c.Services)
	at.Suites = slices.Clone(p.Suites)
	for i := range at.Suites {
		if s := &at.Suites[i]; s.Kind == Go {
			s.Go.BuildFlags = slices.Concat(s.Go.BuildFlags, c.BuildFlags)
		}
	}
	return &at
}

// ServicesPath returns the folder of the data of services, which may not exist.
func (p *Project) ServicesPath() string {
	if p.Crossing != nil {
		return filepath.Join(p.crossingPath(p.Crossing), "services")
	}
	return filepath.Join(p.StorePath(), "services")
}

// BuildPath returns the folder of what is built for a suite, which may not exist.
func (p *Project) BuildPath(s Suite) string {
	if p.Crossing != nil {
		return filepath.Join(p.crossingPath(p.Crossing), "build", s.Name)
	}
	return filepath.Join(p.StorePath(), "build", s.Name)
}

// crossingPath returns the folder of a crossing's data, such as .fern/matrix/redis-winter.
func (p *Project) crossingPath(c *matrix.Crossing) string {
	name := folderName(c)
	for i := range p.Matrix.Crossings {
		if other := &p.Matrix.Crossings[i]; other.Key() == c.Key() {
			break
		} else if folderName(other) == name {
			name += fmt.Sprint("~", i) // as values that have a hyphen may be others with hyphens between them
		}
	}
	return filepath.Join(p.StorePath(), "matrix", name)
}

// folderName joins the values of a crossing, as in "redis-winter".
func folderName(c *matrix.Crossing) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(` /\\:#~`, r) || !unicode.IsPrint(r) {
			return '-'
		}
		return r
	}, c.Label())
}
