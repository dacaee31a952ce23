package matrix

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/project"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
)

// driven is the leg on a project with the crossings of two stores and two seasons, of which one is left out.
func driven(t *testing.T) (*View, *legtest.Driver) {
	t.Helper()
	m, err := matrix.New(matrix.Spec{
		Names: []matrix.Name{{Name: "store", Values: []string{"memory", "redis"}}, {Name: "season", Values: []string{"winter", "summer"}}},
		With:  []matrix.With{{Of: matrix.Assignment{"store": "memory", "season": "summer"}, LeaveOut: "the model has no summer"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	r := legtest.Made(2, 3, 2)
	r.Project.Matrix = &project.Matrix{Matrix: m, AtOnce: 2}
	var v *View
	d := legtest.New(t, r, func(s *leg.Session) leg.Leg {
		v = New(s)
		v.read = true // the ledger, which has nothing
		return v
	})
	return v, d
}

// end ends a crossing: its first test fails if it is asked to.
func end(v *View, row int, fails bool) {
	r := run.New()
	began := time.Unix(7000, 0)
	r.Apply(run.Event{Event: run.RunBegins, At: began})
	o := run.Passed
	if fails {
		o = run.Failed
	}
	id := v.session.Picked.Selected[0].ID
	r.Apply(run.Event{Event: run.Started, ID: id, Worker: 1, Batch: 1, At: began})
	r.Apply(run.Event{Event: run.Finished, ID: id, Worker: 1, Batch: 1, Outcome: o, Seconds: run.Took(3), At: began.Add(3 * time.Second)})
	r.Apply(run.Event{Event: run.RunEnds, At: began.Add(3 * time.Second)})
	result := v.Rows[row].Result
	result.State, result.Began, result.Tests = matrix.Running, began, 1
	result.End(row+1, r)
	v.Recall([]*matrix.Result{&result}, began.Add(3*time.Second))
}

// TestCrossingKeys presses each key of a crossing, before and after it ran.
func TestCrossingKeys(t *testing.T) {
	v, d := driven(t)
	if name, alarm := v.Figure(); name != "0 of 3" || alarm {
		t.Errorf("the figure is %q, alarm %v", name, alarm)
	}
	said := func(keys, words string) {
		t.Helper()
		if asked, ok := d.Press(keys).(leg.SayMsg); !ok || !strings.Contains(string(asked), words) {
			t.Errorf("%q says %q, want %q", keys, asked, words)
		}
	}
	if start, ok := d.Press("r").(StartMsg); !ok || len(start.Crossings) != 4 {
		t.Errorf("r starts %d crossings", len(start.Crossings))
	}
	if start, ok := d.Press("⏎").(StartMsg); !ok || len(start.Crossings) != 1 || start.Crossings[0].Key() != "store=memory,season=winter" {
		t.Errorf("enter starts %+v", start)
	}
	said("w", "has not run in this session")
	said("H", "nothing to hunt")
	said("⇥", "nothing to explain")
	said("x", "no crossing runs")
	said("j⏎", "the model has no summer")
	if copied, ok := d.Press("kc").(leg.CopyMsg); !ok || !strings.HasSuffix(string(copied), "--at 'store=memory,season=winter'") {
		t.Errorf("c copies %q", copied)
	}
	end(v, 0, true)
	if hunt, ok := d.Press("H").(HuntCrossingMsg); !ok || hunt.Crossing.Key() != "store=memory,season=winter" || hunt.ID != d.Session.Picked.Selected[0].ID {
		t.Errorf("H hunts %+v", hunt)
	}
	if _, alarm := v.Figure(); !alarm {
		t.Error("a crossing that failed is no alarm")
	}
	if asked, ok := d.Press("d").(leg.OpenSheetMsg); !ok || asked.Sheet == nil {
		t.Errorf("d asks for %+v", asked)
	}
}

// TestExplanationKeys goes into the explanations, lists the tests of one, and runs the crossing that would decide between two.
func TestExplanationKeys(t *testing.T) {
	v, d := driven(t)
	end(v, 2, true)
	end(v, 0, false)
	id := d.Session.Picked.Selected[0].ID
	summer := matrix.Assignment{"store": "redis", "season": "summer"}
	v.Explained = app.Explained{Rows: []app.ExplainedRow{{Explanation: matrix.Explanation{Cause: matrix.Cause{Where: matrix.Assignment{"store": "redis"}}, Tests: []string{id},
		Rivals: []matrix.Rival{{Decide: summer}}}}}}
	if d.Press("⇥"); !v.Inside {
		t.Fatal("tab does not go into the explanations")
	}
	if start, ok := d.Press("D").(StartMsg); !ok || len(start.Crossings) != 1 || fmt.Sprint(start.Crossings[0].Of) != fmt.Sprint(summer) {
		t.Errorf("D starts %+v, want the crossing that decides", start)
	}
	if hunt, ok := d.Press("H").(HuntCrossingMsg); !ok || hunt.Crossing.Of["store"] != "redis" {
		t.Errorf("H hunts %+v, want a crossing in which the test fails", hunt)
	}
	d.Press("⏎")
	if asked, ok := d.Press("e").(leg.EditTestMsg); !ok || string(asked) != id || v.listing == nil {
		t.Errorf("in the list of tests, e opens %q", asked)
	}
	if d.Press("⏎"); v.listing != nil {
		t.Error("enter does not close the list of tests")
	}
	if d.Press("⇥"); v.Inside {
		t.Error("tab does not leave the explanations")
	}
}

// TestTracksFit draws the crossings in all sizes: no line is wider than the screen, and each crossing that fits is named.
func TestTracksFit(t *testing.T) {
	v, d := driven(t)
	end(v, 0, false)
	for _, size := range [][2]int{{80, 20}, {100, 30}, {160, 36}, {300, 76}} {
		d.Width, d.Height = size[0], size[1]
		text := d.Screen()
		for _, words := range []string{"memory", "redis", "winter", "summer", "the model has no summer", "1 passed"} {
			if !strings.Contains(text, words) {
				t.Errorf("at %v, %q is missing in\n%s", size, words, text)
			}
		}
	}
}
