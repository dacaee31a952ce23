// Package leg is what the legs of the work have in common: the interface that the application knows them by, what all of them see,
// and what they ask of it.
//
//	type View struct {
//		leg.Base
//		session *leg.Session
//	}
//
//	func (v *View) Press(msg tea.KeyPressMsg) tea.Msg { return leg.SetPickMsg("frost") }
//
// A leg changes only when it takes a message, and its drawing is a pure function of it. Legs do not import each other: what one asks
// of another is a message that the application takes.
package leg

import (
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/internal/tui/screen"
)

// A Leg is a part of the work, with its keys and its drawing. Draw, and the methods before See, do not change it.
type Leg interface {
	Name() string
	// Figure returns the one number that matters there, and whether it is bad news.
	Figure() (text string, alarm bool)
	// Room returns the columns that the figure is expected to need in a project with a number of tests.
	Room(tests int) int
	// Keys returns the keys for the foot of the screen, the most useful first, and Guide what each does.
	Keys() []key.Binding
	Guide() []KeyLine
	// Hint returns what leads a newcomer, the zero Hint while there is nothing to use.
	Hint() Hint
	// Busy reports whether the leg runs something that has not ended.
	Busy() bool

	// See takes another session.
	See(s *Session) tea.Cmd
	// Update takes a message. A leg ignores those of others.
	Update(msg tea.Msg) tea.Cmd
	// Press takes a key and returns what the leg asks for, nil for nothing.
	Press(msg tea.KeyPressMsg) tea.Msg
	// Click takes a mouse click, in the leg's own cells.
	Click(x, y int)
	// Visit is called when a person goes to the leg.
	Visit() tea.Cmd
	// Follow takes what happened since the last frame in what the leg runs.
	Follow(now time.Time) tea.Cmd
	// Cancel stops at once what the leg runs.
	Cancel()
	// Fit lays the leg out for a size. It is called after each change.
	Fit(width, height int) tea.Cmd

	Draw(c screen.Canvas)
}

// Base has the methods of a leg that runs nothing, for such legs to embed.
type Base struct{}

// Busy reports false.
func (Base) Busy() bool { return false }

// Visit does nothing.
func (Base) Visit() tea.Cmd { return nil }

// Follow does nothing.
func (Base) Follow(time.Time) tea.Cmd { return nil }

// Cancel does nothing.
func (Base) Cancel() {}

// KeyLine says what a key does, in a phrase.
type KeyLine struct{ Key, Does string }

// A Hint is the line that leads a newcomer of a leg. It goes for good when one of its keys is first pressed there.
type Hint struct {
	Words string
	Keys  []string
}
