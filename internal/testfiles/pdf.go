package testfiles

import (
	"bytes"
	"compress/zlib"
	"io"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"
)

var (
	textOperator = regexp.MustCompile(`\(((?:[^()\\]|\\.)*)\)\s*Tj`)                // a string that a PDF shows
	escapes      = strings.NewReplacer(`\\`, `\`, `\(`, `(`, `\)`, `)`, `\r`, "\r") // in such a string
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
			var units []uint16 // UTF-16, as our documents have it
			for pair := range slices.Chunk([]byte(escapes.Replace(string(text[1]))), 2) {
				units = append(units, uint16(pair[0])<<8|uint16(pair[len(pair)-1]))
			}
			shown.WriteString(string(utf16.Decode(units)))
			shown.WriteByte('\n')
		}
	}
}
