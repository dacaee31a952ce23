package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/plain"
	"fernrelay/internal/project"
)

// source is some lines of a file that a view shows. They are read beside the interface.
type source struct {
	at    place // the place for which they are shown
	first int   // the number of the first
	lines []string
}

// sourceReadMsg brings the lines of a source.
type sourceReadMsg source

// read asks for the lines from one to another, both from 1, unless they are there or on their way.
func (s *source) read(p *project.Project, at place, first, last int) tea.Cmd {
	if s.at == at {
		return nil
	}
	*s = source{at: at, first: max(1, first)}
	if at.file == "" || at.line < 1 {
		return nil
	}
	msg := sourceReadMsg(*s)
	return func() tea.Msg {
		msg.lines = readLines(p, at.file, msg.first, last)
		return msg
	}
}

// take takes lines that were requested.
func (s *source) take(msg sourceReadMsg) {
	if msg.at == s.at && msg.first == s.first {
		s.lines = msg.lines
	}
}

// sourceShown bounds the lines of a source that are read.
const sourceShown = 100

// readLines reads the lines of a file from one to another, both from 1. It returns none if the file cannot be
// read.
func readLines(p *project.Project, file string, first, last int) []string {
	data, err := p.ReadSource(file)
	lines := strings.Split(plain.Text(string(data)), "\n")
	if err != nil || first > len(lines) {
		return nil
	}
	return lines[first-1 : max(first-1, min(len(lines), last, first+sourceShown))]
}
