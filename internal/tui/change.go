package tui

import (
	"fmt"
	"os"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/run"
	"fernrelay/internal/app"
)

// takeProject takes a message about the project's files.
func (a *App) takeProject(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case revisionMsg:
		a.revision = string(msg)
	case filesMsg:
		a.files = append(a.files, msg...)
		if a.watch.onChange && a.running() {
			return a.touching(msg)
		}
		return a.readAgain()
	case touchedMsg:
		if msg.run == a.watch.run && a.running() {
			a.message = "files changed: what they touch is run again"
			msg.run.cancel(app.ErrSuperseded)
		}
	case watchedMsg:
		a.complain(fmt.Errorf("changed files are not noticed: %w", msg.err))
	case changeMsg:
		return a.change(change(msg))
	case changedMsg:
		return a.changed(msg)
	}
	return nil
}

// change changes the project, once earlier changes are done.
func (a *App) change(c change) tea.Cmd {
	a.changes = append(a.changes, c)
	return a.nextChange()
}

func (a *App) nextChange() tea.Cmd {
	if a.changing || len(a.changes) == 0 {
		return nil
	}
	next, r := a.changes[0], a.session.app
	a.changes, a.changing = a.changes[1:], true
	return func() tea.Msg {
		other, err := next.apply(r)
		return changedMsg{other, next, err}
	}
}

// changed takes the result of a change.
func (a *App) changed(msg changedMsg) tea.Cmd {
	a.changing = false
	if msg.err == nil {
		if msg.app.Project != a.session.app.Project {
			a.broken = "" // the project was read, and well
		}
		if notes := msg.app.Notes; !slices.Equal(notes, a.session.app.Notes) {
			a.message = noteWords(notes)
		}
		shared := a.share(func(s *session) { s.app = msg.app })
		if a.sheet == msg.asked.sheet {
			a.sheet = nil
		}
		if msg.asked.said != "" {
			a.message = msg.asked.said
		}
		return tea.Batch(shared, a.line.again(a.session), a.nextChange(), a.readyChanged(msg.asked))
	}
	a.files = append(a.files, msg.asked.files...) // to be looked at with those that mend it
	words := strings.ReplaceAll(msg.err.Error(), a.session.app.Project.Dir+string(os.PathSeparator), "")
	if msg.asked.sheet != nil {
		msg.asked.sheet.wrong = words
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
	return a.change(change{apply: again, files: files, runs: a.watch.onChange})
}

// touching finds out whether a change touches what runs.
func (a *App) touching(files []string) tea.Cmd {
	r, run, pick := a.session.app, a.watch.run, a.session.picked.text
	if run.cancel == nil {
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
func (a *App) readyChanged(asked change) tea.Cmd {
	if !asked.runs || !a.watch.onChange || len(asked.files) == 0 || a.working() {
		return nil
	}
	r, pick, workers := a.session.app, a.session.picked.text, a.split.workers()
	var left *run.Run
	if run := a.watch.run; run != nil {
		left = run.run
	}
	a.preparing = true
	return func() tea.Msg {
		return newRunReady(r)(r.ChangeRequest(a.ctx, pick, asked.files, left, workers))
	}
}
