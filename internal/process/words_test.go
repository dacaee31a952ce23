package process

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// TestWordsAgainstShell splits random command lines as the machine's shell does, without what a shell expands.
func TestWordsAgainstShell(t *testing.T) {
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip("no sh")
	}
	random := rand.New(rand.NewPCG(11, 12))
	pieces := []string{"a", "b.c", "--for", " ", "  ", `"`, `'`, `\ `, `\"`, `\'`, `\\`, "é", "=", "/", "x", `\n`}
	compared := 0
	for range 1500 {
		var line strings.Builder
		line.WriteString("run")
		for range random.IntN(9) {
			line.WriteString(pieces[random.IntN(len(pieces))])
		}
		out, err := exec.Command("sh", "-c", `for w in `+line.String()+`; do printf '%s\0' "$w"; done`).Output()
		words, wrong := Words(line.String())
		if (err != nil) != (wrong != nil) {
			t.Errorf("of %s the shell says %v, and Words %v", line.String(), err, wrong)
			continue
		}
		if err != nil {
			continue
		}
		compared++
		if want := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00"); !slices.Equal(words, want) {
			t.Errorf("%s is %q, and in a shell %q", line.String(), words, want)
		}
	}
	if compared < 400 {
		t.Errorf("only %d lines were compared", compared)
	}
	for line, why := range map[string]string{"": "empty", "  \n": "empty", `run "open`: "never closed", `run \`: "ends with a backslash", "run | tee log": "'|' at byte 5 needs a shell",
		"build && run": "needs a shell", "run; true": "needs a shell", "run >log": "needs a shell", "run $(nproc)": "needs a shell", "run \"`nproc`\"": "needs a shell", "(run)": "needs a shell"} {
		if words, err := Words(line); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%q is the command line %q, %v: want an error that says %q", line, words, err, why)
		}
	}
	if words, err := Words("sh -c 'build && run | tee log' \"a;b\" $HOME \\\n*.t"); err != nil || !slices.Equal(words, []string{"sh", "-c", "build && run | tee log", "a;b", "$HOME", "*.t"}) {
		t.Errorf("quoted, it is %q, %v", words, err)
	}
}

// TestFill compares texts of placeholders, words in two braces and variables of a shell with their values.
func TestFill(t *testing.T) {
	parts := map[string]string{"{port}": "20040", "{tmp}": "/t/1", "{unknown}": "{unknown}", "{{port}}": "{port}", "${port}": "${port}", "{Port}": "{Port}", "a$b": "a$b", "{": "{", " ": " "}
	values := map[string]string{"port": "20040", "tmp": "/t/1"}
	names := []string{"{port}", "{tmp}", "{unknown}", "{{port}}", "${port}", "{Port}", "a$b", " "}
	random := rand.New(rand.NewPCG(13, 14))
	for range 2000 {
		var text, want strings.Builder
		var placeholders []string
		for range random.IntN(6) {
			name := names[random.IntN(len(names))]
			text.WriteString(name + ";")
			want.WriteString(parts[name] + ";")
			if name == "{port}" || name == "{tmp}" || name == "{unknown}" {
				placeholders = append(placeholders, strings.Trim(name, "{}"))
			}
		}
		if got := Fill(text.String(), values); got != want.String() {
			t.Errorf("%s is filled as %s, want %s", text.String(), got, want.String())
		}
		if got := Placeholders(text.String()); !slices.Equal(got, placeholders) {
			t.Errorf("%s has the placeholders %v, want %v", text.String(), got, placeholders)
		}
	}
}

// TestTailAgainstReference writes random texts in random pieces, and compares what is kept with the end of the whole.
func TestTailAgainstReference(t *testing.T) {
	random := rand.New(rand.NewPCG(15, 16))
	for range 300 {
		limit := 1 + random.IntN(40)
		tail := &Tail{Limit: limit}
		var kept []byte
		var whole strings.Builder
		for range random.IntN(30) {
			piece := strings.Repeat("é", random.IntN(3)) + strings.Repeat(string(rune('a'+random.IntN(26))), random.IntN(60))
			whole.WriteString(piece)
			_, _ = tail.Write([]byte(piece))
			kept = AppendTail(kept, []byte(piece), limit)
			if least := min(limit, whole.Len()); len(kept) < least || len(kept) > 2*limit || !strings.HasSuffix(whole.String(), string(kept)) {
				t.Fatalf("of %q the tail of %d bytes is %q", whole.String(), limit, kept)
			}
		}
		want := strings.ToValidUTF8(whole.String()[max(0, whole.Len()-limit):], "")
		if got := tail.String(); got != want || !utf8.ValidString(got) {
			t.Fatalf("of %q the last %d bytes are %q, want %q", whole.String(), limit, got, want)
		}
	}
	if got := LastLines("a\nb\nc\nd\n\n", 100); got != "b\nc\nd" {
		t.Errorf("the last lines are %q", got)
	}
}

// TestLineWriterAgainstReference cuts random texts into random pieces: the lines are the same however the text arrives. A line that is
// too long, or that its reader refuses, ends it.
func TestLineWriterAgainstReference(t *testing.T) {
	random := rand.New(rand.NewPCG(17, 18))
	for range 500 {
		const limit = 30
		var text strings.Builder
		for range random.IntN(20) {
			text.WriteString(strings.Repeat("x", random.IntN(limit+2)) + []string{"\n", "\n", "\n\n", "\r\n", ""}[random.IntN(5)])
		}
		var want []string
		tooLong := false
		for line := range strings.Lines(text.String()) {
			line = strings.TrimSuffix(line, "\n")
			if tooLong = len(line) > limit; tooLong {
				break
			}
			want = append(want, line)
		}
		var got []string
		w := &LineWriter{Limit: limit, Line: func(line string) error {
			got = append(got, line)
			return nil
		}}
		var err error
		for rest := []byte(text.String()); len(rest) > 0 && err == nil; {
			n := 1 + random.IntN(min(len(rest), 25))
			_, err = w.Write(rest[:n])
			rest = rest[n:]
		}
		err = errors.Join(err, w.Close())
		if !slices.Equal(got, want) || (err != nil) != tooLong {
			t.Fatalf("%q has the lines %q, %v, want %q, and too long %v", text.String(), got, err, want, tooLong)
		}
	}
	refused := errors.New("no more")
	w := &LineWriter{Limit: 10, Line: func(string) error { return refused }}
	if _, err := w.Write([]byte("a\nb\n")); !errors.Is(err, refused) {
		t.Errorf("after a refusal it says %v", err)
	}
	if n, err := fmt.Fprint(w, "c\n"); n != 0 || !errors.Is(err, refused) || !errors.Is(w.Close(), refused) {
		t.Errorf("later it takes %d bytes, %v", n, err)
	}
	if !bytes.Equal(w.rest, nil) {
		t.Errorf("it keeps %q", w.rest)
	}
}
