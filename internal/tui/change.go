package tui

import (
	"fmt"
	"os"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/tui/leg"
)

// takeProject takes a message about the project's files.
func (a *App) takeProject(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case revisionMsg:
		a.revision = string(msg)
	case filesMsg:
		a.files = append(a.files, msg...)
		if a.watch.OnChange && a.watch.Busy() {
			return a.touching(msg)
		}
		return a.readAgain()
	case touchedMsg:
		if msg.run == a.watch.Run && a.watch.Busy() {
			a.message = "files changed: what they touch is run again"
			msg.run.Cancel(app.ErrSuperseded)
		}
	case watchedMsg:
		a.complain(fmt.Errorf("changed files are not noticed: %w", msg.err))
	case leg.ChangeMsg:
		return a.change(leg.Change(msg))
	case changedMsg:
		return a.changed(msg)
	}
	return nil
}

// change changes the project, once earlier changes are done.
func (a *App) change(c leg.Change) tea.Cmd {
	a.changes = append(a.changes, c)
	return a.nextChange()
}

func (a *App) nextChange() tea.Cmd {
	if a.changing || len(a.changes) == 0 {
		return nil
	}
	next, r := a.changes[0], a.session.App
	a.changes, a.changing = a.changes[1:], true
	return func() tea.Msg {
		other, err := next.Apply(r)
		return changedMsg{other, next, err}
	}
}

// changed takes the result of a change.
func (a *App) changed(msg changedMsg) tea.Cmd {
	a.changing = false
	if msg.err != nil {
		return a.notChanged(msg)
	}
	if msg.app.Project != a.session.App.Project {
		a.broken = "" // the project was read, and well
	}
	if notes := msg.app.Notes; !slices.Equal(notes, a.session.App.Notes) {
		a.message = noteWords(notes)
	}
	shared := a.share(func(s *leg.Session) { s.App = msg.app })
	if a.sheet == msg.asked.Sheet {
		a.sheet = nil
	}
	if msg.asked.Said != "" {
		a.message = msg.asked.Said
	}
	return tea.Batch(shared, a.line.again(a.session), a.nextChange(), a.readyChanged(msg.asked))
}

// notChanged keeps the files for the next reading, and shows why this one failed.
func (a *App) notChanged(msg changedMsg) tea.Cmd {
	a.files = append(a.files, msg.asked.Files...) // to be looked at with those that mend it
	words := strings.ReplaceAll(msg.err.Error(), a.session.App.Project.Dir+string(os.PathSeparator), "")
	if msg.asked.Sheet != nil {
		msg.asked.Sheet.Wrong = words
	} else {
		a.broken = words
	}
	return a.nextChange()
}

// noteWords returns the first of the notes about the project.
func noteWords(notes []string) string {
	switch len(notes) {
	case 0:
		return ""
	case 1:
		return notes[0]
	}
	return fmt.Sprintf("%s; %d more: fern-relay list prints them", notes[0], len(notes)-1)
}

// readAgain re-reads the project if files changed, but not during a run, whose tests may write files themselves.
func (a *App) readAgain() tea.Cmd {
	if len(a.files) == 0 || a.working() {
		return nil
	}
	files := a.files
	a.files = nil
	again := func(r *app.App) (*app.App, error) { return r.Reload(a.ctx, files) }
	return a.change(leg.Change{Apply: again, Files: files, Runs: a.watch.OnChange})
}

// touching finds out whether a change touches what runs.
func (a *App) touching(files []string) tea.Cmd {
	r, run, pick := a.session.App, a.watch.Run, a.session.Picked.Text
	if run.Cancel == nil {
		return nil
	}
	return func() tea.Msg {
		if !r.Touches(a.ctx, pick, files) {
			return nil
		}
		return touchedMsg{run}
	}
}

// readyChanged prepares, once the project was re-read, a run of what changed files touch and of what a superseded
// run has left.
func (a *App) readyChanged(asked leg.Change) tea.Cmd {
	if !asked.Runs || !a.watch.OnChange || len(asked.Files) == 0 || a.working() {
		return nil
	}
	r, pick, workers := a.session.App, a.session.Picked.Text, a.split.Workers()
	var left *run.Run
	if run := a.watch.Run; run != nil {
		left = run.Run
	}
	a.preparing = true
	return func() tea.Msg {
		return newRunReady(r)(r.ChangeRequest(a.ctx, pick, asked.Files, left, workers))
	}
}
