package hunt

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/progress"
	"fernrelay/internal/report"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
)

// drive opens the leg on a made project.
func drive(t *testing.T) (*legtest.Driver, *View) {
	t.Helper()
	var v *View
	d := legtest.New(t, legtest.Made(8, 12, 2), func(s *leg.Session) leg.Leg {
		v = New(s)
		return v
	})
	return d, v
}

// TestFrondFollowsASearch hunts culprits at random places, with the real search and made outcomes, and looks at each frame: the
// number of the trial, a row of the frond for each cut, and at the end the culprit and the sentence.
func TestFrondFollowsASearch(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	for range 12 {
		d, v := drive(t)
		d.Height = 60
		tests := d.Session.Picked.Catalog.Tests
		victim := tests[random.IntN(len(tests))]
		var others []string
		for _, other := range tests {
			if other.ID != victim.ID {
				others = append(others, other.ID)
			}
		}
		culprit := others[random.IntN(len(others))]
		h := progress.NewHunts(tests[:1], func() {})[0]
		h.Victim = victim
		v.Show([]*progress.Hunt{h})
		search := hunt.New(hunt.Task{Victim: victim.ID, Orders: [][]string{others}})
		defer search.Close()
		follow := func() {
			h.Steps.Put(hunt.Progress{Victim: victim.ID, Finding: search.Finding(), Records: slices.Clone(search.Records())})
			v.Follow(time.Time{})
		}
		for round := search.Next(); round != nil; round = search.Next() {
			for _, trial := range round {
				o := run.Passed
				if slices.Contains(trial.Order, culprit) {
					o = run.Failed
				}
				search.Report(trial.Number, o, 0.1)
			}
			follow()
			if n := len(h.Progress.Records); h.Progress.Finding.Verdict == "" && !strings.Contains(d.Screen(), fmt.Sprintf("trial %d", n)) {
				t.Fatalf("trial %d is not on the screen:\n%s", n, d.Screen())
			}
		}
		follow()
		v.End([]*progress.Hunt{h}, nil)
		shown := d.Screen()
		_, name := leg.GroupAndName(culprit)
		name = name[:min(len(name), 10)]
		if !strings.Contains(shown, "● "+name) || !strings.Contains(shown, string(h.Progress.Finding.Verdict)) {
			t.Errorf("the culprit %q is not at the tip of the frond:\n%s", name, shown)
		}
		if stem := strings.Count(shown, "┃"); stem < 5 {
			t.Errorf("the stem has %d rows:\n%s", stem, shown)
		}
		if figure, active := v.Figure(); figure != "1/1 caught" || active {
			t.Errorf("the figure is %q, active %v", figure, active)
		}
	}
}

// TestSentenceIsNeverDropped draws each verdict in many sizes, with hostile names, a long list of changes and an error. The
// words of its sentence are always on the screen.
func TestSentenceIsNeverDropped(t *testing.T) {
	d, v := drive(t)
	tests := d.Session.Picked.Catalog.Tests
	hostile := tests[3]
	hostile.Name = strings.Repeat("水\x1b[2J", 60)
	var changes []hunt.Change
	for i := range 12 {
		changes = append(changes, hunt.Change{Kind: "variable", Name: fmt.Sprint("pump.level\x1b[", i), Before: strings.Repeat("a", 300), After: "\n\n", Proved: i%2 == 0})
	}
	for _, verdict := range []hunt.Verdict{hunt.Polluted, hunt.Brittle, hunt.Faulty, hunt.Flaky, hunt.Stable} {
		f := hunt.Finding{ID: hostile.ID, Verdict: verdict, With: hunt.Times{Runs: 90, Failed: 89}, Without: hunt.Times{Runs: 400, Failed: 1}, Changed: changes, Chance: 0.003, Trials: 12}
		if verdict == hunt.Polluted || verdict == hunt.Brittle {
			f.Culprits, f.Order = [][]string{{tests[5].ID, tests[6].ID}}, []string{tests[5].ID, tests[6].ID, hostile.ID}
		}
		v.Show([]*progress.Hunt{{Victim: hostile, Ended: true, Progress: hunt.Progress{Victim: hostile.ID, Finding: f, Err: errors.New("state\x1b]0;x\a")}}})
		words := slices.DeleteFunc(strings.Fields(report.Sentence(f)), func(w string) bool { return len(w) > 20 }) // a name is broken
		for width := 80; width <= 240; width += 16 {
			for height := 20; height <= 60; height += 5 {
				d.Width, d.Height = width, height
				shown := d.Screen()
				if i := slices.IndexFunc(words, func(w string) bool { return !strings.Contains(shown, w) }); i >= 0 {
					t.Errorf("%s at %d×%d: %q is not shown:\n%s", verdict, width, height, words[i], shown)
				}
				if strings.ContainsAny(shown, "\x1b\a") {
					t.Errorf("%s at %d×%d: a control character is drawn", verdict, width, height)
				}
			}
		}
	}
}

// TestInProportion compares the shapes of all small numbers of trials with what a reader expects: neither outcome is dropped, none
// is added, and the share is as near as the room allows.
func TestInProportion(t *testing.T) {
	for runs := 1; runs <= 60; runs++ {
		for failed := 0; failed <= runs; failed++ {
			for room := 2; room <= 24; room++ {
				shown, bad := inProportion(hunt.Times{Runs: runs, Failed: failed}, room)
				switch {
				case runs <= room && (shown != runs || bad != failed):
					t.Fatalf("%d of %d in %d places: %d of %d are shown", failed, runs, room, bad, shown)
				case shown > room || bad > shown || (bad == 0) != (failed == 0) || (bad == shown) != (failed == runs):
					t.Fatalf("%d of %d in %d places: %d of %d are shown", failed, runs, room, bad, shown)
				}
				if off := bad*runs - failed*shown; max(off, -off) > runs { // a place
					t.Fatalf("%d of %d in %d places: %d of %d are not in proportion", failed, runs, room, bad, shown)
				}
			}
		}
	}
}

// TestKeysAsk shows what the leg asks of the application without a hunt, during one, after a culprit was caught, and after it was
// mended.
func TestKeysAsk(t *testing.T) {
	d, v := drive(t)
	for _, key := range "p⏎evcmd" {
		if words, ok := d.Press(string(key)).(leg.SayMsg); !ok || !strings.Contains(string(words), "nothing is hunted yet") {
			t.Errorf("without a hunt %c says %q", key, words)
		}
	}
	if _, ok := d.Press("o").(leg.StartSearchMsg); !ok {
		t.Error("o starts no search")
	}
	tests := d.Session.Picked.Catalog.Tests
	h := progress.NewHunts(tests[:1], func() {})[0]
	v.Show([]*progress.Hunt{h})
	for key, want := range map[string]string{"v": "nothing to verify", "c": "nothing yet", "m": "nothing yet"} {
		if words, ok := d.Press(key).(leg.SayMsg); !ok || !strings.Contains(string(words), want) {
			t.Errorf("during a hunt %s says %q", key, words)
		}
	}
	h.Progress.Finding = hunt.Finding{ID: h.Victim.ID, Verdict: hunt.Polluted, Culprits: [][]string{{tests[2].ID}}, Order: []string{tests[2].ID, h.Victim.ID}}
	h.Ended = true
	if asked, ok := d.Press("v").(leg.StartHuntMsg); !ok || !asked.Verify || len(asked.Victims) != 1 || asked.Victims[0].ID != h.Victim.ID {
		t.Errorf("v asks for %+v", asked)
	}
	if asked, ok := d.Press("⏎").(leg.StartHuntMsg); !ok || asked.Verify {
		t.Errorf("enter asks for %+v", asked)
	}
	if place, ok := d.Press("e").(leg.EditFileMsg); !ok || place.Line != tests[2].Line {
		t.Errorf("e goes to %+v, not to the culprit", place)
	}
	if text, ok := d.Press("c").(leg.CopyMsg); !ok || !strings.Contains(string(text), "fern-relay") || !strings.Contains(string(text), tests[2].ID) {
		t.Errorf("c copies %q", text)
	}
	if text, ok := d.Press("m").(leg.CopyMsg); !ok || !strings.Contains(string(text), "case\\_0") && !strings.Contains(string(text), "case_0") {
		t.Errorf("m copies %q", text)
	}
	h.Progress.Finding.Mended = h.Progress.Finding.Culprits
	if words, ok := d.Press("v").(leg.SayMsg); !ok || !strings.Contains(string(words), "nothing to verify") {
		t.Errorf("of what is mended v says %q", words)
	}
}

// TestSearchIsFollowed follows a search from its first order to a victim: the leg is busy, shows the hunts that begin, keeps
// earlier hunts of other victims, and what cancels the leg cancels all.
func TestSearchIsFollowed(t *testing.T) {
	d, v := drive(t)
	tests := d.Session.Picked.Catalog.Tests
	canceled := 0
	v.Search = &progress.Search{Cancel: func() { canceled++ }}
	d.Do(func() tea.Msg {
		return SavedMsg{Hunts: []*progress.Hunt{{Victim: tests[1], Ended: true, Cancel: func() {}}, {Victim: tests[2], Ended: true, Cancel: func() {}}}}
	})
	v.Search.Steps.Put(progress.SearchStep{Order: 3})
	if d.Do(v.Follow(time.Time{})); !v.Busy() || !strings.Contains(v.coverage(), "order 4 runs") {
		t.Errorf("busy %v, coverage %q", v.Busy(), v.coverage())
	}
	v.Search.Steps.Put(progress.SearchStep{Victims: tests[2:4]})
	if went := v.Follow(time.Time{}); went == nil || went() != leg.GoToMsg("Hunt") {
		t.Error("a victim that is found does not show the leg")
	}
	var victims []string
	for _, h := range v.Hunts {
		victims = append(victims, h.Victim.ID)
	}
	if want := []string{tests[2].ID, tests[3].ID, tests[1].ID}; !slices.Equal(victims, want) {
		t.Errorf("the hunts are of %v, want %v", victims, want)
	}
	if v.Cancel(); canceled != 3 { // the search, and the two hunts that it began
		t.Errorf("%d cancels", canceled)
	}
	if hunts := v.EndSearch(); len(hunts) != 2 || v.Search != nil {
		t.Errorf("the search ends with %d hunts", len(hunts))
	}
	if v.End(v.Hunts[:2], context.Canceled); v.Busy() || v.doing(v.Hunts[0]) != "interrupted" {
		t.Errorf("at the end busy %v, %s", v.Busy(), v.doing(v.Hunts[0]))
	}
	if !v.GoTo(tests[1].ID) || v.current().Victim.ID != tests[1].ID || v.GoTo("s:nowhere#t") {
		t.Error("the hunt of a test is not found by its ID")
	}
	d.Do(func() tea.Msg { return MendedMsg{Victim: tests[1].ID, Err: context.Canceled} })
	if v.Repairs[tests[1].ID] != nil {
		t.Error("what was interrupted is kept as the answer")
	}
}
