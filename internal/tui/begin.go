package tui

import (
	"context"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"

	"fernrelay/core/plain"
	"fernrelay/internal/project"
	"fernrelay/internal/scaffold"
	"fernrelay/internal/tui/screen"
)

// Begin shows what a folder has that could be suites, lets the person choose and describe some, and passes the text of
// the fern.toml to write. It reports whether that was written.
func Begin(ctx context.Context, dir string, shape *scaffold.Shape, write func(s *scaffold.Shape) error) (wrote bool, err error) {
	m := newBeginPage(dir, shape, write)
	_, err = tea.NewProgram(m, tea.WithContext(ctx)).Run()
	return m.wrote, err
}

// beginPage is the model of that page: the suites on the left, the fern.toml that they make on the right.
type beginPage struct {
	dir           string
	shape         *scaffold.Shape
	write         func(s *scaffold.Shape) error
	out           []bool        // by suite: it is left out
	at            int           // the suite under the cursor
	top           int           // the first line of the fern.toml that is shown
	sheet         *screen.Sheet // that describes a program; nil if there is none
	theme         *screen.Theme
	dark          bool
	width, height int
	cells         uv.Buffer
	wrong         string // why fern.toml could not be written
	wrote         bool
}

func newBeginPage(dir string, shape *scaffold.Shape, write func(s *scaffold.Shape) error) *beginPage {
	return &beginPage{dir: dir, shape: shape, write: write, out: make([]bool, len(shape.Suites)), dark: true,
		theme: screen.NewTheme(nil, true, colorprofile.TrueColor)}
}

func (m *beginPage) Init() tea.Cmd { return tea.RequestBackgroundColor }

func (m *beginPage) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
		if m.sheet != nil {
			m.sheet.Fit(m.width)
		}
	case tea.BackgroundColorMsg:
		m.dark = msg.IsDark()
		m.theme = screen.NewTheme(msg.Color, m.dark, colorprofile.TrueColor)
	case tea.ColorProfileMsg:
		m.theme = screen.NewTheme(m.theme.Background, m.dark, msg.Profile)
	case tea.PasteMsg:
		if m.sheet != nil {
			return m, m.sheet.Paste(msg)
		}
	case tea.MouseWheelMsg:
		m.scroll(map[bool]int{true: -3, false: 3}[msg.Button == tea.MouseWheelUp])
	case addedMsg:
		m.add(msg)
	case tea.KeyPressMsg:
		return m, m.press(msg)
	}
	return m, nil
}

func (m *beginPage) press(msg tea.KeyPressMsg) tea.Cmd {
	if m.sheet != nil && msg.String() != "ctrl+c" {
		cmd, closed := m.sheet.Press(msg)
		if closed {
			m.sheet = nil
		}
		return cmd
	}
	switch pressed := msg.String(); pressed {
	case "q", "ctrl+c", "esc":
		return tea.Quit
	case "a":
		return m.describe()
	case "space":
		if len(m.out) > 0 {
			m.out[m.at] = !m.out[m.at]
		}
	case "pgdown", "pgup":
		m.scroll(map[string]int{"pgdown": m.height / 2, "pgup": -m.height / 2}[pressed])
	case "enter":
		if len(m.chosen().Suites) == 0 {
			return nil
		}
		if err := m.write(m.chosen()); err != nil {
			m.wrong = err.Error()
			return nil
		}
		m.wrote = true
		return tea.Quit
	default:
		m.at = screen.Moved(m.at, pressed, len(m.out))
	}
	return nil
}

func (m *beginPage) scroll(by int) {
	last := strings.Count(m.chosen().Config(), "\n") - m.height/2
	m.top = max(0, min(m.top+by, last))
}

// chosen returns the shape with the suites that are not left out.
func (m *beginPage) chosen() *scaffold.Shape {
	s := *m.shape
	s.Suites = nil
	for i, suite := range m.shape.Suites {
		if !m.out[i] {
			s.Suites = append(s.Suites, suite)
		}
	}
	return &s
}

// addedMsg brings a suite that the person has described.
type addedMsg struct{ suite scaffold.Suite }

// The rows of the sheet that describes a program.
const (
	rowKind    = "kind"
	rowName    = "name"
	rowList    = "list"
	rowRun     = "run"
	rowResults = "results"
)

// describe asks for a program.
func (m *beginPage) describe() tea.Cmd {
	m.sheet = &screen.Sheet{Title: "A program that lists and runs tests, or a test host", Rows: []screen.SheetRow{
		{Label: rowKind, Choices: []string{"command", "host"}, Hints: []string{"one command lists the tests, one runs them", "one program speaks the test-host protocol; it needs no list"}},
		screen.NewText(rowName, "", "the name of the suite"),
		screen.NewText(rowList, "", "prints the name of each test on a line: ./readings list"),
		screen.NewText(rowRun, "", "runs {name}, or {names} and writes {report}: ./readings run {names} {report}"),
		{Label: rowResults, Choices: project.ResultFormats(), Hints: scaffold.ResultsWords()},
	}}
	m.sheet.Done = func(sh *screen.Sheet) tea.Cmd {
		suite := scaffold.Suite{Name: sh.Choice(rowName), Kind: sh.Choice(rowKind), Dir: ".", List: sh.Choice(rowList), Run: sh.Choice(rowRun), Results: sh.Choice(rowResults)}
		return func() tea.Msg { return addedMsg{suite} }
	}
	m.sheet.Fit(m.width)
	return m.sheet.Open()
}

func (m *beginPage) add(msg addedMsg) {
	if err := m.shape.Add(msg.suite); err != nil {
		m.sheet.Wrong = err.Error()
		return
	}
	m.out = append(m.out, false)
	m.at, m.sheet = len(m.out)-1, nil
}

func (m *beginPage) View() tea.View {
	screen, cursor := m.screen()
	v := tea.NewView(screen)
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "fern relay"
	v.Cursor = cursor
	return v
}

func (m *beginPage) screen() (text string, cursor *tea.Cursor) {
	if m.width == 0 {
		return "", nil
	}
	t, c := m.theme, screen.NewCanvas(&m.cells, m.theme, m.width, m.height)
	x := c.Text(1, 0, screen.Style{Colour: t.Leaf, Bold: true}, "fern relay")
	c.Text(x+3, 0, screen.Style{Colour: t.Ink}, screen.CutGroup(plain.Line(m.dir), m.width-x-4))
	c.Rule(0, 2, m.width, t.Faint(), "─")
	body := c.Sub(0, 3, m.width, m.height-5)
	half := m.width * 2 / 5
	m.drawSuites(body.Sub(2, 1, half-4, body.Height-1))
	m.drawConfig(body.Sub(half, 1, m.width-half-2, body.Height-1))
	if m.sheet != nil {
		if x, y := m.sheet.Draw(body); x >= 0 {
			cursor = tea.NewCursor(x, 3+y)
		}
	}
	c.Rule(0, m.height-2, m.width, t.Faint(), "─")
	m.drawKeys(c, m.height-1)
	return c.Render(), cursor
}

// drawSuites draws what could be suites, what was not understood, and where Fern Relay looked.
func (m *beginPage) drawSuites(c screen.Canvas) {
	t, y := c.Theme, 0
	lines := func(look screen.Style, text string) {
		for _, line := range screen.Wrap(text, c.Width) {
			c.Text(0, y, look, line)
			y++
		}
	}
	heading := "There is no fern.toml yet. These can be its suites:"
	if len(m.shape.Suites) == 0 {
		heading = "There are no tests here yet."
	}
	lines(screen.Style{Colour: t.Ink, Bold: true}, heading)
	y++
	// If there is no room for all comments, only that of the suite under the cursor is shown.
	const suiteRows, footRows = 4, 5
	tight := len(m.shape.Suites)*suiteRows > c.Height-y-footRows
	first := 0
	if tight {
		first = max(0, m.at+1-max(1, c.Height-y-footRows))
	}
	for i, s := range m.shape.Suites[first:] {
		i += first
		mark, look := "▪", screen.Style{Colour: t.Ink}
		if m.out[i] {
			mark, look = "▫", screen.Style{Colour: t.Fog}
		}
		c.Text(0, y, screen.Style{Colour: t.Leaf}, mark)
		x := c.Text(2, y, screen.Style{Colour: look.Colour, Bold: true}, screen.CutMiddle(plain.Line(s.Name), c.Width-4-screen.Width(s.Kind)))
		c.Text(x+2, y, screen.Style{Colour: t.Fog}, s.Kind)
		if i == m.at {
			c.SelectRow(0, y, c.Width, 1)
		}
		if y++; tight && i != m.at {
			continue
		}
		for _, line := range screen.Wrap(plain.Line(s.Comment), c.Width-2) {
			c.Text(2, y, screen.Style{Colour: t.Fog}, line)
			y++
		}
		y++
	}
	for _, note := range m.shape.Notes {
		lines(screen.Style{Colour: t.Amber}, plain.Line(note))
	}
	if m.wrong != "" {
		lines(screen.Style{Colour: t.Rust}, plain.Line(m.wrong))
	}
	y++
	lines(screen.Style{Colour: t.Fog}, "Looked for a Go module around the folder, modules below it, and scripts in folders like tests or checks. For any other program press a.")
}

// drawConfig draws the fern.toml that enter writes.
func (m *beginPage) drawConfig(c screen.Canvas) {
	t := c.Theme
	c.Text(0, 0, screen.Style{Colour: t.Fog}, "fern.toml")
	if len(m.chosen().Suites) == 0 {
		c.Text(0, 2, screen.Style{Colour: t.Fog}, "needs a suite: a describes one")
		return
	}
	lines := strings.Split(strings.TrimSuffix(m.chosen().Config(), "\n"), "\n")
	for i, line := range lines[min(m.top, len(lines)-1):] {
		if y := 2 + i; y < c.Height {
			look := screen.Style{Colour: t.Ink}
			if strings.HasPrefix(line, "#") {
				look.Colour = t.Fog
			}
			code, comment, _ := strings.Cut(line, "   # ")
			x := c.Text(0, y, look, screen.Cut(plain.Line(code), c.Width))
			if comment != "" {
				c.Text(x+3, y, screen.Style{Colour: t.Fog}, screen.Cut("# "+plain.Line(comment), c.Width-x-3))
			}
		}
	}
}

func (m *beginPage) drawKeys(c screen.Canvas, y int) {
	switch {
	case m.sheet != nil:
		drawBindings(c, 1, y, c.Width-1, screen.SheetKeys)
	case len(m.shape.Suites) == 0:
		drawBindings(c, 1, y, c.Width-1, beginKeys[2:])
	default:
		drawBindings(c, 1, y, c.Width-1, beginKeys)
	}
}

// beginKeys are the keys of the page; the first two need a suite.
var beginKeys = []key.Binding{
	key.NewBinding(key.WithHelp("enter", "write fern.toml and list the tests")),
	key.NewBinding(key.WithHelp("space", "leave out or in")),
	key.NewBinding(key.WithHelp("a", "add a program")),
	key.NewBinding(key.WithHelp("pgup pgdown", "scroll")),
	key.NewBinding(key.WithHelp("q", "quit")),
}
