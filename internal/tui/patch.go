package tui

import (
	"fmt"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/internal/hunting"
)

// repair is what is known of a patch for a victim.
type repair struct {
	looking bool // changes are being tried
	patch   *hunting.Patch
	err     error // why there is none
}

type (
	// mendMsg asks for a patch of what makes a victim fail.
	mendMsg struct{ finding hunt.Finding }
	// mendedMsg brings it, or why there is none.
	mendedMsg struct {
		victim string
		patch  *hunting.Patch
		err    error
	}
)

// pressPatch shows the patch of a hunt, or looks for one.
func (v *huntView) pressPatch(h *liveHunt) tea.Msg {
	f := h.progress.Finding
	if len(f.Culprits) == 0 {
		return sayMsg("no culprit of " + plain.Line(h.victim.Name) + " is known yet: there is nothing to repair")
	}
	if v.repairs[f.ID] == nil {
		return mendMsg{f}
	}
	v.patching = !v.patching
	return nil
}

// patchOf returns the patch that is shown, nil if none is.
func (v *huntView) patchOf(h *liveHunt) *hunting.Patch {
	if known := v.repairs[h.victim.ID]; v.patching && known != nil {
		return known.patch
	}
	return nil
}

// writePatch asks for a file to write a patch to.
func writePatch(p *hunting.Patch) tea.Msg {
	return openSheetMsg{&sheet{
		title: "Write the patch to a file, for git apply",
		rows:  []sheetRow{newText("file", "repair.diff", "its name")},
		done: func(sh *sheet) tea.Cmd {
			file := strings.TrimSpace(sh.choice("file"))
			return func() tea.Msg { return drawnMsg{sh, file, writeNew(file, strings.TrimSuffix(p.Diff, "\n"))} }
		},
	}}
}

// applyPatch asks whether to apply a patch.
func applyPatch(p *hunting.Patch) tea.Msg {
	return openSheetMsg{&sheet{
		title: "Change " + filepath.Base(p.File) + " in the project?",
		rows:  []sheetRow{{label: "do it", choices: []string{"no", "yes"}, hints: []string{"", "then v tries the culprits once more"}}},
		done: func(sh *sheet) tea.Cmd {
			if sh.choice("do it") == "no" {
				return func() tea.Msg { return closeSheetMsg{sh} }
			}
			return func() tea.Msg { return drawnMsg{sh, p.File, p.Apply()} }
		},
	}}
}

// drawPatch draws a patch and what was tried with it, or why there is none.
func (v huntView) drawPatch(c canvas, known *repair) {
	t, y := c.theme, 0
	lines := func(look style, text string) {
		for _, line := range wrap(plain.Text(text), c.width) {
			c.text(0, y, look, line)
			y++
		}
	}
	switch {
	case known.looking:
		lines(style{t.water, true}, "trying changes of the culprits")
		lines(style{colour: t.fog}, "Each is built beside the project, and runs alone, in the order that failed, in its reverse, and in the declared order of its group.")
		return
	case known.err != nil:
		lines(style{t.amber, true}, "no patch")
		lines(style{colour: t.ink}, known.err.Error())
		return
	}
	lines(style{t.leaf, true}, "a repair that was tried")
	y++
	for line := range strings.Lines(known.patch.Diff) {
		look := style{colour: t.ink}
		switch {
		case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"), strings.HasPrefix(line, "@@"):
			look.colour = t.fog
		case strings.HasPrefix(line, "+"):
			look = style{t.leaf, true}
		case strings.HasPrefix(line, "-"):
			look = style{t.rust, true}
		}
		c.text(0, y, look, cut(strings.TrimRight(strings.ReplaceAll(plain.Text(line), "\t", "    "), "\n"), c.width))
		y++
	}
	y++
	for _, trial := range known.patch.Trials {
		lines(style{colour: t.fog}, "▪ "+trial)
	}
	y++
	x := c.text(0, y, style{colour: t.leaf}, "w")
	x = c.text(x+1, y, style{colour: t.fog}, "writes it to a file") + 3
	x = c.text(x, y, style{colour: t.leaf}, "A")
	c.text(x+1, y, style{colour: t.fog}, fmt.Sprintf("applies it to %s", plain.Line(filepath.Base(known.patch.File))))
}
