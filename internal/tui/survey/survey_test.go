package survey

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"fernrelay/core/catalog"
	"fernrelay/internal/project"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
	"fernrelay/internal/workspace"
)

// driven is the leg on 96 tests.
func driven(t *testing.T) (*View, *legtest.Driver) {
	t.Helper()
	var v *View
	d := legtest.New(t, legtest.Made(12, 8, 5), func(s *leg.Session) leg.Leg {
		v = New(s)
		return v
	})
	return v, d
}

// picked returns the IDs that a pick which the leg asked for selects.
func picked(t *testing.T, d *legtest.Driver, asked any) []string {
	t.Helper()
	text, ok := asked.(leg.SetPickMsg)
	if !ok {
		t.Fatalf("asked is %#v, not a pick", asked)
	}
	f, err := leg.Evaluate(d.Session.App.Tests, string(text), nil)
	if err != nil {
		t.Fatalf("the pick %q: %v", text, err)
	}
	var ids []string
	for i := range f.Selected {
		ids = append(ids, f.Selected[i].ID)
	}
	return ids
}

// TestEveryCellIsItsPick goes to every cell and margin of the weave: = picks just the tests of which the list is made, + those of them
// that the present pick has, and - the rest of it.
func TestEveryCellIsItsPick(t *testing.T) {
	v, d := driven(t)
	d.Do(nil)
	for row := range len(v.Arranged.Rows) + 1 {
		for column := range len(v.Arranged.Columns) + 1 {
			v.Row, v.DrawColumn = row, column
			list := v.list()
			if row == len(v.Arranged.Rows) && column == len(v.Arranged.Columns) {
				if said, ok := d.Press("=").(leg.SayMsg); !ok || !strings.Contains(string(said), "whole project") {
					t.Errorf("on the whole project = says %q", said)
				}
				continue
			}
			want := map[string]bool{}
			for _, at := range list.members.From(0, list.members.Len()) {
				want[d.Session.Picked.Catalog.Tests[at].ID] = true
			}
			if len(want) != list.sum.Tests {
				t.Fatalf("the list at %d, %d has %d tests, the cell says %d", row, column, len(want), list.sum.Tests)
			}
			only, more, without := picked(t, d, d.Press("=")), picked(t, d, d.Press("+")), picked(t, d, d.Press("-"))
			for _, id := range only {
				if !want[id] {
					t.Fatalf("at %d, %d = picks %s, which is not in the list", row, column, id)
				}
			}
			all := len(d.Session.Picked.Catalog.Tests)
			if len(only) != len(want) || fmt.Sprint(more) != fmt.Sprint(only) || len(without) != all-len(want) {
				t.Fatalf("at %d, %d are %d tests: = picks %d, + %d and - %d of %d", row, column, len(want), len(only), len(more), len(without), all)
			}
		}
	}
}

// TestSurveyAsks presses the keys that ask the application for something, on the weave, the list and the card.
func TestSurveyAsks(t *testing.T) {
	v, d := driven(t)
	if said, ok := d.Press("s").(leg.SayMsg); !ok || !strings.Contains(string(said), "narrow it") {
		t.Errorf("s on all tests says %q", said)
	}
	if start, ok := d.Press("r").(leg.StartRunMsg); !ok || len(start.Tests) != 96 || !start.Picked {
		t.Errorf("r runs %d tests", len(start.Tests))
	}
	if _, ok := d.Press("⌫").(leg.UndoPickMsg); !ok {
		t.Error("⌫ does not undo")
	}
	if asked, ok := d.Press("R").(leg.OpenSheetMsg); !ok || len(asked.Sheet.Rows) == 0 {
		t.Error("R opens no sheet for a rule")
	}
	d.Press("⇥j")
	first := v.Current()
	if asked, ok := d.Press("e").(leg.EditFileMsg); v.Focus != OnList || first == nil || !ok || asked.File != first.File || asked.Line != first.Line {
		t.Errorf("e opens %+v, the cursor is on %+v", asked, first)
	}
	if asked, ok := d.Press("H").(leg.StartHuntMsg); !ok || len(asked.Victims) != 1 || asked.Victims[0].ID != first.ID {
		t.Errorf("H hunts %+v", asked.Victims)
	}
	d.Press("⏎")
	if text := d.Screen(); v.Focus != onCard || !strings.Contains(text, first.Group) {
		t.Errorf("enter opens no card of %s:\n%s", first.ID, text)
	}
	if d.Press("⏎"); v.Focus != OnList {
		t.Error("enter does not close the card")
	}
	if said, ok := d.Press("o").(leg.SayMsg); !ok || !strings.Contains(string(said), "rows in the order of") {
		t.Errorf("o says %q", said)
	}
}

// TestSessionRules sets and clears rules of a session at random: the last word on a pick counts, and nothing is left of what was undone.
func TestSessionRules(t *testing.T) {
	random := rand.New(rand.NewPCG(25, 26))
	var own workspace.Own
	holds := map[string]bool{}
	for range 500 {
		text := []string{"frost", "ice", "in:a/**"}[random.IntN(3)]
		rule := project.Rule{Text: text}
		if holds[text] = random.IntN(2) == 0; holds[text] {
			rule.Set.Skip = "cold"
		} else {
			rule.Clear = []string{catalog.RuleSkip}
		}
		own = withRule(own, rule)
		skips := map[string]bool{}
		for _, r := range own.Rules {
			skips[r.Text] = r.Set.Skip != ""
		}
		for text, want := range holds {
			if skips[text] != want {
				t.Fatalf("%s is skipped %v, want %v: %+v", text, skips[text], want, own.Rules)
			}
		}
	}
}
