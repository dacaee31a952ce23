package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestDocs holds that links between documents lead somewhere, and that no page is too long to read at a sitting.
func TestDocs(t *testing.T) {
	t.Parallel()
	const longest = 250 // lines
	link := regexp.MustCompile(`\]\(([^)#:]*)(#[^)]*)?\)`)
	for _, page := range documents(t) {
		data, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		if n := strings.Count(string(data), "\n"); n > longest {
			t.Errorf("%s has %d lines, at most %d are wanted", page, n, longest)
		}
		for _, parts := range link.FindAllStringSubmatch(string(data), -1) {
			target := filepath.Join(filepath.Dir(page), parts[1])
			if parts[1] == "" {
				target = page
			}
			text, err := os.ReadFile(target)
			if err != nil {
				if _, err := os.Stat(target); err != nil {
					t.Errorf("%s links to %s, which is not there", page, parts[1])
				}
				continue
			}
			if parts[2] != "" && !strings.Contains(anchors(string(text)), parts[2]+"\n") {
				t.Errorf("%s links to %s%s, which has no such heading", page, parts[1], parts[2])
			}
		}
	}
}

// anchors lists the anchors of a document's headings, a line each.
func anchors(text string) string {
	var all strings.Builder
	for line := range strings.Lines(text) {
		if heading, ok := strings.CutPrefix(line, "#"); ok {
			heading = strings.ToLower(strings.TrimSpace(strings.TrimLeft(heading, "#")))
			all.WriteString("#" + strings.ReplaceAll(strings.Map(func(r rune) rune {
				if strings.ContainsRune(".,:'`()", r) {
					return -1
				}
				return r
			}, heading), " ", "-") + "\n")
		}
	}
	return all.String()
}
