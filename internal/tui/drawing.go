package tui

import (
	"errors"
	"fmt"
	"os"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/run"
	"fernrelay/internal/draw"
)

// The keys that several legs have: keyDraw draws what the leg shows, keyPanel goes to another panel.
var (
	keyDraw  = key.NewBinding(key.WithKeys("d"), key.WithHelp("d", "draw"))
	keyPanel = key.NewBinding(key.WithKeys("tab"), key.WithHelp("tab", "panel"))
)

// chart is a drawing that a view can make. make runs beside the interface, so it has to own what it reads.
type chart struct {
	name, hint string
	make       func() (draw.Drawing, error)
}

// drawTo asks which chart to draw, and into which file.
func drawTo(title string, charts ...chart) tea.Msg {
	which := sheetRow{label: "chart"}
	for _, c := range charts {
		which.choices, which.hints = append(which.choices, c.name), append(which.hints, c.hint)
	}
	return openSheetMsg{&sheet{
		title: title,
		rows:  []sheetRow{which, newText("file", "", "a file ending in .svg or .pdf")},
		done: func(sh *sheet) tea.Cmd {
			chosen, file := charts[sh.rows[0].chosen], sh.choice("file")
			return func() tea.Msg {
				drawing, err := chosen.make()
				if err == nil {
					err = draw.WriteFile(file, drawing)
				}
				return drawnMsg{sh, file, err}
			}
		},
	}}
}

// drawTimeline asks for a drawing of a run that has ended.
func drawTimeline(project string, number int, r *run.Run) tea.Msg {
	return drawTo("Draw this run", chart{"timeline", "the workers on one time axis", func() (draw.Drawing, error) {
		return draw.Timeline(fmt.Sprintf("%s, run %d", project, number), r), nil
	}})
}

// drawnMsg says that a file was written from a sheet, or why not.
type drawnMsg struct {
	sheet *sheet
	file  string
	err   error
}

// writeNew writes a text to a file that does not exist yet.
func writeNew(name, text string) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = file.WriteString(text + "\n")
	return errors.Join(err, file.Close())
}
