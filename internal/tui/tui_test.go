package tui

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/catalog"
	"fernrelay/core/cause"
	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/app"
	"fernrelay/internal/ledger"
	"fernrelay/internal/ledger/ledgertest"
	"fernrelay/internal/progress"
	"fernrelay/internal/project"
	"fernrelay/internal/testfiles"
	huntleg "fernrelay/internal/tui/hunt"
	ledgerleg "fernrelay/internal/tui/ledger"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/legtest"
	splitleg "fernrelay/internal/tui/split"
	surveyleg "fernrelay/internal/tui/survey"
	watchleg "fernrelay/internal/tui/watch"
)

func newApp(t testing.TB, r *app.App) *App {
	t.Helper()
	a, err := New(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// settle runs the commands that follow from a message, except those that wait.
func settle(a *App, msg tea.Msg) {
	_, cmd := a.Update(msg)
	for cmd != nil {
		next := cmd()
		if batch, ok := next.(tea.BatchMsg); ok {
			for _, c := range batch {
				if c != nil {
					settle(a, c())
				}
			}
			return
		}
		switch next.(type) {
		case pickedMsg, splitleg.PlannedMsg, splitleg.AdvisedMsg, leg.ChangeMsg, changedMsg, ledgerleg.PastReadMsg, ledgerleg.ChangesFoundMsg, ledgerleg.TestsListedMsg, ledgerleg.RunReadMsg, ledgerleg.CardReadMsg, leg.SayMsg, watchleg.FilterMsg, leg.SourceReadMsg, leg.OpenSheetMsg, leg.DrawnMsg, surveyleg.StepsReadMsg, leg.SetPickMsg, huntleg.MendedMsg, leg.CloseSheetMsg:
		default:
			return
		}
		_, cmd = a.Update(next)
	}
}

func press(a *App, keys string) {
	for _, r := range keys {
		code := map[rune]rune{'⏎': tea.KeyEnter, '⇥': tea.KeyTab, '⌫': tea.KeyBackspace, '⎋': tea.KeyEscape, '↓': tea.KeyDown, '→': tea.KeyRight}[r]
		if code != 0 {
			settle(a, tea.KeyPressMsg{Code: code})
			continue
		}
		settle(a, tea.KeyPressMsg{Code: r, Text: string(r)})
	}
}

// playRun gives the application a run that is under way, or has ended.
func playRun(a *App, share float64, bad bool) {
	s := a.session
	later := catalog.Test{ID: "s:later#水", Group: "水 later", Expected: 30, Spread: 4}
	live := progress.New(schedule.Of([]schedule.Batch{{Tests: s.Picked.Selected}, {Tests: []catalog.Test{later}}}, nil), a.split.Workers(), s.Picked.PastOf)
	live.Total, live.Began, live.Planned, live.Cancel, live.Control = len(s.Picked.Selected), time.Now().Add(-time.Minute), 90, func(error) {}, &app.Control{}
	a.watch.Run = live
	a.watch.Reset()
	for i, t := range s.Picked.Selected[:int(share*float64(len(s.Picked.Selected)))] {
		at := live.Began.Add(time.Duration(i) * 10 * time.Millisecond)
		o := run.Passed
		if bad || i%9 == 0 {
			o = run.Failed
		}
		worker := 1 + i%a.split.Workers()
		live.Apply(run.Event{Event: run.Started, ID: t.ID, Worker: worker, Batch: 1, At: at})
		live.Apply(run.Event{Event: run.Output, ID: t.ID, Text: "\x1b[2Joutput\n\tof it 水\n"})
		for step := range i % 4 {
			live.Apply(run.Event{Event: run.StepDone, ID: t.ID, Step: fmt.Sprint("\x1b[1mbed ", step), Outcome: o, Seconds: run.Took(1), Failure: run.Failure{Message: "dry 水", File: "a/b.go", Line: 2}})
		}
		live.Apply(run.Event{Event: run.Finished, ID: t.ID, Worker: worker, Batch: 1, At: at.Add(9 * time.Millisecond), Outcome: o,
			Seconds: run.Took(0.009), Failure: run.Failure{Message: strings.Repeat("got 水 3, want 4 ", 30), File: "a/b.go", Line: 3, Expected: "水4", Actual: "水3"}})
	}
	if share == 1 {
		live.Apply(run.Event{Event: run.RunEnds, At: time.Now()})
		live.Number = 3
	}
	live.Follow(time.Now())
}

func playHunt(a *App) {
	victim := a.session.Picked.Selected[0]
	done := &progress.Hunt{Victim: victim, Ended: true, Cancel: func() {}}
	for n := range 40 {
		done.Progress.Records = append(done.Progress.Records, hunt.Record{Trial: hunt.Trial{Number: n + 1, Purpose: hunt.Halve, Ran: 1000 >> (n / 4), LeftOut: 1000 >> (n / 4)},
			Done: true, Outcome: run.Outcomes[n%4], Shows: n%2 == 0})
	}
	done.Progress.Finding = hunt.Finding{ID: victim.ID, Verdict: hunt.Polluted, Culprits: [][]string{{a.session.Picked.Selected[3].ID, victim.ID}},
		Order: []string{a.session.Picked.Selected[3].ID, victim.ID}, Trials: 40, With: hunt.Times{Runs: 5, Failed: 5}, Without: hunt.Times{Runs: 5}}
	for n := range 12 {
		done.Progress.Finding.Changed = append(done.Progress.Finding.Changed, hunt.Change{Kind: hunt.Variable, Name: fmt.Sprint("clock.offset", n),
			Before: "\x1b[1m", After: strings.Repeat("[水 4] ", 99)})
	}
	a.hunt.Hunts = []*progress.Hunt{done, {Victim: a.session.Picked.Selected[3], Cancel: func() {}}}
}

// playPast gives the application a past of so many runs, with everything failing in it or some.
func playPast(a *App, runs int, bad bool) {
	tests := a.session.Picked.Catalog.Tests
	ids := make([]string, len(tests))
	for i := range tests {
		ids[i] = tests[i].ID
	}
	v := a.ledger
	h := history.NewHistory(ids, runs)
	for n := range runs {
		k := &run.Record{Number: n + 1, Meta: run.Meta{Workers: 1 + n/9, Pick: strings.Repeat("水", 200), Source: run.Source{Revision: "\x1b[1m水" + strings.Repeat("r", 40)}}, Began: time.Now(), Ended: time.Now().Add(time.Duration(n) * time.Second), Work: float64(3 * n), Counts: map[run.Outcome]int{run.Passed: 99999, run.Failed: 99999}}
		v.All = append(v.All, k)
		for i := range ids {
			o := run.Outcomes[(i+n/(1+i%7))%len(run.Outcomes)]
			if bad {
				o = run.Failed
			}
			if (i+n)%11 > 0 {
				h.Set(i, n, history.NewCell(o, 0.1*float64(1+i%5)*float64(1+2*n/runs)))
			}
		}
	}
	v.Past = history.NewPast(v.All, h).WithChanges()
	v.Listing, v.Run = ledgerleg.NewListing(v.Past, v.By, a.session.Picked), runs-1
	v.Card = &history.Card{ID: ids[v.Order[0]], Figures: v.Past.Figures[v.Order[0]], Cells: h.Past(v.Order[0]), Runs: v.All, First: v.All[0], Well: v.All[0],
		Caught: &hunt.Saved{Number: 4, Finding: &hunt.Finding{ID: ids[v.Order[0]], Verdict: hunt.Polluted, Culprits: [][]string{ids[:2]}}}}
	r := run.New()
	for i, id := range ids[:min(len(ids), 300)] {
		r.Apply(run.Event{Event: run.StepDone, ID: id, Step: "\x1b[1m水 " + strings.Repeat("step", 40), Outcome: run.Failed, Failure: run.Failure{Message: "dry 水"}})
		r.Apply(run.Event{Event: run.Output, ID: id, Text: "\x1b[2Joutput\n\tof it 水\n"})
		r.Apply(run.Event{Event: run.Finished, ID: id, Outcome: run.Outcomes[i%len(run.Outcomes)], Failure: run.Failure{Message: strings.Repeat("got 水 3, want 4 ", 30), File: "a/b.go", Line: i, Expected: "水4", Actual: "水3"}})
	}
	v.Chosen = ledgerleg.ChosenRun{Record: v.All[runs-1], Run: r}
	for i, c := range cause.Group(r.Troubled(), cause.OwnIn("/")) {
		v.Chosen.Causes = append(v.Chosen.Causes, history.KnownCause{Cause: c, Since: v.All[i%runs]})
	}
}

// TestEveryScreenFits draws every leg in many states and sizes: each row has just
// the width of the screen, nothing of a name reaches the terminal as control, and drawing changes nothing.
func TestEveryScreenFits(t *testing.T) {
	states := map[string]func(*App){
		"matrix runs":   func(a *App) { playMatrix(a, 8, 8, false) },
		"matrix ended":  func(a *App) { playMatrix(a, 3, 8, true); a.matrix.Inside = true },
		"at first":      func(*App) {},
		"a pick":        func(a *App) { press(a, "/tag1 or in:area2/**⏎") },
		"a wrong pick":  func(a *App) { press(a, "/tag1 (nothing") },
		"an empty pick": func(a *App) { press(a, "/tag1 not tag1⏎") },
		"the last cell": func(a *App) { press(a, "Gllllllllllllllllllllllllllllll+") },
		"the list":      func(a *App) { press(a, "jj⇥jjjj") },
		"a run":         func(a *App) { playRun(a, 0.5, false) },
		"an ended run":  func(a *App) { playRun(a, 1, false); press(a, "3jjj") },
		"all failed":    func(a *App) { playRun(a, 1, true); press(a, "3⇥jjj") },
		"hunts":         playHunt,
		"a past":        func(a *App) { playPast(a, 150, false); press(a, "5jj") },
		"a bad past":    func(a *App) { playPast(a, 9, true); press(a, "5⇥G") },
		"one run":       func(a *App) { playPast(a, 1, true); press(a, "5o") },
		"a report":      func(a *App) { playPast(a, 30, false); press(a, "5⏎jjj⏎jj⇥") },
		"a comparison": func(a *App) {
			playPast(a, 30, false)
			v := a.ledger
			v.Report = ledgerleg.NewComparison(v.Chosen, v.All[3], history.Compare(run.New(), v.Chosen.Run, func(string) float64 { return 0 }))
		},
		"a hunt's card": func(a *App) { playHunt(a); press(a, "4⇥") },
		"sixteen":       func(a *App) { press(a, "2]]]]]]]]]]]]]]]]") },
		"help":          func(a *App) { press(a, "?") },
		"unfolded":      func(a *App) { press(a, " jj oO") },
		"why":           func(a *App) { press(a, "/tag1 not tag2⏎y⇥jjj") },
		"a card":        func(a *App) { press(a, "j⏎jjj⏎") },
		"a rule":        func(a *App) { press(a, "/tag1⏎R") },
		"a saved pick":  func(a *App) { press(a, "/tag1⏎s") },
		"completion":    func(a *App) { press(a, "/a") },
		"rules": func(a *App) {
			for i := range a.session.Picked.Catalog.Tests {
				a.session.Picked.Catalog.Tests[i].AddRules(catalog.Rules{Skip: "\x1b[1m水", OnlyIf: "os:linux", Needs: []string{strings.Repeat("needed", 40)}, Holds: []string{"bus"}}, surveyleg.KeepSession)
			}
			a.session.App.Own.Rules = make([]project.Rule, 3)
		},
	}
	for name, prepare := range states {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for _, size := range [][2]int{{80, 24}, {100, 30}, {120, 29}, {160, 40}, {300, 80}} {
				for _, profile := range []colorprofile.Profile{colorprofile.TrueColor, colorprofile.ASCII} {
					a := newApp(t, legtest.Made(30, 12, 20))
					settle(a, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
					settle(a, tea.ColorProfileMsg{Profile: profile})
					prepare(a)
					for leg := range a.legs {
						a.leg = leg
						a.fit()
						before := reflect.ValueOf(a.legs[leg]).Elem().Interface()
						screen, _ := a.screen()
						if again, _ := a.screen(); again != screen || !reflect.DeepEqual(before, reflect.ValueOf(a.legs[leg]).Elem().Interface()) {
							t.Errorf("%s at %v: drawing changes it", a.legs[leg].Name(), size)
						}
						checkScreen(t, fmt.Sprintf("%s at %v", a.legs[leg].Name(), size), screen, size[0], size[1])
					}
				}
			}
		})
	}
}

// TestTooSmall presses every key, ? before each, in terminals too small for the application, which come about while a window
// is dragged or a pane is split.
func TestTooSmall(t *testing.T) {
	const keys = "?123456abcdefghijklmnopqstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ+-= []/\t\r\x1b"
	for _, size := range [][2]int{{1, 1}, {0, 0}, {79, 40}, {80, 12}, {80, 10}, {300, 4}} {
		a := newApp(t, legtest.Made(3, 4, 2))
		playRun(a, 0.5, false)
		a.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		for _, key := range keys {
			for _, pressed := range []rune{'?', key} {
				a.Update(tea.KeyPressMsg{Code: pressed, Text: string(pressed)}) // without what follows, such as a run
				a.screen()
			}
		}
	}
}

func checkScreen(t *testing.T, what, screen string, width, height int) {
	t.Helper()
	lines := strings.Split(screen, "\n")
	if len(lines) != height {
		t.Errorf("%s: %d rows", what, len(lines))
	}
	if body := ansi.Strip(strings.Join(lines[2:height-1], "")); strings.TrimSpace(body) == "" {
		t.Errorf("%s: shows nothing", what)
	}
	for i, line := range lines {
		if w := ansi.StringWidth(line); w > width {
			t.Errorf("%s: row %d has %d cells: %s", what, i, w, ansi.Strip(line))
		}
		for _, r := range ansi.Strip(line) {
			if r < ' ' && r != '\r' {
				t.Errorf("%s: row %d holds the control character %q", what, i, r)
			}
		}
	}
}

// TestPickByCell writes the pick by working on the weave.
func TestPickByCell(t *testing.T) {
	a := newApp(t, legtest.Made(10, 8, 4))
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	var picks []string
	for _, keys := range []string{"+", "lj-", "G=", "⌫", "⌫", "⌫"} {
		press(a, keys)
		picks = append(picks, a.session.Picked.Text)
	}
	columns := a.session.Picked.Weave.Tags
	first := "in:area0/** " + columns[0]
	second := first + " not (in:area0/group-0 " + columns[1] + ")"
	want := []string{first, second, columns[1], second, first, ""}
	if strings.Join(picks, "|") != strings.Join(want, "|") {
		t.Errorf("the picks were\n%q, want\n%q", picks, want)
	}
	if n := len(a.session.Picked.Selected); n != 80 {
		t.Errorf("%d tests are picked in the end", n)
	}
}

// TestFoldsAndOrders works on the rows and columns of the weave; the cursor stays
// on its group and tag.
func TestFoldsAndOrders(t *testing.T) {
	a := newApp(t, legtest.Made(10, 8, 4))
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	v := a.legs[0].(*surveyleg.View)
	at := func() string {
		v.Arrange()
		return fmt.Sprintf("%s/%s of %d", v.Arranged.Node(v.Row).Path, v.Arranged.Tag(v.DrawColumn), len(v.Arranged.Rows))
	}
	tags := a.session.Picked.Weave.Tags
	for _, c := range []struct{ keys, want string }{
		{"jl", "area0/group-0/" + tags[1] + " of 13"},
		{" ", "area0/" + tags[1] + " of 11"},
		{" ", "area0/" + tags[1] + " of 13"},
		{"jjjo", "area1/" + tags[1] + " of 13"},
		{"oO", "area1/" + tags[1] + " of 13"},
		{"oO", "area1/" + tags[1] + " of 13"},
		{"/" + tags[2] + "⏎", "area1/" + tags[1] + " of 13"},
	} {
		if press(a, c.keys); at() != c.want {
			t.Errorf("%q: at %s, want %s", c.keys, at(), c.want)
		}
	}
	before := v.Current().ID
	settle(a, changedMsg{app: legtest.Made(11, 8, 4)}) // a project that has one more group
	if at() != "area1/"+tags[1]+" of 15" || v.Current().ID != before {
		t.Errorf("read again: at %s on %s, want %s", at(), v.Current().ID, before)
	}
	press(a, "GGjj")
	if v.Row != len(v.Arranged.Rows) || v.Press(tea.KeyPressMsg{Code: tea.KeySpace}) != leg.SayMsg("on the row of a folder, space folds it") {
		t.Errorf("the margin folds")
	}
}

// TestMouse clicks on cells, margins, folds, tests and legs, and scrolls.
func TestMouse(t *testing.T) {
	a := newApp(t, legtest.Made(10, 8, 4))
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	a.screen()
	v := a.legs[0].(*surveyleg.View)
	click := func(x, y int) {
		settle(a, tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft})
		a.screen()
	}
	top := topRows + 2 // of the first row of the weave
	if click(2+v.Names+surveyleg.CellWidth+1, top+1); v.Row != 1 || v.DrawColumn != 1 || v.Focus != surveyleg.OnWeave {
		t.Errorf("the second cell of the second row is clicked: at %d, %d", v.Row, v.DrawColumn)
	}
	rows := len(v.Arranged.Rows)
	if click(2, top); len(v.Arranged.Rows) != rows-2 || v.Row != 0 {
		t.Errorf("a fold is clicked: %d of %d rows, at %d", len(v.Arranged.Rows), rows, v.Row)
	}
	if click(2+v.Names+70, top+len(v.Arranged.Rows)+1); v.Row != len(v.Arranged.Rows) || v.DrawColumn != len(v.Arranged.Columns) {
		t.Errorf("the sum of all is clicked: at %d, %d", v.Row, v.DrawColumn)
	}
	if click(v.ListLeft+9, topRows+3+4); v.Focus != surveyleg.OnList || v.Test != 4 {
		t.Errorf("the fifth test is clicked: on %d", v.Test)
	}
	settle(a, tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	settle(a, tea.MouseWheelMsg{Button: tea.MouseWheelUp})
	settle(a, tea.MouseWheelMsg{Button: tea.MouseWheelUp})
	if v.Test != 3 {
		t.Errorf("scrolled to %d", v.Test)
	}
	if click(a.spans()[2].from, relayRow); a.leg != 2 {
		t.Errorf("the third leg is clicked: on leg %d", a.leg)
	}
}

// TestPickLineCompletes types a pick with the help of what is offered.
func TestPickLineCompletes(t *testing.T) {
	a := newApp(t, legtest.Made(10, 8, 4))
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	press(a, "/not in:area4")
	if screen, _ := a.screen(); !strings.Contains(ansi.Strip(screen), "in:area4/group-4") || !strings.Contains(ansi.Strip(screen), "place") {
		t.Errorf("nothing is offered:\n%s", ansi.Strip(screen))
	}
	settle(a, tea.KeyPressMsg{Code: tea.KeyDown})
	settle(a, tea.KeyPressMsg{Code: tea.KeyDown})
	settle(a, tea.KeyPressMsg{Code: tea.KeyUp})
	press(a, "⇥ saved:q⇥⏎")
	if a.session.Picked.Text != "not in:area4/** saved:quick" && a.session.Picked.Text != "not in:area4/group-4 saved:quick" {
		t.Errorf("the pick is %q", a.session.Picked.Text)
	}
	press(a, "/ nonsense")
	if a.line.wrong == nil || a.session.Picked.Text == "" || !a.line.editing {
		t.Errorf("a wrong pick took the place of the last good one")
	}
	press(a, "⎋")
	if a.line.wrong != nil || a.line.editing {
		t.Errorf("the line is still wrong")
	}
}

// TestSheets asks for a rule and a saved pick, gives them wrongly and rightly, and
// takes the rule back.
func TestSheets(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
	testfiles.Write(t, dir, map[string]string{"go.mod": "module example.org/x\n", "p/p_test.go": "package p\n\nimport \"testing\"\n\n//fern:tags wet\nfunc TestX(t *testing.T) {}\n"})
	r, err := app.Open(context.Background(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	a := newApp(t, r)
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	test := func() *catalog.Test { return &a.session.Picked.Catalog.Tests[0] }
	reason := strings.Repeat("↓", 4)
	press(a, "R→→→"+reason+"nothing⏎")
	if a.sheet == nil || !strings.Contains(a.sheet.Wrong, "the condition") {
		t.Fatal("a wrong condition is taken")
	}
	press(a, "⎋R"+reason+"by ")
	settle(a, tea.PasteMsg{Content: "hand"})
	press(a, "⏎")
	if a.sheet != nil || test().Rules().Skip != "by hand" || surveyleg.OwnWords(a.session.App.Own) != "1 rule of this session only" {
		t.Errorf("the rules are %+v, and the words are %q", test().Rules(), surveyleg.OwnWords(a.session.App.Own))
	}
	press(a, "R↓↓→⏎")
	if test().Rules().Skip != "" || len(a.session.App.Own.Rules) != 0 {
		t.Errorf("taken back: %+v, %+v", test().Rules(), a.session.App.Own.Rules)
	}
	press(a, "s")
	if a.sheet != nil || a.message == "" {
		t.Error("the pick of everything can be saved")
	}
	for _, keep := range []struct{ name, keys string }{{"here", ""}, {"mine", "↓→"}, {"now", "↓→→"}} {
		press(a, "/wet⏎s"+keep.name+keep.keys+"⏎")
		if !strings.HasPrefix(a.message, "saved in ") || !strings.HasSuffix(a.message, ": saved:"+keep.name+" picks it again") {
			t.Errorf("of %s it says %q", keep.name, a.message)
		}
		press(a, "/⌫⌫⌫saved:"+keep.name+"⏎")
		if a.sheet != nil || a.session.Picked.Text != "saved:"+keep.name {
			t.Fatalf("%s is not saved: the pick is %q", keep.name, a.session.Picked.Text)
		}
		press(a, "/"+strings.Repeat("⌫", 20)+"⏎")
	}
	if surveyleg.OwnWords(a.session.App.Own) != "1 saved pick of this session only" || a.session.App.Project.Picks["here"] != "wet" {
		t.Errorf("it is reported as %q", surveyleg.OwnWords(a.session.App.Own))
	}
}

// TestSelectionStays holds that the failure that is looked at stays under the
// cursor while others land.
func TestSelectionStays(t *testing.T) {
	a := newApp(t, legtest.Made(10, 8, 4))
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	playRun(a, 0.5, true)
	press(a, "3jj")
	looked := a.watch.Current()
	r := a.watch.Run
	for _, test := range a.session.Picked.Selected[60:] {
		r.Apply(run.Event{Event: run.Finished, ID: test.ID, Worker: 1, Batch: 1, Outcome: run.Failed, Seconds: run.Took(1), At: time.Now()})
	}
	r.Follow(time.Now())
	a.screen()
	if now := a.watch.Current(); now != looked {
		t.Errorf("the cursor went from %s to %s", looked.ID, now.ID)
	}
}

// BenchmarkFlood draws a frame of a run of which 50,000 events come a second, and takes
// a key in each: what it takes must be well under a frame's time.
func BenchmarkFlood(b *testing.B) {
	a := newApp(b, legtest.Made(400, 250, 6))
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	a.leg = 2
	tests := a.session.Picked.Selected
	live := progress.New(schedule.Of([]schedule.Batch{{Tests: tests}}, nil), 4, a.session.Picked.PastOf)
	live.Planned, live.Cancel = 90, func(error) {}
	a.watch.Run = live
	a.watch.SetFilter(watchleg.Filter{Show: watchleg.ShowAll})
	const events = 50_000 / 30
	at := time.Now()
	for i := 0; b.Loop(); i++ {
		for n := range events / 4 {
			t := &tests[(i*events/4+n)%len(tests)]
			at = at.Add(20 * time.Microsecond)
			worker := 1 + n%4
			live.Events.Put(run.Event{Event: run.Started, ID: t.ID, Worker: worker, Batch: 1, At: at})
			live.Events.Put(run.Event{Event: run.StepDone, ID: t.ID, Worker: worker, Batch: 1, At: at, Step: "one", Outcome: run.Passed})
			live.Events.Put(run.Event{Event: run.Output, ID: t.ID, Worker: worker, Batch: 1, At: at, Text: "said\n"})
			live.Events.Put(run.Event{Event: run.Finished, ID: t.ID, Worker: worker, Batch: 1, At: at, Outcome: run.Outcomes[n%3], Seconds: run.Took(0.001), Failure: run.Failure{Message: "why"}})
		}
		a.Update(tickMsg(at))
		a.Update(tea.KeyPressMsg{Code: tea.KeyDown})
		a.View()
	}
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N), "ms/frame")
}

// BenchmarkKey measures a key and its frame on 20,000 tests in 600 groups with 80
// tags, in every leg, on a usual and on a very large screen.
func BenchmarkKey(b *testing.B) {
	for _, size := range [][2]int{{160, 40}, {300, 80}} {
		a := newApp(b, legtest.Made(600, 34, 80))
		a.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		playRun(a, 0.9, true)
		playHunt(a)
		playMatrix(a, 6, 250, false)
		for leg := range a.legs {
			b.Run(fmt.Sprintf("%s/%dx%d", a.legs[leg].Name(), size[0], size[1]), func(b *testing.B) {
				a.leg = leg
				for i := 0; b.Loop(); i++ {
					code := tea.KeyDown
					if i%2 == 1 {
						code = tea.KeyUp
					}
					a.Update(tea.KeyPressMsg{Code: code})
					a.View()
				}
			})
		}
	}
}

// BenchmarkKeySplit measures a key that changes the number of shards, where every
// test is a unit of its own. The plan for it follows beside the interface's path.
func BenchmarkKeySplit(b *testing.B) {
	a := newApp(b, legtest.Made(600, 34, 80))
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 40})
	a.leg = 1
	press(a, "tt")
	for i := 0; b.Loop(); i++ {
		_, cmd := a.Update(tea.KeyPressMsg{Code: rune("[]"[i%2]), Text: "[]"[i%2 : i%2+1]})
		a.View()
		b.StopTimer()
		if i < 8 {
			a.Update(cmd())
		}
		b.StartTimer()
	}
}

// BenchmarkEvaluate measures what follows from a pick, which is worked out beside
// the interface's own path.
func BenchmarkEvaluate(b *testing.B) {
	r := legtest.Made(600, 34, 80)
	for b.Loop() {
		if _, err := leg.Evaluate(r.Tests, "tag1 or not (tag2 in:area3/** name:/case_1$/)", nil); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkLedger opens the leg on a ledger of 1,000 runs of 20,000 tests, and presses keys there.
// Making the ledger takes a few minutes.
func BenchmarkLedger(b *testing.B) {
	store := b.TempDir()
	l, err := ledger.Open(store)
	if err == nil {
		err = ledgertest.Fill(l, ledgertest.IDs(20_000), 1000)
	}
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	a := newApp(b, legtest.Made(200, 100, 20))
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	a.leg = 4
	v := a.ledger
	open := func() {
		all, err := l.List()
		if err != nil {
			b.Fatal(err)
		}
		runs, h, err := l.History(history.PastRuns, nil)
		if err != nil {
			b.Fatal(err)
		}
		v.All, v.Run, v.Past = all, len(all)-1, history.NewPast(runs, h)
		v.Listing = ledgerleg.NewListing(v.Past, v.By, a.session.Picked)
		a.fit()
		if a.screen(); len(v.Order) != 20_000 {
			b.Fatalf("%d tests are listed", len(v.Order))
		}
	}
	b.Run("open", func(b *testing.B) {
		for b.Loop() {
			open()
		}
	})
	open()
	_, run, err := l.Last()
	if err != nil {
		b.Fatal(err)
	}
	v.Chosen = ledgerleg.ChosenRun{Record: v.All[v.Run], Run: run}
	for _, c := range cause.Group(run.Troubled(), cause.OwnIn("/")) {
		v.Chosen.Causes = append(v.Chosen.Causes, history.KnownCause{Cause: c})
	}
	for name, keys := range map[string]string{"keys": "jjkGgoo⇥⇥", "report": "⏎jjj⏎jGgl⏎"} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				for _, key := range keys {
					press(a, string(key))
					a.screen()
				}
				v.Report = nil
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*len([]rune(keys)))/1000, "ms/key")
		})
	}
}

// TestEveryLegDraws draws what each leg shows, and says in an empty leg why it does not.
func TestEveryLegDraws(t *testing.T) {
	a := newApp(t, legtest.Made(3, 4, 3))
	settle(a, tea.WindowSizeMsg{Width: 160, Height: 40})
	for _, leg := range "345" {
		if press(a, string(leg)+"d"); a.sheet != nil || a.message == "" {
			t.Errorf("leg %c draws nothing, and says %q", leg, a.message)
		}
	}
	playRun(a, 1, false)
	playHunt(a)
	playPast(a, 4, false)
	settle(a, a.split.Planner.Advise()())
	for _, leg := range "12345" {
		file := filepath.Join(t.TempDir(), "drawing.svg")
		press(a, string(leg)+"d↓")
		settle(a, tea.PasteMsg{Content: file})
		press(a, "⏎")
		if data, err := os.ReadFile(file); err != nil || !strings.Contains(string(data), "<svg") || a.message != "written: "+file {
			t.Errorf("leg %c draws %d bytes, %v: %q", leg, len(data), err, a.message)
		}
	}
}

// TestStepsUnfold unfolds the steps of a test in the list, moves through them, and picks one.
func TestStepsUnfold(t *testing.T) {
	a := newApp(t, legtest.Made(3, 4, 3))
	v := a.legs[0].(*surveyleg.View)
	for _, size := range []tea.WindowSizeMsg{{Width: 160, Height: 40}, {Width: 80, Height: 24}} {
		settle(a, size)
		press(a, "→→→→⇥g ")
		if v.Steps.Test != "" || !strings.Contains(a.message, "no steps of") {
			t.Errorf("a test without steps unfolds, and says %q", a.message)
		}
		press(a, "↓ "+strings.Repeat("↓", 45))
		checkScreen(t, "unfolded steps", a.View().Content, size.Width, size.Height)
		if screen := ansi.Strip(a.View().Content); !strings.Contains(screen, "bed 水 44") || strings.Contains(screen, "bed 水 0 ") {
			t.Errorf("the step under the cursor is out of sight:\n%s", screen)
		}
		press(a, "=")
		if tests := a.session.Picked.Selected; len(tests) != 1 || len(tests[0].Asks().Steps) != 1 || !strings.HasSuffix(tests[0].Asks().Steps[0], "bed 水 44") {
			t.Errorf("picked are %+v", tests)
		}
		press(a, strings.Repeat("↓", 6))
		if v.Step() != "" || v.Test != 2 {
			t.Errorf("after the steps the cursor is on test %d, step %q", v.Test, v.Step())
		}
		press(a, "↓k"+"k ")
		if v.Steps.Test != "" {
			t.Error("the steps do not fold again")
		}
		press(a, "⌫⎋")
	}
}
