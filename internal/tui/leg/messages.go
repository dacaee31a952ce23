package leg

import (
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/split"
	"fernrelay/internal/app"
	"fernrelay/internal/tui/screen"
)

// What views ask of the application. It handles each in one place, in App.take.
type (
	StartRunMsg struct {
		Tests  []catalog.Test
		Needs  bool     // run what they need as well
		Picked bool     // they are the tests of the pick
		Plan   *RunPlan // how to run them; nil for one queue
	}
	StartHuntMsg struct {
		Victims []catalog.Test
		Verify  bool // only try what is known about them once more
	}
	HuntTestMsg    string // shows the hunt of the test with an ID, or starts it
	StartSearchMsg struct{}
	CancelMsg      struct{} // stops everything that runs
	GoToMsg        string   // shows the leg with a name
	SetPickMsg     string
	UndoPickMsg    struct{}
	EditFileMsg    Place // opens a place in the user's editor
	EditTestMsg    string
	CopyMsg        string // puts a text on the clipboard
	OpenSheetMsg   struct{ Sheet *screen.Sheet }
	SayMsg         string  // shows a message on the last row
	Background     tea.Cmd // is work to do beside the interface
)

// Place is a line of a file, relative to the project.
type Place struct {
	File string
	Line int
}

// RunPlan is a plan by which tests run.
type RunPlan struct {
	Plan  split.Plan
	Fleet split.Fleet
}

// CloseSheetMsg closes a sheet that was left.
type CloseSheetMsg struct{ Sheet *screen.Sheet }

// Change makes another state of the project out of the present one.
type Change struct {
	Apply func(r *app.App) (*app.App, error)
	Files []string      // that changed, if that is the reason
	Runs  bool          // run what they touch
	Sheet *screen.Sheet // that asks for it, if one does
	Said  string        // once it is done
}

// ChangeMsg asks the application for a change.
type ChangeMsg Change

// Renew asks for a change. The change closes the sheet and says something, or writes on the sheet what went wrong.
func Renew(sh *screen.Sheet, said string, apply func(r *app.App) (*app.App, error)) tea.Cmd {
	return func() tea.Msg { return ChangeMsg{Apply: apply, Sheet: sh, Said: said} }
}
