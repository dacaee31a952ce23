package draw

import (
	"sync"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"golang.org/x/image/font"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
)

// typeface is one of the two fonts of the drawings.
type typeface struct {
	file   []byte
	mu     sync.Mutex // guards the buffer that reading the font needs
	font   *sfnt.Font
	buffer sfnt.Buffer
}

var (
	regular = sync.OnceValue(func() *typeface { return newTypeface(liberationsansregular.TTF) })
	bold    = sync.OnceValue(func() *typeface { return newTypeface(liberationsansbold.TTF) })
)

func newTypeface(file []byte) *typeface {
	f, err := sfnt.Parse(file)
	if err != nil {
		panic(err) // the font is part of the program
	}
	return &typeface{file: file, font: f}
}

func fontOf(heavy bool) *typeface {
	if heavy {
		return bold()
	}
	return regular()
}

// has reports whether the font has a glyph for a character.
func (t *typeface) has(r rune) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	at, err := t.font.GlyphIndex(&t.buffer, r)
	return err == nil && at != 0
}

// width returns how wide a text is in a size, both in points, with the distances that pairs of its glyphs keep.
// Text that is centred, or ends at a place, is moved to the left by it.
func (t *typeface) width(text string, size float64) float64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	em := fixed.Int26_6(t.font.UnitsPerEm())
	sum, before := fixed.Int26_6(0), sfnt.GlyphIndex(0)
	for _, r := range text {
		glyph, err := t.font.GlyphIndex(&t.buffer, r)
		if err != nil {
			continue
		}
		if kern, err := t.font.Kern(&t.buffer, before, glyph, em, font.HintingNone); err == nil && before != 0 {
			sum += kern
		}
		if advance, err := t.font.GlyphAdvance(&t.buffer, glyph, em, font.HintingNone); err == nil {
			sum += advance
		}
		before = glyph
	}
	return float64(sum) / float64(em) * size
}
