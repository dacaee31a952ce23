package leg

import (
	"errors"
	"fmt"
	"os"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/run"
	"fernrelay/internal/draw"
	"fernrelay/internal/tui/screen"
)

// The keys that several legs have: keyDraw draws what the leg shows, keyPanel goes to another panel.
var (
	KeyDraw  = key.NewBinding(key.WithKeys("d"), key.WithHelp("d", "draw"))
	KeyPanel = key.NewBinding(key.WithKeys("tab"), key.WithHelp("tab", "panel"))
)

// Chart is a drawing that a view can make. make runs beside the interface, so it has to own what it reads.
type Chart struct {
	Name, Hint string
	Make       func() (draw.Drawing, error)
}

// DrawTo asks which chart to draw, and into which file.
func DrawTo(title string, charts ...Chart) tea.Msg {
	which := screen.SheetRow{Label: "chart"}
	for _, c := range charts {
		which.Choices, which.Hints = append(which.Choices, c.Name), append(which.Hints, c.Hint)
	}
	return OpenSheetMsg{&screen.Sheet{
		Title: title,
		Rows:  []screen.SheetRow{which, screen.NewText("file", "", "a file ending in .svg or .pdf")},
		Done: func(sh *screen.Sheet) tea.Cmd {
			chosen, file := charts[sh.Rows[0].Chosen], sh.Choice("file")
			return func() tea.Msg {
				drawing, err := chosen.Make()
				if err == nil {
					err = draw.WriteFile(file, drawing)
				}
				return DrawnMsg{sh, file, err}
			}
		},
	}}
}

// DrawTimeline asks for a drawing of a run that has ended.
func DrawTimeline(project string, number int, r *run.Run) tea.Msg {
	return DrawTo("Draw this run", Chart{"timeline", "the workers on one time axis", func() (draw.Drawing, error) {
		return draw.Timeline(fmt.Sprintf("%s, run %d", project, number), r), nil
	}})
}

// DrawnMsg says that a file was written from a sheet, or why not.
type DrawnMsg struct {
	Sheet *screen.Sheet
	File  string
	Err   error
}

// WriteNew writes a text to a file that does not exist yet.
func WriteNew(name, text string) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = file.WriteString(text + "\n")
	return errors.Join(err, file.Close())
}
