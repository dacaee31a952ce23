package run

import "bytes"

// NewWords returns JSON that an earlier version wrote with the words of today: what is flaky was called unstable.
func NewWords(text []byte) []byte {
	if !bytes.Contains(text, []byte(`unstable"`)) {
		return text
	}
	text = bytes.ReplaceAll(text, []byte(`"unstable":true`), []byte(`"flaky":true`)) // quotes within a text are escaped
	return bytes.ReplaceAll(text, []byte(`"verdict":"unstable"`), []byte(`"verdict":"flaky"`))
}
