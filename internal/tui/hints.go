package tui

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/internal/wholefile"
)

// A hint is the line that leads a newcomer of a leg. It goes for good when one of its keys is first pressed there.
type hint struct {
	words string
	keys  []string
}

// hintOf returns the hint of the leg that is shown.
func (a *App) hintOf() hint {
	switch {
	case a.leg == legSurvey:
		return hint{"first: arrows move over groups and tags, + narrows the pick to a cell, r runs it", []string{"+", "-", "=", "r"}}
	case a.leg == legSplit:
		return hint{"first: [ and ] change the number of shards, enter runs the plan", []string{"[", "]", "enter"}}
	case a.leg == legWatch && len(a.watch.list) > 0:
		return hint{"first: arrows choose a result, h hunts what made it fail, e opens its line in your editor", []string{"h", "e", "r", "R"}}
	case a.leg == legHunt && len(a.hunt.hunts) > 0:
		return hint{"first: each row is a trial of half the suspects; p looks for a patch, c copies a command", []string{"c", "enter", "m", "p"}}
	case a.leg == legLedger && len(a.ledger.all) > 0:
		return hint{"first: left and right choose a run, enter opens its report", []string{"left", "right", "enter"}}
	case a.leg == legMatrix && len(a.matrix.rows) > 0:
		return hint{"first: r runs every crossing, enter only the one under the cursor", []string{"r", "enter"}}
	}
	return hint{}
}

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
	name := a.legs[a.leg].name()
	if !a.hints || slices.Contains(a.used, name) || !slices.Contains(a.hintOf().keys, pressed) {
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
func (a *App) drawHint(c canvas) {
	if !a.hints || a.help || a.sheet != nil || slices.Contains(a.used, a.legs[a.leg].name()) {
		return
	}
	words := a.hintOf().words
	for x := range min(c.width, width(words)+4) {
		if !c.isBlank(x, 0) {
			return
		}
	}
	c.text(2, 0, style{colour: c.theme.fog}, cut(words, c.width-4))
}
