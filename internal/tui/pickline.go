package tui

import (
	"errors"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/pick"
	"fernrelay/internal/tui/leg"
)

// pickLine is the line that shows the pick and on which it is typed. The figures follow while it is typed; during
// a mistake the last good ones stay.
type pickLine struct {
	input   textinput.Model
	editing bool
	leaving bool     // once the figures of the typed pick are there, unless it is wrong
	before  string   // the pick before it was edited
	past    []string // earlier picks, for undo
	wrong   *pick.Error
	asked   int     // number of the latest requested evaluation
	coming  *string // the pick that it evaluates; nil once its figures are there

	from       int // the beginning of the word that is being completed, in characters
	candidates []pick.Candidate
	chosen     int // of the candidates; -1 before one is
}

// pickedMsg brings the figures of a pick.
type pickedMsg struct {
	number  int
	figures leg.Figures
	err     error
}

func newPickLine() pickLine {
	input := textinput.New()
	input.Prompt = ""
	input.SetVirtualCursor(false) // the terminal's own is shown
	return pickLine{input: input}
}

// edit begins to edit the present pick.
func (l *pickLine) edit(s *leg.Session) tea.Cmd {
	l.editing, l.before = true, s.Picked.Text
	l.input.SetValue(s.Picked.Text)
	l.input.CursorEnd()
	l.candidates = nil
	return l.input.Focus()
}

// complete finds completions of the word at the cursor.
func (l *pickLine) complete(s *leg.Session) {
	l.from, l.candidates = s.Picked.Index.Complete(l.input.Value(), l.input.Position())
	l.chosen = -1
}

// choose goes through the candidates.
func (l *pickLine) choose(step int) {
	if n := len(l.candidates); n > 0 {
		l.chosen = max(0, min(l.chosen+step, n-1))
	}
}

// accept writes the chosen candidate, or the first, in the place of the word.
func (l *pickLine) accept() {
	if len(l.candidates) == 0 {
		return
	}
	text, at := []rune(l.input.Value()), l.input.Position()
	word := l.candidates[max(0, l.chosen)].Text
	l.input.SetValue(string(text[:l.from]) + word + string(text[at:]))
	l.input.SetCursor(l.from + len([]rune(word)))
}

// update takes a message while the pick is edited.
func (l *pickLine) update(msg tea.Msg, s *leg.Session) tea.Cmd {
	if press, ok := msg.(tea.KeyPressMsg); ok {
		switch press.String() {
		case "enter":
			l.leaving = true
			return l.evaluate(l.input.Value(), s)
		case "esc":
			l.editing, l.leaving, l.wrong = false, false, nil
			l.input.Blur()
			return l.evaluate(l.before, s)
		case "up":
			l.choose(-1)
			return nil
		case "down":
			l.choose(1)
			return nil
		}
	}
	before := l.input.Value()
	var cmd tea.Cmd
	if press, ok := msg.(tea.KeyPressMsg); ok && press.String() == "tab" {
		l.accept()
	} else {
		l.input, cmd = l.input.Update(msg)
	}
	l.complete(s)
	if l.input.Value() == before {
		return cmd
	}
	return tea.Batch(cmd, l.evaluate(l.input.Value(), s))
}

// set replaces the pick, and undo brings back the one before.
func (l *pickLine) set(text string, s *leg.Session) tea.Cmd {
	l.past = append(l.past, s.Picked.Text)
	return l.evaluate(text, s)
}

func (l *pickLine) undo(s *leg.Session) tea.Cmd {
	if len(l.past) == 0 {
		return nil
	}
	text := l.past[len(l.past)-1]
	l.past = l.past[:len(l.past)-1]
	return l.evaluate(text, s)
}

// again computes the figures of the line's pick again, as after a run.
func (l *pickLine) again(s *leg.Session) tea.Cmd {
	if l.editing {
		return l.evaluate(l.input.Value(), s)
	}
	return l.evaluateFor(s.Picked.Text, s, s.Begun)
}

// evaluate works out the figures of a pick beside the interface's own path.
func (l *pickLine) evaluate(text string, s *leg.Session) tea.Cmd { return l.evaluateFor(text, s, nil) }

func (l *pickLine) evaluateFor(text string, s *leg.Session, begun *leg.Begun) tea.Cmd {
	l.asked++
	l.coming = &text
	number, memory := l.asked, s.App.Tests
	return func() tea.Msg {
		f, err := leg.Evaluate(memory, text, begun)
		return pickedMsg{number, f, err}
	}
}

// text returns the pick that the line shows, at once while its figures are worked out.
func (l *pickLine) text(s *leg.Session) string {
	if l.coming != nil {
		return *l.coming
	}
	return s.Picked.Text
}

// take returns the figures of the latest evaluation; ok is false for those of an earlier one, and if the pick is
// wrong.
func (l *pickLine) take(msg pickedMsg) (f leg.Figures, ok bool) {
	if msg.number != l.asked {
		return f, false
	}
	l.coming = nil
	leaving := l.leaving
	l.wrong, l.leaving = nil, false
	if msg.err != nil {
		errors.As(msg.err, &l.wrong)
		return f, false
	}
	if !leaving {
		return msg.figures, true
	}
	l.editing = false
	l.input.Blur()
	if msg.figures.Text != l.before {
		l.past = append(l.past, l.before)
	}
	return msg.figures, true
}
