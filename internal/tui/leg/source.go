package leg

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/plain"
	"fernrelay/internal/project"
)

// Source is some lines of a file that a view shows. They are read beside the interface.
type Source struct {
	at    Place // the place for which they are shown
	First int   // the number of the first
	Lines []string
}

// SourceReadMsg brings the lines of a source.
type SourceReadMsg Source

// Read asks for the lines from one to another, both from 1, unless they are there or on their way.
func (s *Source) Read(p *project.Project, at Place, first, last int) tea.Cmd {
	if s.at == at {
		return nil
	}
	*s = Source{at: at, First: max(1, first)}
	if at.File == "" || at.Line < 1 {
		return nil
	}
	msg := SourceReadMsg(*s)
	return func() tea.Msg {
		msg.Lines = readLines(p, at.File, msg.First, last)
		return msg
	}
}

// Take takes lines that were requested.
func (s *Source) Take(msg SourceReadMsg) {
	if msg.at == s.at && msg.First == s.First {
		s.Lines = msg.Lines
	}
}

// SourceShown bounds the lines of a source that are read.
const SourceShown = 100

// readLines reads the lines of a file from one to another, both from 1. It returns none if the file cannot be
// read.
func readLines(p *project.Project, file string, first, last int) []string {
	data, err := p.ReadSource(file)
	lines := strings.Split(plain.Text(string(data)), "\n")
	if err != nil || first > len(lines) {
		return nil
	}
	return lines[first-1 : max(first-1, min(len(lines), last, first+SourceShown))]
}
