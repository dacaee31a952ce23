package hunt

import (
	"fmt"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/internal/hunting"
	"fernrelay/internal/progress"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// Repair is what is known of a patch for a victim.
type Repair struct {
	Looking bool // changes are being tried
	Patch   *hunting.Patch
	Err     error // why there is none
}

type (
	// MendMsg asks for a patch of what makes a victim fail.
	MendMsg struct{ Finding hunt.Finding }
	// MendedMsg brings it, or why there is none.
	MendedMsg struct {
		Victim string
		Patch  *hunting.Patch
		Err    error
	}
)

// pressPatch shows the patch of a hunt, or looks for one.
func (v *View) pressPatch(h *progress.Hunt) tea.Msg {
	f := h.Progress.Finding
	if len(f.Culprits) == 0 {
		return leg.SayMsg("no culprit of " + plain.Line(h.Victim.Name) + " is known yet: there is nothing to repair")
	}
	if v.Repairs[f.ID] == nil {
		return MendMsg{f}
	}
	v.Patching = !v.Patching
	return nil
}

// patchOf returns the patch that is shown, nil if none is.
func (v *View) patchOf(h *progress.Hunt) *hunting.Patch {
	if known := v.Repairs[h.Victim.ID]; v.Patching && known != nil {
		return known.Patch
	}
	return nil
}

// writePatch asks for a file to write a patch to.
func writePatch(p *hunting.Patch) tea.Msg {
	return leg.OpenSheetMsg{Sheet: &screen.Sheet{
		Title: "Write the patch to a file, for git apply",
		Rows:  []screen.SheetRow{screen.NewText("file", "repair.diff", "its name")},
		Done: func(sh *screen.Sheet) tea.Cmd {
			file := strings.TrimSpace(sh.Choice("file"))
			return func() tea.Msg {
				return leg.DrawnMsg{Sheet: sh, File: file, Err: leg.WriteNew(file, strings.TrimSuffix(p.Diff, "\n"))}
			}
		},
	}}
}

// applyPatch asks whether to apply a patch.
func applyPatch(p *hunting.Patch) tea.Msg {
	return leg.OpenSheetMsg{Sheet: &screen.Sheet{
		Title: "Change " + filepath.Base(p.File) + " in the project?",
		Rows:  []screen.SheetRow{{Label: "do it", Choices: []string{"no", "yes"}, Hints: []string{"", "then v tries the culprits once more"}}},
		Done: func(sh *screen.Sheet) tea.Cmd {
			if sh.Choice("do it") == "no" {
				return func() tea.Msg { return leg.CloseSheetMsg{Sheet: sh} }
			}
			return func() tea.Msg { return leg.DrawnMsg{Sheet: sh, File: p.File, Err: p.Apply()} }
		},
	}}
}

// drawPatch draws a patch and what was tried with it, or why there is none.
func (v View) drawPatch(c screen.Canvas, known *Repair) {
	t, y := c.Theme, 0
	lines := func(look screen.Style, text string) {
		for _, line := range screen.Wrap(plain.Text(text), c.Width) {
			c.Text(0, y, look, line)
			y++
		}
	}
	switch {
	case known.Looking:
		lines(screen.Style{Colour: t.Water, Bold: true}, "trying changes of the culprits")
		lines(screen.Style{Colour: t.Fog}, "Each is built beside the project, and runs alone, in the order that failed, in its reverse, and in the declared order of its group.")
		return
	case known.Err != nil:
		lines(screen.Style{Colour: t.Amber, Bold: true}, "no patch")
		lines(screen.Style{Colour: t.Ink}, known.Err.Error())
		return
	}
	lines(screen.Style{Colour: t.Leaf, Bold: true}, "a repair that was tried")
	y++
	for line := range strings.Lines(known.Patch.Diff) {
		look := screen.Style{Colour: t.Ink}
		switch {
		case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"), strings.HasPrefix(line, "@@"):
			look.Colour = t.Fog
		case strings.HasPrefix(line, "+"):
			look = screen.Style{Colour: t.Leaf, Bold: true}
		case strings.HasPrefix(line, "-"):
			look = screen.Style{Colour: t.Rust, Bold: true}
		}
		c.Text(0, y, look, screen.Cut(strings.TrimRight(strings.ReplaceAll(plain.Text(line), "\t", "    "), "\n"), c.Width))
		y++
	}
	y++
	for _, trial := range known.Patch.Trials {
		lines(screen.Style{Colour: t.Fog}, "▪ "+trial)
	}
	y++
	x := c.Text(0, y, screen.Style{Colour: t.Leaf}, "w")
	x = c.Text(x+1, y, screen.Style{Colour: t.Fog}, "writes it to a file") + 3
	x = c.Text(x, y, screen.Style{Colour: t.Leaf}, "A")
	c.Text(x+1, y, screen.Style{Colour: t.Fog}, fmt.Sprintf("applies it to %s", plain.Line(filepath.Base(known.Patch.File))))
}
