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

// DrawTo asks which chart of some kinds to draw, and into which file. The chart is drawn beside the interface, so nothing changes
// the data from then on.
//
// The sheet has a row for the chart and one for the file, whose ending decides between SVG and PDF.
func DrawTo(title string, data draw.Data, kinds ...draw.Kind) tea.Msg {
	charts := draw.ChartsOf(kinds...)
	which := screen.SheetRow{Label: "chart"}
	for _, c := range charts {
		which.Choices, which.Hints = append(which.Choices, c.Name), append(which.Hints, c.Shows)
	}
	return OpenSheetMsg{&screen.Sheet{
		Title: title,
		Rows:  []screen.SheetRow{which, screen.NewText("file", "", "a file ending in .svg or .pdf")},
		Done: func(sh *screen.Sheet) tea.Cmd {
			chosen, file := charts[sh.Rows[0].Chosen], sh.Choice("file")
			return func() tea.Msg {
				drawing, err := chosen.Draw(data)
				if err == nil {
					err = draw.WriteFile(file, drawing)
				}
				return DrawnMsg{sh, file, err}
			}
		},
	}}
}

// DrawRun asks for a chart of a run that has ended.
func DrawRun(project string, number int, r *run.Run) tea.Msg {
	return DrawTo("Draw this run", draw.Data{Title: fmt.Sprintf("%s, run %d", project, number), Run: r}, draw.OfRun)
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
