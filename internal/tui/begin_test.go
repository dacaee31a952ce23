package tui

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/internal/scaffold"
	"fernrelay/internal/tui/legtest"
)

// beginning returns the page on a folder, and how to press keys on it; what is written goes to written.
func beginning(shape *scaffold.Shape, written *string, fails error) (*beginPage, func(keys ...string)) {
	m := newBeginPage("/home/gardener/"+strings.Repeat("deep/", 40)+"beds", shape, func(s *scaffold.Shape) error {
		text := s.Config()
		*written = text
		return fails
	})
	return m, func(keys ...string) {
		for _, k := range keys {
			msg := tea.KeyPressMsg{Text: k}
			switch code := map[string]rune{"enter": tea.KeyEnter, "space": tea.KeySpace, "down": tea.KeyDown, "esc": tea.KeyEscape, "pgdown": tea.KeyPgDown, "right": tea.KeyRight}[k]; {
			case code != 0:
				msg = tea.KeyPressMsg{Code: code}
			default:
				msg.Code = []rune(k)[0]
			}
			_, cmd := m.Update(msg)
			for cmd != nil {
				next := cmd()
				if _, added := next.(addedMsg); !added {
					break
				}
				_, cmd = m.Update(next)
			}
		}
	}
}

// TestBeginPage leaves suites out, describes a program, and writes what is chosen; a mistake in the description and a
// file that cannot be written are shown.
func TestBeginPage(t *testing.T) {
	shape := &scaffold.Shape{Name: "beds", Suites: []scaffold.Suite{{Name: "go", Kind: "go", Dir: "."}, {Name: "checks", Kind: "command", Dir: "checks", List: "ls", Run: "./{name}"}}}
	var written string
	m, press := beginning(shape, &written, nil)
	m.width, m.height = 100, 30
	press("space", "down", "down", "a", "enter")
	if m.sheet == nil || m.sheet.Wrong == "" {
		t.Fatal("a program without a command is taken")
	}
	press("down", "n", "down", "l", "s", "down", "./r {names}", "enter")
	if m.sheet != nil || len(m.shape.Suites) != 3 {
		t.Fatalf("the program is not added: %+v", m.shape.Suites)
	}
	press("enter")
	if !m.wrote || strings.Contains(written, "kind = 'go'") || !strings.Contains(written, "name = 'checks'") || !strings.Contains(written, "run = './r {names}'") {
		t.Errorf("it writes\n%s", written)
	}
	m, press = beginning(shape, &written, errors.New("the disk is full"))
	m.width, m.height = 100, 30
	press("enter")
	if text, _ := m.screen(); m.wrote || !strings.Contains(text, "the disk is full") {
		t.Errorf("it does not say why nothing is written:\n%s", text)
	}
	written = ""
	m, press = beginning(&scaffold.Shape{Name: "empty"}, &written, nil)
	m.width, m.height = 100, 30
	press("space", "enter", "pgdown")
	if text, _ := m.screen(); written != "" || m.wrote || !strings.Contains(text, "no tests here yet") {
		t.Errorf("without a suite it writes %q:\n%s", written, text)
	}
}

// TestBeginPageFits draws the page in all sizes, with hostile names and more suites than rows, and holds that the suite
// under the cursor is shown.
func TestBeginPageFits(t *testing.T) {
	shape := &scaffold.Shape{Name: "水\x1b[31m", Notes: []string{"a\x1b[2J note " + strings.Repeat("long ", 80)}}
	for i := range 60 {
		shape.Suites = append(shape.Suites, scaffold.Suite{Name: fmt.Sprintf("%s-s%d!", strings.Repeat("n", i*4), i), Kind: "command", Dir: "水/\x1b", List: "ls \x1b[1m", Run: "./{name}", Comment: "scripts \x1b[31m " + strings.Repeat("c", i)})
	}
	var written string
	for _, size := range [][2]int{{80, 24}, {81, 25}, {120, 30}, {160, 40}, {300, 90}} {
		m, press := beginning(shape, &written, nil)
		m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		for at := range shape.Suites {
			text, _ := m.screen()
			lines := strings.Split(ansi.Strip(text), "\n")
			if len(lines) > size[1] {
				t.Fatalf("%v: %d lines", size, len(lines))
			}
			for _, line := range lines {
				if ansi.StringWidth(line) > size[0] || strings.Contains(line, "\x1b") {
					t.Fatalf("%v: %q", size, line)
				}
			}
			if !strings.Contains(ansi.Strip(text), fmt.Sprintf("s%d!", at)) {
				t.Fatalf("%v: suite %d is not shown under the cursor:\n%s", size, at, ansi.Strip(text))
			}
			press("down")
		}
		press("a")
		if _, cursor := m.screen(); m.sheet == nil || cursor != nil && cursor.Y >= size[1] {
			t.Errorf("%v: the form is outside of the screen", size)
		}
	}
}

// TestHelpShowsEverything holds that on every size of the screen the pages of ? show every line about the keys.
func TestHelpShowsEverything(t *testing.T) {
	a := newApp(t, legtest.Made(3, 4, 2))
	for _, size := range [][2]int{{80, 24}, {100, 28}, {160, 40}, {320, 100}} {
		a.width, a.height = size[0], size[1]
		for leg := range a.legs {
			a.leg, a.helpPage = leg, 0
			press(a, "?")
			var shown strings.Builder
			for pages := 0; a.help; pages++ {
				text, _ := a.screen()
				shown.WriteString(ansi.Strip(text))
				if pages > 9 {
					t.Fatalf("%v: the help of %s has no end", size, a.legs[leg].Name())
				}
				settle(a, tea.KeyPressMsg{Code: tea.KeySpace})
			}
			for _, line := range a.helpLines() {
				if !strings.Contains(shown.String(), line.Does) {
					t.Errorf("%v: the help of %s does not show %q", size, a.legs[leg].Name(), line.Does)
				}
			}
		}
	}
}
