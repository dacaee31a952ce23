package tui

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
	"fernrelay/internal/wording"
)

// drawFoot draws the step after all crossings, and what the crossing under the cursor consists of.
func (v *matrixView) drawFoot(c canvas, p matrixPlaces) {
	t, y := c.theme, p.below
	if p.airy {
		y++
	}
	if v.then.Command != "" {
		x := c.text(2, y, style{colour: t.fog}, "then  ")
		x = c.text(x, y, style{colour: t.ink}, cut(plain.Line(v.then.Command), c.width/2))
		words, look := v.thenWords(t)
		c.text(x+2, y, look, cut(words, c.width-x-4))
		y++
	}
	row := v.current()
	if row == nil {
		return
	}
	if p.airy {
		y++
	}
	v.drawCard(c.sub(0, y, c.width, c.height-y), row)
}

// thenWords says how the step after all crossings is.
func (v *matrixView) thenWords(t *theme) (string, style) {
	passed, must := v.results().Counts()
	failed := 0
	for _, row := range v.rows {
		if row.State == matrix.Ended && row.MayFail == "" && row.Outcome != run.Passed {
			failed++
		}
	}
	switch {
	case v.then.Outcome == run.Passed:
		return "passed", style{colour: t.leaf}
	case v.then.Outcome == run.Failed:
		return "failed: " + plain.Line(v.then.Why), style{colour: t.rust}
	case failed > 0:
		return fmt.Sprintf("does not run: %s that must pass failed", wording.Plural(failed, "crossing")), style{colour: t.rust}
	case v.then.Outcome == run.Skipped:
		return "did not run: " + plain.Line(v.then.Why), style{colour: t.fog}
	}
	return fmt.Sprintf("waits for %d of %d crossings that must pass", must-passed, must), style{colour: t.fog}
}

// drawCard draws the services, the environment, the data and the past of a crossing, and the commands for it.
func (v *matrixView) drawCard(c canvas, row *matrixRow) {
	t := c.theme
	fog, water := style{colour: t.fog}, style{colour: t.water}
	x := c.text(2, 0, style{t.ink, true}, cut(strings.ReplaceAll(plain.Line(row.Label()), " ", " · "), c.width/3)) + 3
	column := max(x, 23)
	services, look := v.servicesWords(row), style{colour: t.amber}
	if services == "" {
		services, look = "no services", fog
	}
	x = c.text(column, 0, look, cut(services, c.width/3)) + 3
	second := max(x, column+22)
	if env := row.envWords(); env != "" {
		name, value, _ := strings.Cut(env, "=")
		x = c.text(second, 0, fog, cut(plain.Line(name), 24))
		c.text(x+2, 0, water, cut(plain.Line(value), c.width-x-4))
	}
	x = c.text(2, 1, fog, "past  ")
	for _, o := range row.past {
		x = c.text(x, 1, style{colour: t.outcome(o)}, o.Shape())
	}
	if row.past == nil {
		c.text(x, 1, fog, "none")
	}
	if row.live != nil {
		c.text(column, 1, fog, wording.Plural(len(row.live.tracks), "worker"))
	}
	at := v.session.app.Project.At(row.Crossing)
	if data, err := filepath.Rel(at.Dir, filepath.Dir(at.ServicesPath())); err == nil {
		x = c.text(second, 1, fog, "data")
		c.text(x+2, 1, water, cut(plain.Line(data), c.width-x-4))
	}
	if row.MayFail != "" {
		c.right(c.width-1, 1, fog, cut("may fail: "+plain.Line(row.MayFail), c.width/3))
	}
	if c.height < 4 {
		return
	}
	x = c.text(2, 3, style{colour: t.ink}, cut("fern-relay matrix run --at "+row.Key(), c.width*2/3))
	c.text(x+2, 3, fog, cut("repeats it", c.width-x-4))
	if jobs := "fern-relay matrix jobs --shards 2"; c.width >= wideScreen && x+18+len(jobs) < c.width-22 {
		x = c.text(x+16, 3, style{colour: t.ink}, jobs)
		c.text(x+2, 3, fog, "prints the jobs for CI")
	}
}

// servicesWords says which services a crossing has, and how they are; empty if it has none.
func (v *matrixView) servicesWords(row *matrixRow) string {
	if row.expected.Missing != nil {
		return "skipped here: " + plain.Line(row.expected.Missing.Error())
	}
	ready := map[string]float64{}
	if ran := row.ran(); ran != nil {
		for _, s := range ran.Services {
			ready[s.Name] = s.Ready
		}
	}
	var parts []string
	for _, name := range row.expected.Services {
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
func (r *matrixRow) envWords() string {
	if ran := r.ran(); ran != nil {
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
func (v *matrixView) drawTests(c canvas, p matrixPlaces) {
	t, e := c.theme, v.listing
	failures := map[string]*run.Result{}
	counts := map[string]int{}
	for _, r := range e.Failures {
		failures[r.ID] = r
		counts[r.ID]++
	}
	c.text(2, 0, style{colour: t.fog}, cut(plain.Line(e.Explanation.Text(&v.matrix().Spec))+"   esc goes back, H hunts, e edits", c.width-4))
	for i := v.testTop; i < min(len(e.Tests), v.testTop+p.testsShown); i++ {
		y, id := 2+i-v.testTop, e.Tests[i]
		c.text(2, y, style{t.rust, true}, run.Failed.Shape())
		half := c.width / 2
		c.text(5, y, style{colour: t.ink}, cutMiddle(wording.ShortID(id), half-6))
		if r := failures[id]; r != nil {
			x := c.text(half, y, style{colour: t.fog}, fmt.Sprintf("%3d ×  ", counts[id]))
			c.text(x, y, style{colour: t.rust}, cut(plain.Line(r.Message), c.width-x-2))
		}
		if i == v.testAt {
			c.selectRow(1, y, c.width-2, 1)
		}
	}
}
