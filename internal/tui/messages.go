package tui

import (
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
)

// What views ask of the application. It handles each in one place, in App.take.
type (
	startRunMsg struct {
		tests  []catalog.Test
		needs  bool      // run what they need as well
		picked bool      // they are the tests of the pick
		plan   *planning // how to run them; nil for one queue
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
