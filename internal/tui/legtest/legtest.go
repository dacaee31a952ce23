// Package legtest drives a leg of the application alone, for its tests: without the frame, and without a terminal.
//
//	d := legtest.New(t, legtest.Made(12, 5, 4), func(s *leg.Session) leg.Leg { return split.New(s) })
//	asked := d.Press("]]")
//	fmt.Println(d.Screen())
package legtest

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/pick"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/project"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/workspace"
)

// Driver is a leg on a screen of its own.
type Driver struct {
	Leg           leg.Leg
	Session       *leg.Session
	Width, Height int
}

// New makes a leg that sees all tests of a project, on a screen of 160 by 36 cells.
func New(t testing.TB, r *app.App, make func(s *leg.Session) leg.Leg) *Driver {
	t.Helper()
	s := &leg.Session{App: r, Theme: screen.NewTheme(nil, true, colorprofile.TrueColor)}
	var err error
	if s.Picked, err = leg.Evaluate(r.Tests, "", nil); err != nil {
		t.Fatal(err)
	}
	d := &Driver{Leg: make(s), Session: s, Width: 160, Height: 36}
	d.Do(d.Leg.Visit())
	return d
}

// Do runs a command, nil for none, and those that follow from its message.
func (d *Driver) Do(cmd tea.Cmd) {
	for cmd != nil {
		msg := cmd()
		batch, several := msg.(tea.BatchMsg)
		for _, one := range batch {
			d.Do(one)
		}
		if cmd = nil; !several && msg != nil {
			cmd = d.Leg.Update(msg)
		}
	}
	if again := d.Leg.Fit(d.Width, d.Height); again != nil {
		d.Do(again)
	}
}

// Press presses keys, a character each, with ⏎, ⇥ and ⌫ for enter, tab and backspace. It returns what the leg asked for last, nil for nothing.
func (d *Driver) Press(keys string) (asked tea.Msg) {
	for _, r := range keys {
		msg := tea.KeyPressMsg{Code: r, Text: string(r)}
		if code := map[rune]rune{'⏎': tea.KeyEnter, '⇥': tea.KeyTab, '⌫': tea.KeyBackspace}[r]; code != 0 {
			msg = tea.KeyPressMsg{Code: code}
		}
		asked = d.Leg.Press(msg)
		work, ok := asked.(leg.Background)
		if !ok {
			work = nil
		}
		d.Do(tea.Cmd(work))
	}
	return asked
}

// Screen returns what the leg draws, as text.
func (d *Driver) Screen() string {
	d.Do(nil)
	var cells uv.Buffer
	c := screen.NewCanvas(&cells, d.Session.Theme, d.Width, d.Height)
	d.Leg.Draw(c)
	return ansi.Strip(c.Render())
}

// Made returns a project of a number of groups, with a number of tests each and tags among them. Some names are hostile.
func Made(groups, perGroup, tags int) *app.App {
	random := rand.New(rand.NewPCG(1, 1))
	var tests []catalog.Test
	past := map[string][]run.Outcome{}
	for g := range groups {
		group := fmt.Sprintf("area%d/group-%d", g%7, g)
		for i := range perGroup {
			name := fmt.Sprintf("case_%d", i)
			if i == 3 {
				name = "水\x1b[31m" + strings.Repeat("long", 50)
			}
			t := catalog.Test{ID: catalog.ID("s", group, name), Suite: "s", Group: group, Name: name, File: "a/b.go", Line: 1 + i}
			for range 1 + random.IntN(3) {
				t.Tags = append(t.Tags, fmt.Sprint("tag", random.IntN(tags)))
			}
			tests = append(tests, t)
			past[t.ID] = []run.Outcome{run.Passed, run.Outcomes[i%len(run.Outcomes)]}
		}
	}
	c := catalog.New(tests)
	latest := make([][]run.Outcome, len(c.Tests))
	for i := range c.Tests {
		latest[i] = past[c.Tests[i].ID]
	}
	steps := map[string][]string{}
	for i := range 50 {
		steps[c.Tests[1].ID] = append(steps[c.Tests[1].ID], fmt.Sprintf("\x1b[1mbed 水 %d", i))
	}
	times := history.ByID{}
	for _, t := range c.Tests {
		times[t.ID] = history.Time{Seconds: history.Round(random.Float64()), Spread: 0.01}
	}
	history.Expect(c.Tests, history.Times{Tests: times})
	return app.New(&workspace.Workspace{Project: &project.Project{Name: "made up", Workers: project.Workers{Count: 4}}, Tests: workspace.NewTests(c, latest, 2, pick.Source{Saved: map[string]string{"quick": "tag1"}, Steps: func() map[string][]string { return steps }})}, app.NoHistory(os.TempDir()))
}
