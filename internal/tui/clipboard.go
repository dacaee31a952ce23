package tui

import (
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/plain"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// clipboardPatience is how long a terminal may take to say what is on its clipboard.
const clipboardPatience = time.Second

// uncopiedMsg says that the time is up in which the terminal could have confirmed that it copied a text.
type uncopiedMsg string

// copy asks the terminal to put a text on the clipboard, and whether it did.
func (a *App) copy(text string) tea.Cmd {
	a.copying, a.message = text, "copying to the terminal's clipboard: "+plain.Line(text)
	return tea.Batch(tea.Sequence(tea.SetClipboard(text), tea.ReadClipboard),
		tea.Tick(clipboardPatience, func(time.Time) tea.Msg { return uncopiedMsg(text) }))
}

// confirm takes what the terminal has on its clipboard.
func (a *App) confirm(content string) {
	if a.copying != "" && content == a.copying {
		a.copying, a.message = "", "copied to the terminal's clipboard: "+plain.Line(content)
	}
}

// uncopied offers a file for a text that the terminal has not confirmed.
func (a *App) uncopied(text string) tea.Cmd {
	if a.copying != text || a.sheet != nil {
		return nil
	}
	a.copying = ""
	a.sheet = &screen.Sheet{
		Title: "The terminal does not say whether it copied that. Write it to a file as well?",
		Rows:  []screen.SheetRow{screen.NewText("file", "fern-relay.txt", "its name")},
		Done: func(sh *screen.Sheet) tea.Cmd {
			file := filepath.Join(a.session.App.Project.Dir, strings.TrimSpace(sh.Choice("file")))
			return func() tea.Msg { return leg.DrawnMsg{Sheet: sh, File: file, Err: leg.WriteNew(file, text)} }
		},
	}
	return a.sheet.Open()
}
