package screen

import (
	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
)

// Sheet asks a few things at once, over the foot of a view: each row is a choice
// or a text.
type Sheet struct {
	Title string
	Rows  []SheetRow
	at    int
	Wrong string // what kept it from being done
	// Done returns the command that does it, from the values of the rows.
	Done func(s *Sheet) tea.Cmd
}

// SheetRow is one thing asked. A row without choices is a text.
type SheetRow struct {
	Label   string
	Choices []string
	Hints   []string // beside each choice
	Chosen  int
	input   textinput.Model
}

// NewText returns a row with a text, and a hint while it is empty.
func NewText(label, value, hint string) SheetRow {
	input := textinput.New()
	input.Prompt = ""
	input.Placeholder = hint
	input.SetVirtualCursor(false)
	input.SetValue(value)
	return SheetRow{Label: label, input: input}
}

var SheetKeys = []key.Binding{
	key.NewBinding(key.WithHelp("enter", "do it")),
	key.NewBinding(key.WithHelp("↑ ↓", "row")),
	key.NewBinding(key.WithHelp("← →", "choice")),
	key.NewBinding(key.WithHelp("esc", "leave it")),
}

// Open begins with the first row.
func (s *Sheet) Open() tea.Cmd { return s.move(0) }

// Press takes a key; closed reports that the person left the sheet.
func (s *Sheet) Press(msg tea.KeyPressMsg) (cmd tea.Cmd, closed bool) {
	row := &s.Rows[s.at]
	switch msg.String() {
	case "esc":
		return nil, true
	case "enter":
		s.Wrong = ""
		return s.Done(s), false
	case "up", "shift+tab":
		return s.move(-1), false
	case "down", "tab":
		return s.move(1), false
	}
	if row.Choices == nil {
		row.input, cmd = row.input.Update(msg)
		return cmd, false
	}
	switch msg.String() {
	case "left", "h":
		row.Chosen = max(0, row.Chosen-1)
	case "right", "l", "space":
		row.Chosen = min(row.Chosen+1, len(row.Choices)-1)
	}
	return nil, false
}

// Paste takes what is pasted into a text.
func (s *Sheet) Paste(msg tea.PasteMsg) (cmd tea.Cmd) {
	if row := &s.Rows[s.at]; row.Choices == nil {
		row.input, cmd = row.input.Update(msg)
	}
	return cmd
}

func (s *Sheet) move(step int) tea.Cmd {
	s.Rows[s.at].input.Blur()
	s.at = max(0, min(s.at+step, len(s.Rows)-1))
	if s.Rows[s.at].Choices == nil {
		return s.Rows[s.at].input.Focus()
	}
	return nil
}

// Choice returns the chosen value of a row, or its text.
func (s *Sheet) Choice(label string) string {
	for _, row := range s.Rows {
		if row.Label != label {
			continue
		}
		if row.Choices == nil {
			return row.input.Value()
		}
		return row.Choices[row.Chosen]
	}
	return ""
}

// Fit adapts the texts to a width.
func (s *Sheet) Fit(width int) {
	for i := range s.Rows {
		if s.Rows[i].Choices == nil {
			s.Rows[i].input.SetWidth(max(1, width-sheetLabel-4))
		}
	}
}

// sheetLabel is the column at which the rows' values begin.
const sheetLabel = 14

// Draw draws the sheet over the foot of the view and returns the place of the cursor; x is negative if there is
// none.
func (s *Sheet) Draw(c Canvas) (x, y int) {
	t := c.Theme
	height := len(s.Rows) + 4
	top := max(0, c.Height-height)
	c.Clear(0, top, c.Width, c.Height-top)
	c.Rule(0, top, c.Width, t.Leaf, "─")
	c.Text(2, top+1, Style{t.Ink, true}, Cut(s.Title, c.Width-4))
	x, y = -1, -1
	for i := range s.Rows {
		row, at := &s.Rows[i], top+2+i
		look := Style{Colour: t.Fog}
		if i == s.at {
			look = Style{t.Leaf, true}
		}
		c.Text(2, at, look, row.Label)
		if row.Choices == nil {
			x2 := s.drawText(c, row, at)
			if i == s.at {
				x, y = x2, at
			}
			continue
		}
		s.drawChoices(c, row, at)
	}
	if s.Wrong != "" {
		c.Text(2, c.Height-2, Style{Colour: t.Rust}, Cut(s.Wrong, c.Width-4))
	}
	return x, y
}

func (s *Sheet) drawChoices(c Canvas, row *SheetRow, y int) {
	t, x := c.Theme, sheetLabel
	for i, choice := range row.Choices {
		look := Style{Colour: t.Fog}
		if i == row.Chosen {
			look = Style{t.Ink, true}
			c.Fill(x-1, y, Width(choice)+2, 1, t.Leaf, 0.3)
			if t.Shades {
				choice = "‹" + choice + "›"
				x--
			}
		}
		x = c.Text(x, y, look, choice) + 2
	}
	if row.Hints != nil {
		c.Text(x+1, y, Style{Colour: t.Fog}, Cut(row.Hints[row.Chosen], c.Width-x-3))
	}
}

func (s *Sheet) drawText(c Canvas, row *SheetRow, y int) (cursor int) {
	if row.input.Value() == "" {
		c.Text(sheetLabel, y, Style{Colour: c.Theme.Faint()}, Cut(row.input.Placeholder, c.Width-sheetLabel-3))
		return sheetLabel
	}
	c.Text(sheetLabel, y, Style{Colour: c.Theme.Ink}, PlainView(row.input))
	if at := row.input.Cursor(); at != nil {
		return sheetLabel + at.X
	}
	return sheetLabel
}
