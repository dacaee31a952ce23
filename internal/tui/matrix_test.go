package tui

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/progress"
	"fernrelay/internal/project"
	"fernrelay/internal/tui/legtest"
	matrixleg "fernrelay/internal/tui/matrix"
)

// playMatrix gives the project a matrix of a number of stores and two seasons, with the events of its crossings: the first tests
// fail wherever the store is store1, and the second is left out in summer.
func playMatrix(a *App, stores, tests int, end bool) {
	spec := matrix.Spec{Names: []matrix.Name{{Name: "store"}, {Name: "season水", Values: []string{"winter", "a-summer-as-long-as-no-other-summer-before-it"}}}}
	for i := range stores {
		spec.Names[0].Values = append(spec.Names[0].Values, fmt.Sprint("store", i))
	}
	spec.With = []matrix.With{{Of: matrix.Assignment{"store": "store2", spec.Names[1].Name: spec.Names[1].Values[1]}, LeaveOut: "水 there is none\x1b[2J"},
		{Of: matrix.Assignment{"store": "store0"}, MayFail: strings.Repeat("long ", 50)}}
	m, err := matrix.New(spec)
	if err != nil {
		panic(err)
	}
	p := *a.session.App.Project
	p.Matrix = &project.Matrix{Matrix: m, AtOnce: len(m.Crossings), Then: "./announce " + strings.Repeat("x", 100)}
	a.session.App.Project = &p
	v := a.matrix
	v.Reset()
	live := &matrixleg.Live{Began: time.Now(), Cancel: func() {}, Finishing: func() {}, Busy: true}
	v.Begin(live, m.Crossings)
	picked := a.session.Picked.Selected[:tests]
	tally := matrix.NewTally(m)
	for _, row := range v.Rows {
		if row.State == matrix.LeftOut {
			continue
		}
		began := time.Now().Add(-10 * time.Second)
		result := row.Result
		result.State, result.Began, result.Tests = matrix.Running, began, tests
		crossing := progress.New(schedule.Of([]schedule.Batch{{Tests: picked}}, nil), 2, a.session.Picked.PastOf)
		events := 0
		put := func(e run.Event) {
			e.At = began.Add(time.Duration(events%100) * 90 * time.Millisecond)
			events++
			crossing.Apply(e)
		}
		v.Steps.Put(progress.CrossingStep{Key: row.Key(), Live: crossing})
		v.Steps.Put(progress.CrossingStep{Key: row.Key(), Result: &result})
		put(run.Event{Event: run.RunBegins})
		put(run.Event{Event: run.ServiceReady, Service: "水" + strings.Repeat("s", 60), Seconds: run.Took(1.2), Text: "URL\x1b[1m=" + strings.Repeat("u", 200)})
		ran := run.New()
		for i := range picked {
			e := run.Event{Event: run.Finished, ID: picked[i].ID, Worker: 1, Batch: 1, Outcome: run.Passed, Seconds: run.Took(0.1)}
			if row.Of["store"] == "store1" && i < 7 {
				e.Outcome, e.Message = run.Failed, "no such column\x1b[1m"
			}
			if i == len(picked)-1 && !end {
				break
			}
			put(run.Event{Event: run.Started, ID: e.ID, Worker: 1, Batch: 1})
			put(e)
			ran.Apply(e)
		}
		for _, r := range ran.Results {
			tally.Add(row.Key(), r)
		}
		if end {
			ended := result
			ended.End(7, ran)
			v.Steps.Put(progress.CrossingStep{Key: row.Key(), Result: &ended})
		}
	}
	v.Follow(time.Now())
	v.Explained = a.session.App.Explained(tally.Explain())
	if live.Ended = end; end {
		v.End()
		v.Then.Outcome, v.Then.Why = run.Skipped, "2 that must pass did not"
	}
}

// TestMatrixView shows the explanation first, on every screen, and what failed first if not all crossings fit.
func TestMatrixView(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {160, 40}} {
		a := newApp(t, legtest.Made(30, 12, 20))
		settle(a, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		a.leg = legMatrix
		if a.fit(); !strings.Contains(shown(a), "the project has no matrix") {
			t.Errorf("without a matrix it shows\n%s", shown(a))
		}
		playMatrix(a, 30, 20, true)
		a.fit()
		screen := shown(a)
		for _, want := range []string{"7 tests fail wherever store is store1", "makes no difference", "55 of 57", "does not run: 2 crossings"} {
			if !strings.Contains(strings.ReplaceAll(screen, " 7 tests", "7 tests"), want) {
				t.Errorf("at %v, %q is missing in\n%s", size, want, screen)
			}
		}
		if first := firstCrossing(a); first.Of["store"] != "store1" {
			t.Errorf("at %v the first crossing is %s, want one that failed", size, first.Key())
		}
		a.Update(tea.KeyPressMsg{Code: tea.KeyTab})
		a.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
		if screen := shown(a); !strings.Contains(screen, "case_0") || !strings.Contains(screen, "2 ×  no such column") {
			t.Errorf("at %v the tests of the explanation are\n%s", size, screen)
		}
	}
}

// shown returns the screen as text.
func shown(a *App) string {
	screen, _ := a.screen()
	return ansi.Strip(screen)
}

// firstCrossing returns the crossing that is shown first.
func firstCrossing(a *App) *progress.Crossing { return a.matrix.Rows[a.matrix.Order[0]] }

// BenchmarkMatrixFlood draws a frame while twelve crossings of 250 tests run, and takes a key in each: each crossing reports
// ten tests per frame.
func BenchmarkMatrixFlood(b *testing.B) {
	a := newApp(b, legtest.Made(30, 12, 20))
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	playMatrix(a, 6, 250, false)
	a.leg = legMatrix
	tests := a.session.Picked.Selected[:250]
	at := time.Now()
	for i := 0; b.Loop(); i++ {
		for _, row := range a.matrix.Rows {
			if row.Live == nil {
				continue
			}
			for n := range 10 {
				id := tests[(i*10+n)%len(tests)].ID
				at = at.Add(100 * time.Microsecond)
				row.Live.Apply(run.Event{Event: run.Started, ID: id, Worker: 1 + n%2, Batch: 1, At: at})
				row.Live.Apply(run.Event{Event: run.Finished, ID: id, Worker: 1 + n%2, Batch: 1, At: at, Outcome: run.Outcomes[n%2], Seconds: run.Took(0.01)})
			}
		}
		a.Update(tickMsg(at))
		a.Update(tea.KeyPressMsg{Code: tea.KeyDown})
		a.View()
	}
}
