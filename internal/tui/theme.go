package tui

import (
	"image/color"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"fernrelay/core/run"
)

// theme is the set of colours for one background.
type theme struct {
	background color.Color
	ink        color.Color // for text
	leaf       color.Color // chosen, active, well
	rust       color.Color // failed
	amber      color.Color // slow, owed, warnings
	orchid     color.Color // culprit and victim
	water      color.Color // running
	fog        color.Color // the rest
	shades     bool        // amounts are drawn as ░▒▓█, because there are too few colours to mix
	colourless bool
}

// newTheme makes the theme for a terminal's background and number of colours.
func newTheme(background color.Color, dark bool, profile colorprofile.Profile) *theme {
	pick := lipgloss.LightDark(dark)
	choose := func(onLight, onDark string) color.Color { return pick(lipgloss.Color(onLight), lipgloss.Color(onDark)) }
	t := &theme{
		background: background,
		ink:        choose("#1B2220", "#D0D8D0"),
		leaf:       choose("#3F6B3A", "#8DB580"),
		rust:       choose("#A63D22", "#D9694A"),
		amber:      choose("#8A5A00", "#E0B05C"),
		orchid:     choose("#7A3E92", "#B98BC9"),
		water:      choose("#22628A", "#74A9C9"),
		fog:        choose("#6B7672", "#7D8A86"),
		shades:     profile < colorprofile.ANSI256,
		colourless: profile < colorprofile.ANSI,
	}
	if background == nil {
		t.background = choose("#FFFFFF", "#101418")
	}
	return t
}

// mix goes from the background toward a colour by an amount from 0 to 1.
func (t *theme) mix(c color.Color, amount float64) color.Color {
	br, bg, bb, _ := t.background.RGBA()
	r, g, b, _ := c.RGBA()
	part := func(from, to uint32) uint8 { return uint8((float64(from) + amount*(float64(to)-float64(from))) / 257) }
	return color.NRGBA{part(br, r), part(bg, g), part(bb, b), 0xFF}
}

// faint is fog for what is there only to be found when looked for.
func (t *theme) faint() color.Color { return t.mix(t.fog, 0.55) }

func (t *theme) outcome(o run.Outcome) color.Color {
	switch o {
	case run.Passed:
		return t.leaf
	case run.Failed, run.Errored, run.TimedOut:
		return t.rust
	case run.Owed, run.Surprise, run.Lost:
		return t.amber
	}
	return t.fog
}
