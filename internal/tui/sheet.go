package tui

import (
	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
)

// sheet asks a few things at once, over the foot of a view: each row is a choice
// or a text.
type sheet struct {
	title string
	rows  []sheetRow
	at    int
	wrong string // what kept it from being done
	// done returns the command that does it, from the values of the rows.
	done func(s *sheet) tea.Cmd
}

// sheetRow is one thing asked. A row without choices is a text.
type sheetRow struct {
	label   string
	choices []string
	hints   []string // beside each choice
	chosen  int
	input   textinput.Model
}

func newText(label, value, hint string) sheetRow {
	input := textinput.New()
	input.Prompt = ""
	input.Placeholder = hint
	input.SetVirtualCursor(false)
	input.SetValue(value)
	return sheetRow{label: label, input: input}
}

var sheetKeys = []key.Binding{
	key.NewBinding(key.WithHelp("enter", "do it")),
	key.NewBinding(key.WithHelp("↑ ↓", "row")),
	key.NewBinding(key.WithHelp("← →", "choice")),
	key.NewBinding(key.WithHelp("esc", "leave it")),
}

// open begins with the first row.
func (s *sheet) open() tea.Cmd { return s.move(0) }

// press takes a key; closed reports that the person left the sheet.
func (s *sheet) press(msg tea.KeyPressMsg) (cmd tea.Cmd, closed bool) {
	row := &s.rows[s.at]
	switch msg.String() {
	case "esc":
		return nil, true
	case "enter":
		s.wrong = ""
		return s.done(s), false
	case "up", "shift+tab":
		return s.move(-1), false
	case "down", "tab":
		return s.move(1), false
	}
	if row.choices == nil {
		row.input, cmd = row.input.Update(msg)
		return cmd, false
	}
	switch msg.String() {
	case "left", "h":
		row.chosen = max(0, row.chosen-1)
	case "right", "l", "space":
		row.chosen = min(row.chosen+1, len(row.choices)-1)
	}
	return nil, false
}

// paste takes what is pasted into a text.
func (s *sheet) paste(msg tea.PasteMsg) (cmd tea.Cmd) {
	if row := &s.rows[s.at]; row.choices == nil {
		row.input, cmd = row.input.Update(msg)
	}
	return cmd
}

func (s *sheet) move(step int) tea.Cmd {
	s.rows[s.at].input.Blur()
	s.at = max(0, min(s.at+step, len(s.rows)-1))
	if s.rows[s.at].choices == nil {
		return s.rows[s.at].input.Focus()
	}
	return nil
}

// choice returns the chosen value of a row, or its text.
func (s *sheet) choice(label string) string {
	for _, row := range s.rows {
		if row.label != label {
			continue
		}
		if row.choices == nil {
			return row.input.Value()
		}
		return row.choices[row.chosen]
	}
	return ""
}

// fit adapts the texts to a width.
func (s *sheet) fit(width int) {
	for i := range s.rows {
		if s.rows[i].choices == nil {
			s.rows[i].input.SetWidth(max(1, width-sheetLabel-4))
		}
	}
}

// sheetLabel is the column at which the rows' values begin.
const sheetLabel = 14

// draw draws the sheet over the foot of the view and returns the place of the cursor; x is negative if there is
// none.
func (s *sheet) draw(c canvas) (x, y int) {
	t := c.theme
	height := len(s.rows) + 4
	top := max(0, c.height-height)
	c.clear(0, top, c.width, c.height-top)
	c.rule(0, top, c.width, t.leaf, "─")
	c.text(2, top+1, style{t.ink, true}, cut(s.title, c.width-4))
	x, y = -1, -1
	for i := range s.rows {
		row, at := &s.rows[i], top+2+i
		look := style{colour: t.fog}
		if i == s.at {
			look = style{t.leaf, true}
		}
		c.text(2, at, look, row.label)
		if row.choices == nil {
			x2 := s.drawText(c, row, at)
			if i == s.at {
				x, y = x2, at
			}
			continue
		}
		s.drawChoices(c, row, at)
	}
	if s.wrong != "" {
		c.text(2, c.height-2, style{colour: t.rust}, cut(s.wrong, c.width-4))
	}
	return x, y
}

func (s *sheet) drawChoices(c canvas, row *sheetRow, y int) {
	t, x := c.theme, sheetLabel
	for i, choice := range row.choices {
		look := style{colour: t.fog}
		if i == row.chosen {
			look = style{t.ink, true}
			c.fill(x-1, y, width(choice)+2, 1, t.leaf, 0.3)
			if t.shades {
				choice = "‹" + choice + "›"
				x--
			}
		}
		x = c.text(x, y, look, choice) + 2
	}
	if row.hints != nil {
		c.text(x+1, y, style{colour: t.fog}, cut(row.hints[row.chosen], c.width-x-3))
	}
}

func (s *sheet) drawText(c canvas, row *sheetRow, y int) (cursor int) {
	if row.input.Value() == "" {
		c.text(sheetLabel, y, style{colour: c.theme.faint()}, cut(row.input.Placeholder, c.width-sheetLabel-3))
		return sheetLabel
	}
	c.text(sheetLabel, y, style{colour: c.theme.ink}, plainView(row.input))
	if at := row.input.Cursor(); at != nil {
		return sheetLabel + at.X
	}
	return sheetLabel
}
