package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"fernrelay/core/plain"
)

// Start is the page on a folder without tests.
type Start struct {
	Dir   string
	Found []string // suites that could be written, a line each; none if there is nothing
	Write func() error
}

// Begin shows the page on a folder without tests, and reports whether fern.toml was written from there.
func Begin(ctx context.Context, s Start) (wrote bool, err error) {
	m := &startPage{Start: s, theme: newTheme(nil, true, colorprofile.TrueColor), dark: true}
	_, err = tea.NewProgram(m, tea.WithContext(ctx)).Run()
	return m.wrote, err
}

// startPage is the model of that page.
type startPage struct {
	Start
	theme         *theme
	dark          bool
	width, height int
	wrong         string // why fern.toml could not be written
	wrote         bool
}

func (m *startPage) Init() tea.Cmd { return tea.RequestBackgroundColor }

func (m *startPage) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.dark = msg.IsDark()
		m.theme = newTheme(msg.Color, m.dark, colorprofile.TrueColor)
	case tea.ColorProfileMsg:
		m.theme = newTheme(m.theme.background, m.dark, msg.Profile)
	case tea.KeyPressMsg:
		switch key := msg.String(); {
		case key == "q" || key == "ctrl+c" || key == "esc":
			return m, tea.Quit
		case key == "i" && len(m.Found) > 0:
			if err := m.Write(); err != nil {
				m.wrong = err.Error()
				return m, nil
			}
			m.wrote = true
			return m, tea.Quit
		}
	}
	return m, nil
}

func (m *startPage) View() tea.View {
	v := tea.NewView(m.screen())
	v.AltScreen = true
	v.WindowTitle = "fern relay"
	return v
}

func (m *startPage) screen() string {
	if m.width == 0 {
		return ""
	}
	t, c := m.theme, newCanvas(m.theme, m.width, m.height)
	x := c.text(1, 0, style{t.leaf, true}, "fern relay")
	c.text(x+3, 0, style{colour: t.ink}, cut(plain.Line(m.Dir), m.width-x-4))
	c.rule(0, 2, m.width, t.faint(), "─")
	y := 4
	lines := func(look style, text string) {
		for _, line := range wrap(text, m.width-4) {
			c.text(2, y, look, line)
			y++
		}
	}
	lines(style{t.ink, true}, "There are no tests here yet.")
	lines(style{colour: t.fog}, "Looked for a fern.toml here and above, the Go module around the folder, modules below it, and scripts in folders like tests or checks.")
	y++
	if len(m.Found) == 0 {
		lines(style{colour: t.ink}, "Describe your tests on the command line, and init writes fern.toml:")
		lines(style{colour: t.leaf}, "fern-relay init --list 'COMMAND' --run 'COMMAND {name}'")
		lines(style{colour: t.leaf}, "fern-relay init --host 'COMMAND'")
	} else {
		lines(style{colour: t.ink}, "These could be its suites:")
		for _, line := range m.Found {
			lines(style{colour: t.fog}, "  "+plain.Line(line))
		}
	}
	if m.wrong != "" {
		y++
		lines(style{colour: t.rust}, plain.Line(m.wrong))
	}
	c.rule(0, m.height-3, m.width, t.faint(), "─")
	x = 1
	if len(m.Found) > 0 {
		x = c.text(x, m.height-1, style{colour: t.leaf}, "i")
		x = c.text(x+1, m.height-1, style{colour: t.fog}, "write fern.toml and open the project") + 3
	}
	x = c.text(x, m.height-1, style{colour: t.leaf}, "q")
	c.text(x+1, m.height-1, style{colour: t.fog}, "quit")
	return c.render()
}
