package screen

import (
	"image/color"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"fernrelay/core/run"
)

// Theme is the set of colours for one background.
type Theme struct {
	Background color.Color
	Ink        color.Color // for text
	Leaf       color.Color // chosen, active, well
	Rust       color.Color // failed
	Amber      color.Color // slow, owed, warnings
	Orchid     color.Color // culprit and victim
	Water      color.Color // running
	Fog        color.Color // the rest
	Shades     bool        // amounts are drawn as ░▒▓█, because there are too few colours to mix
	colourless bool
}

// NewTheme makes the theme for a terminal's background and number of colours.
func NewTheme(background color.Color, dark bool, profile colorprofile.Profile) *Theme {
	pick := lipgloss.LightDark(dark)
	choose := func(onLight, onDark string) color.Color { return pick(lipgloss.Color(onLight), lipgloss.Color(onDark)) }
	t := &Theme{
		Background: background,
		Ink:        choose("#1B2220", "#D0D8D0"),
		Leaf:       choose("#3F6B3A", "#8DB580"),
		Rust:       choose("#A63D22", "#D9694A"),
		Amber:      choose("#8A5A00", "#E0B05C"),
		Orchid:     choose("#7A3E92", "#B98BC9"),
		Water:      choose("#22628A", "#74A9C9"),
		Fog:        choose("#6B7672", "#7D8A86"),
		Shades:     profile < colorprofile.ANSI256,
		colourless: profile < colorprofile.ANSI,
	}
	if background == nil {
		t.Background = choose("#FFFFFF", "#101418")
	}
	return t
}

// Mix goes from the background toward a colour by an amount from 0 to 1.
func (t *Theme) Mix(c color.Color, amount float64) color.Color {
	br, bg, bb, _ := t.Background.RGBA()
	r, g, b, _ := c.RGBA()
	part := func(from, to uint32) uint8 { return uint8((float64(from) + amount*(float64(to)-float64(from))) / 257) }
	return color.NRGBA{part(br, r), part(bg, g), part(bb, b), 0xFF}
}

// Faint is fog for what is there only to be found when looked for.
func (t *Theme) Faint() color.Color { return t.Mix(t.Fog, 0.55) }

// Outcome returns the colour of an outcome.
func (t *Theme) Outcome(o run.Outcome) color.Color {
	switch o {
	case run.Passed:
		return t.Leaf
	case run.Failed, run.Errored, run.TimedOut:
		return t.Rust
	case run.Owed, run.Surprise, run.Lost:
		return t.Amber
	}
	return t.Fog
}
