package tui

import (
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/internal/process"
	"fernrelay/internal/tui/leg"
)

// editorReadyMsg brings the command that edits a place.
type editorReadyMsg struct{ cmd *exec.Cmd }

// editor opens a place in the user's editor.
func (a *App) editor(at leg.Place) tea.Cmd {
	if at.File == "" {
		return nil
	}
	p := a.session.App.Project
	return func() tea.Msg {
		words, err := process.Words(cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR")))
		if err != nil {
			return leg.SayMsg(fmt.Sprintf("%s:%d: set EDITOR to the command of your editor to open it from here", at.File, at.Line))
		}
		file, err := p.SourcePath(at.File)
		if err != nil {
			return leg.SayMsg(err.Error())
		}
		words = atPlace(words, file, at.Line)
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Dir = p.Dir
		return editorReadyMsg{cmd}
	}
}

// editorArgs are the arguments with which editors open a line of a file, if they do not take +LINE FILE.
var editorArgs = map[string][]string{
	"code": {"--goto", "{file}:{line}"}, "codium": {"--goto", "{file}:{line}"}, "cursor": {"--goto", "{file}:{line}"},
	"hx": {"{file}:{line}"}, "helix": {"{file}:{line}"}, "subl": {"{file}:{line}"}, "zed": {"{file}:{line}"},
	"idea": {"--line", "{line}", "{file}"}, "goland": {"--line", "{line}", "{file}"},
}

// atPlace returns the words of an editor's command that opens a line of a file. Words of the user may say {file} and
// {line} themselves.
func atPlace(words []string, file string, line int) []string {
	if !strings.Contains(strings.Join(words, " "), "{file}") {
		args, known := editorArgs[filepath.Base(words[0])]
		if !known {
			args = []string{"+{line}", "{file}"}
		}
		words = append(words, args...)
	}
	fill := strings.NewReplacer("{file}", file, "{line}", strconv.Itoa(line))
	filled := make([]string, len(words))
	for i, word := range words {
		filled[i] = fill.Replace(word)
	}
	return filled
}
