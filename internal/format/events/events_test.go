package events

import (
	"bytes"
	"reflect"
	"strings"
	"testing"

	"fernrelay/core/run"
)

// FuzzRead holds that no stream breaks the reader, and that events that were read are written to the same.
func FuzzRead(f *testing.F) {
	f.Add(`{"event":"run","format":"fern-events/1"}` + "\n" + `{"event":"finished","id":"a","outcome":"failed","seconds":1e300,"line":-1}` + "\n" + `{"event":"end"}`)
	f.Add("{\"event\":\"run\",\"format\":\"fern-events/1\"}\n{\"event\":\"step\",\"step\":\"\\u202e\"}\n[[[[")
	f.Fuzz(func(t *testing.T, text string) {
		var first, second []run.Event
		_ = Read(strings.NewReader(text), func(e run.Event) { first = append(first, e) })
		if len(first) == 0 || first[0].Format != run.Format {
			return
		}
		var lines bytes.Buffer
		w := NewWriter(&lines)
		for _, e := range first {
			w.Write(e)
		}
		if err := w.Close(); err != nil {
			t.Skip(err) // a time that JSON does not have
		}
		_ = Read(&lines, func(e run.Event) { second = append(second, e) })
		if !reflect.DeepEqual(first, second) {
			t.Errorf("%+v\ncame back as\n%+v", first, second)
		}
	})
}
