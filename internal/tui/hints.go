package tui

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wholefile"
)

// hintsMsg brings the names of the legs that were used before.
type hintsMsg struct{ used []string }

// usedFile lists the legs that the person has used, a line each. It is in the cache: without it the hints are
// shown once more.
func usedFile() (string, error) {
	cache, err := os.UserCacheDir()
	return filepath.Join(cache, "fern-relay", "used-legs"), err
}

// recallHints reads which legs were used before. Hints are shown once that is known.
func recallHints() tea.Msg {
	file, err := usedFile()
	if err != nil {
		return nil
	}
	data, err := os.ReadFile(file)
	if err != nil && !os.IsNotExist(err) {
		return nil
	}
	return hintsMsg{strings.Fields(string(data))}
}

// useLeg ends the hint of the leg that is shown if a key is one of its keys.
func (a *App) useLeg(pressed string) tea.Cmd {
	name := a.legs[a.leg].Name()
	if !a.hints || slices.Contains(a.used, name) || !slices.Contains(a.legs[a.leg].Hint().Keys, pressed) {
		return nil
	}
	a.used = append(a.used, name)
	text := strings.Join(a.used, "\n") + "\n"
	return func() tea.Msg {
		file, err := usedFile()
		if err == nil && os.MkdirAll(filepath.Dir(file), 0o755) == nil {
			_ = wholefile.Replace(file, 0o644, wholefile.Bytes([]byte(text))) // the hint would be shown once more
		}
		return nil
	}
}

// drawHint shows the hint of the leg in the air above it.
func (a *App) drawHint(c screen.Canvas) {
	if !a.hints || a.help || a.sheet != nil || slices.Contains(a.used, a.legs[a.leg].Name()) {
		return
	}
	words := a.legs[a.leg].Hint().Words
	for x := range min(c.Width, screen.Width(words)+4) {
		if !c.IsBlank(x, 0) {
			return
		}
	}
	c.Text(2, 0, screen.Style{Colour: c.Theme.Fog}, screen.Cut(words, c.Width-4))
}
