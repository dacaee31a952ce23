package testfiles

import (
	"bytes"
	"compress/zlib"
	"io"
	"regexp"
	"strings"
	"testing"
)

var (
	textOperator = regexp.MustCompile(`\(((?:[^()\\]|\\.)*)\)\s*Tj`) // a string that a PDF shows
	escaped      = regexp.MustCompile(`\\(.)`)
)

// PDFText returns the text that a PDF document shows, one string per line. It ends the test if data is none.
func PDFText(t *testing.T, data []byte) string {
	t.Helper()
	if !bytes.HasPrefix(data, []byte("%PDF-")) || !bytes.Contains(data, []byte("%%EOF")) {
		t.Fatalf("%.20q … is no PDF", data)
	}
	var shown strings.Builder
	for rest := data; ; {
		_, after, found := bytes.Cut(rest, []byte("stream\n"))
		if !found {
			return shown.String()
		}
		packed, next, _ := bytes.Cut(after, []byte("endstream"))
		rest = next
		reader, err := zlib.NewReader(bytes.NewReader(packed))
		if err != nil {
			continue // of a font, for instance
		}
		content, _ := io.ReadAll(reader) // as far as it is one
		for _, text := range textOperator.FindAllSubmatch(content, -1) {
			for _, char := range escaped.ReplaceAll(text[1], []byte("$1")) {
				shown.WriteRune(rune(char)) // the standard fonts' encoding equals Latin-1 where we write
			}
			shown.WriteByte('\n')
		}
	}
}
