package tui

import (
	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

// view is one leg of the work. Only update, press, click, see and fit change it.
type view interface {
	// name is the leg's name, figure the one number that matters there.
	name() string
	figure() (text string, alarm bool)
	keys() []key.Binding

	// see takes another session.
	see(s *session) tea.Cmd
	// update takes a message. A view ignores those of others.
	update(msg tea.Msg) tea.Cmd
	// press takes a key and returns what the view asks for, nil for nothing.
	press(msg tea.KeyPressMsg) tea.Msg
	// click takes a mouse click, in the view's own cells.
	click(x, y int)
	// fit lays the view out for a size. It is called after each change.
	fit(width, height int) tea.Cmd

	draw(c canvas)
}

// keyLine says what a key does, in a phrase.
type keyLine struct{ key, does string }
