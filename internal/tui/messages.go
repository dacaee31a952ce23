package tui

import (
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/split"
	"fernrelay/internal/app"
)

// What views ask of the application. It handles each in one place, in App.take.
type (
	startRunMsg struct {
		tests  []catalog.Test
		needs  bool     // run what they need as well
		picked bool     // they are the tests of the pick
		plan   *runPlan // how to run them; nil for one queue
	}
	startHuntMsg struct {
		victims []catalog.Test
		verify  bool // only try what is known about them once more
	}
	huntTestMsg    string // shows the hunt of the test with an ID, or starts it
	startSearchMsg struct{}
	cancelMsg      struct{} // stops everything that runs
	setPickMsg     string
	undoPickMsg    struct{}
	editFileMsg    place // opens a place in the user's editor
	editTestMsg    string
	copyMsg        string // puts a text on the clipboard
	openSheetMsg   struct{ sheet *sheet }
	sayMsg         string  // shows a message on the last row
	background     tea.Cmd // is work to do beside the interface
)

// place is a line of a file, relative to the project.
type place struct {
	file string
	line int
}

// runPlan is a plan by which tests run.
type runPlan struct {
	plan  split.Plan
	fleet split.Fleet
}

// closeSheetMsg closes a sheet with which nothing is to be done.
type closeSheetMsg struct{ sheet *sheet }

// change makes another state of the project out of the present one.
type change struct {
	apply func(r *app.App) (*app.App, error)
	files []string // that changed, if that is the reason
	runs  bool     // run what they touch
	sheet *sheet   // that asks for it, if one does
	said  string   // once it is done
}

// changeMsg asks the application for a change.
type changeMsg change

// renew asks for a change. The change closes the sheet and says something, or writes on the sheet what went wrong.
func renew(sh *sheet, said string, apply func(r *app.App) (*app.App, error)) tea.Cmd {
	return func() tea.Msg { return changeMsg{apply: apply, sheet: sh, said: said} }
}
