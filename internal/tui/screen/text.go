package screen

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
)

// Wrap breaks a text into lines of at most a number of cells.
func Wrap(text string, cells int) []string {
	return strings.Split(ansi.Wrap(strings.TrimSpace(text), cells, ""), "\n")
}

// Width returns how many cells a text takes.
func Width(text string) int { return ansi.StringWidth(text) }

// Cut shortens a text to a number of cells, with … in place of the rest.
func Cut(text string, cells int) string {
	if cells <= 0 {
		return ""
	}
	return ansi.Truncate(text, cells, "…")
}

// CutMiddle shortens a name to a number of cells and keeps its beginning and, longer, its end.
func CutMiddle(name string, cells int) string {
	if Width(name) <= cells {
		return name
	}
	head := (cells - 1) * 2 / 5
	if head < 1 {
		return Cut(name, cells)
	}
	over := Width(name) - (cells - 1 - head)
	tail := ansi.TruncateLeft(name, over, "")
	if Width(tail) > cells-1-head { // half of a wide character is in the way
		tail = ansi.TruncateLeft(name, over+1, "")
	}
	return ansi.Truncate(name, head, "") + "…" + tail
}

// CutGroup shortens a group to a number of cells and keeps its last folders: …/deeper/group03.
func CutGroup(group string, cells int) string {
	if Width(group) <= cells {
		return group
	}
	for at := strings.IndexByte(group, '/'); at >= 0; {
		if kept := "…" + group[at:]; Width(kept) <= cells {
			return kept
		}
		next := strings.IndexByte(group[at+1:], '/')
		if next < 0 {
			group = "…" + group[at:]
			break
		}
		at += 1 + next
	}
	return CutMiddle(group, cells)
}

// Ago says how long ago a moment was.
func Ago(since time.Duration) string {
	switch {
	case since < time.Minute:
		return "just now"
	case since < time.Hour:
		return fmt.Sprintf("%.0f min ago", since.Minutes())
	case since < 48*time.Hour:
		return fmt.Sprintf("%.0f h ago", since.Hours())
	}
	return fmt.Sprintf("%.0f days ago", since.Hours()/24)
}

// RunningSign marks what runs.
const RunningSign = "▸"
