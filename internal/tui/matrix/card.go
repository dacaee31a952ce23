package matrix

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

// drawFoot draws the step after all crossings, and what the crossing under the cursor consists of.
func (v *View) drawFoot(c screen.Canvas, p places) {
	t, y := c.Theme, p.below
	if p.airy {
		y++
	}
	if v.Then.Command != "" {
		x := c.Text(2, y, screen.Style{Colour: t.Fog}, "then  ")
		x = c.Text(x, y, screen.Style{Colour: t.Ink}, screen.Cut(plain.Line(v.Then.Command), c.Width/2))
		words, look := v.thenWords(t)
		c.Text(x+2, y, look, screen.Cut(words, c.Width-x-4))
		y++
	}
	row := v.current()
	if row == nil {
		return
	}
	if p.airy {
		y++
	}
	v.drawCard(c.Sub(0, y, c.Width, c.Height-y), row)
}

// thenWords says how the step after all crossings is.
func (v *View) thenWords(t *screen.Theme) (string, screen.Style) {
	passed, must := v.results().Counts()
	failed := 0
	for _, row := range v.Rows {
		if row.State == matrix.Ended && row.MayFail == "" && row.Outcome != run.Passed {
			failed++
		}
	}
	switch {
	case v.Then.Outcome == run.Passed:
		return "passed", screen.Style{Colour: t.Leaf}
	case v.Then.Outcome == run.Failed:
		return "failed: " + plain.Line(v.Then.Why), screen.Style{Colour: t.Rust}
	case failed > 0:
		return fmt.Sprintf("does not run: %s that must pass failed", wording.Plural(failed, "crossing")), screen.Style{Colour: t.Rust}
	case v.Then.Outcome == run.Skipped:
		return "did not run: " + plain.Line(v.Then.Why), screen.Style{Colour: t.Fog}
	}
	return fmt.Sprintf("waits for %d of %d crossings that must pass", must-passed, must), screen.Style{Colour: t.Fog}
}

// drawCard draws the services, the environment, the data and the past of a crossing, and the commands for it.
func (v *View) drawCard(c screen.Canvas, row *progress.Crossing) {
	t := c.Theme
	fog, water := screen.Style{Colour: t.Fog}, screen.Style{Colour: t.Water}
	x := c.Text(2, 0, screen.Style{Colour: t.Ink, Bold: true}, screen.Cut(strings.ReplaceAll(plain.Line(row.Label()), " ", " · "), c.Width/3)) + 3
	column := max(x, 23)
	services, look := v.servicesWords(row), screen.Style{Colour: t.Amber}
	if services == "" {
		services, look = "no services", fog
	}
	x = c.Text(column, 0, look, screen.Cut(services, c.Width/3)) + 3
	second := max(x, column+22)
	if env := envWords(row); env != "" {
		name, value, _ := strings.Cut(env, "=")
		x = c.Text(second, 0, fog, screen.Cut(plain.Line(name), 24))
		c.Text(x+2, 0, water, screen.Cut(plain.Line(value), c.Width-x-4))
	}
	x = c.Text(2, 1, fog, "past  ")
	for _, o := range row.Past {
		x = c.Text(x, 1, screen.Style{Colour: t.Outcome(o)}, o.Shape())
	}
	if row.Past == nil {
		c.Text(x, 1, fog, "none")
	}
	if row.Live != nil {
		c.Text(column, 1, fog, wording.Plural(len(row.Live.Tracks), "worker"))
	}
	at := v.session.App.Project.At(row.Crossing)
	if data, err := filepath.Rel(at.Dir, filepath.Dir(at.ServicesPath())); err == nil {
		x = c.Text(second, 1, fog, "data")
		c.Text(x+2, 1, water, screen.Cut(plain.Line(data), c.Width-x-4))
	}
	if row.MayFail != "" {
		c.Right(c.Width-1, 1, fog, screen.Cut("may fail: "+plain.Line(row.MayFail), c.Width/3))
	}
	if c.Height < 4 {
		return
	}
	x = c.Text(2, 3, screen.Style{Colour: t.Ink}, screen.Cut("fern-relay matrix run --at "+row.Key(), c.Width*2/3))
	c.Text(x+2, 3, fog, screen.Cut("repeats it", c.Width-x-4))
	if jobs := "fern-relay matrix jobs --shards 2"; c.Width >= screen.WideScreen && x+18+len(jobs) < c.Width-22 {
		x = c.Text(x+16, 3, screen.Style{Colour: t.Ink}, jobs)
		c.Text(x+2, 3, fog, "prints the jobs for CI")
	}
}

// servicesWords says which services a crossing has, and how they are; empty if it has none.
func (v *View) servicesWords(row *progress.Crossing) string {
	if missing := v.forecasts[row.Key()].Missing; missing != nil {
		return "skipped here: " + plain.Line(missing.Error())
	}
	ready := map[string]float64{}
	if ran := row.Ran(); ran != nil {
		for _, s := range ran.Services {
			ready[s.Name] = s.Ready
		}
	}
	var parts []string
	for _, name := range v.forecasts[row.Key()].Services {
		if _, ok := ready[name]; !ok {
			parts = append(parts, plain.Line(name))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(ready)) {
		parts = append(parts, fmt.Sprintf("%s, ready in %s", plain.Line(name), history.Short(ready[name])))
	}
	return strings.Join(parts, "; ")
}

// envWords returns a part of the environment of a crossing's tests: that of a service, or else its own.
func envWords(r *progress.Crossing) string {
	if ran := r.Ran(); ran != nil {
		for _, s := range ran.Services {
			if first, _, _ := strings.Cut(s.Env, "\n"); first != "" {
				return first
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Env)) {
		return name + "=" + r.Env[name]
	}
	return ""
}

// drawTests lists the tests of an explanation.
func (v *View) drawTests(c screen.Canvas, p places) {
	t, e := c.Theme, v.listing
	failures := map[string]*run.Result{}
	counts := map[string]int{}
	for _, r := range e.Failures {
		failures[r.ID] = r
		counts[r.ID]++
	}
	c.Text(2, 0, screen.Style{Colour: t.Fog}, screen.Cut(plain.Line(e.Explanation.Text(&v.matrix().Spec))+"   esc goes back, H hunts, e edits", c.Width-4))
	for i := v.testTop; i < min(len(e.Tests), v.testTop+p.testsShown); i++ {
		y, id := 2+i-v.testTop, e.Tests[i]
		c.Text(2, y, screen.Style{Colour: t.Rust, Bold: true}, run.Failed.Shape())
		half := c.Width / 2
		c.Text(5, y, screen.Style{Colour: t.Ink}, screen.CutMiddle(wording.ShortID(id), half-6))
		if r := failures[id]; r != nil {
			x := c.Text(half, y, screen.Style{Colour: t.Fog}, fmt.Sprintf("%3d ×  ", counts[id]))
			c.Text(x, y, screen.Style{Colour: t.Rust}, screen.Cut(plain.Line(r.Message), c.Width-x-2))
		}
		if i == v.testAt {
			c.SelectRow(1, y, c.Width-2, 1)
		}
	}
}
