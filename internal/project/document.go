package project

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"fernrelay/core/pick"
	"fernrelay/internal/wholefile"
)

// document is a TOML file as text, with the places of its tables and keys, so
// that messages can point into it and it can be changed without losing what
// people wrote around the values.
type document struct {
	path   string
	data   []byte
	tables []table
}

type table struct {
	name    string
	header  entry
	entries []entry
}

// entry is a key with its value, or a table's header.
type entry struct {
	key      string
	from, to int // offsets in the text
}

// newDocument finds the places in a file that is known to parse.
func newDocument(path string, data []byte) *document {
	d := &document{path: path, data: data, tables: []table{{}}}
	var p unstable.Parser
	p.Reset(data)
	for p.NextExpression() {
		node := p.Expression()
		if node.Kind == unstable.KeyValue {
			d.add(d.tables[len(d.tables)-1].name, node)
			continue
		}
		keys, from := keysOf(node)
		header := entry{from: bytes.LastIndexByte(data[:from], '\n') + 1, to: from}
		d.tables = append(d.tables, table{name: strings.Join(keys, "."), header: header})
	}
	return d
}

func keysOf(node *unstable.Node) (keys []string, from int) {
	from = -1
	for it := node.Key(); it.Next(); {
		if from < 0 {
			from = int(it.Node().Raw.Offset)
		}
		keys = append(keys, string(it.Node().Data))
	}
	return keys, from
}

// add notes a key with its value; one of dotted keys or inside of braces belongs
// to the table that these name.
func (d *document) add(name string, node *unstable.Node) {
	keys, from := keysOf(node)
	last := len(keys) - 1
	if node.Value().Kind == unstable.InlineTable {
		for it := node.Value().Children(); it.Next(); {
			d.add(below(name, keys), it.Node())
		}
	}
	e := entry{key: keys[last], from: from, to: int(node.Raw.Offset + node.Raw.Length)}
	if name = below(name, keys[:last]); name != d.tables[len(d.tables)-1].name {
		d.tables = slices.Insert(d.tables, len(d.tables)-1, table{name: name, header: e, entries: []entry{e}})
		return
	}
	t := &d.tables[len(d.tables)-1]
	t.entries = append(t.entries, e)
}

// below is the name of a table inside another.
func below(name string, keys []string) string {
	if name != "" {
		keys = append([]string{name}, keys...)
	}
	return strings.Join(keys, ".")
}

// table returns the nth table of a name, from 0; nil if there is none.
func (d *document) table(name string, nth int) *table {
	if nth < 0 {
		return nil
	}
	for i := range d.tables {
		if d.tables[i].name != name {
			continue
		}
		if nth == 0 {
			return &d.tables[i]
		}
		nth--
	}
	return nil
}

// entries returns the keys of all tables of a name.
func (d *document) entries(name string) []entry {
	var all []entry
	for _, t := range d.tables {
		if t.name == name {
			all = append(all, t.entries...)
		}
	}
	return all
}

// entry returns a key of the nth table of a name, or the table's header if it does not have the key.
func (d *document) entry(name string, nth int, key string) entry {
	t := d.table(name, nth)
	if t == nil {
		return entry{}
	}
	if n := slices.IndexFunc(t.entries, func(e entry) bool { return e.key == key }); n >= 0 {
		return t.entries[n]
	}
	return t.header
}

// place returns the line and column of an offset, from 1.
func (d *document) place(offset int) (line, column int) {
	before := d.data[:offset]
	return 1 + bytes.Count(before, []byte("\n")), offset - bytes.LastIndexByte(before, '\n')
}

// from returns the place of an entry, as people read it.
func (d *document) from(e entry) string {
	line, _ := d.place(e.from)
	return fmt.Sprintf("%s:%d", filepath.Base(d.path), line)
}

// wrong makes an error that points at an entry.
func (d *document) wrong(e entry, format string, args ...any) error {
	line, column := d.place(e.from)
	return fmt.Errorf("%s:%d:%d: %w", d.path, line, column, fmt.Errorf(format, args...))
}

// pick reads the pick of an entry; an error points into the entry's value.
func (d *document) pick(e entry, text string) (pick.Expr, error) {
	expr, err := pick.Parse(text)
	var wrong *pick.Error
	if !errors.As(err, &wrong) {
		return expr, nil
	}
	if at := bytes.Index(d.data[e.from:e.to], []byte(text)); at >= 0 && !strings.Contains(text, "\n") {
		e.from += at + len(string([]rune(text)[:wrong.Column-1]))
	}
	return nil, d.wrong(e, "%s = %q: %s", e.key, text, wrong.Message)
}

// splice replaces the text between two offsets.
func (d *document) splice(from, to int, text string) []byte {
	return slices.Concat(d.data[:from], []byte(text), d.data[to:])
}

// lineEnd returns the offset after the line that contains an offset.
func (d *document) lineEnd(offset int) int {
	if at := bytes.IndexByte(d.data[offset:], '\n'); at >= 0 {
		return offset + at + 1
	}
	return len(d.data)
}

// end is the offset behind the last line of a table's own content.
func (d *document) end(t *table) int {
	if n := len(t.entries); n > 0 {
		return d.lineEnd(t.entries[n-1].to)
	}
	return d.lineEnd(t.header.to)
}

// with sets a key of the nth table of a name, and adds the table if there is none. line is the key with its value.
func (d *document) with(name string, nth int, key, line string) []byte {
	t := d.table(name, nth)
	if t == nil {
		return d.withTable("["+name+"]", line)
	}
	for _, e := range t.entries {
		if e.key == key {
			return d.splice(e.from, e.to, line)
		}
	}
	return d.insert(d.end(t), line+"\n")
}

// withTable adds a table behind the last of its kind, or at the end.
func (d *document) withTable(header, lines string) []byte {
	at := len(d.data)
	for i := range d.tables {
		if name := strings.Trim(header, "[]"); d.tables[i].name == name {
			at = d.end(&d.tables[i])
		}
	}
	return d.insert(at, "\n"+header+"\n"+lines+"\n")
}

// insert inserts lines at the beginning of a line.
func (d *document) insert(at int, lines string) []byte {
	if at > 0 && d.data[at-1] != '\n' {
		lines = "\n" + lines
	}
	return d.splice(at, at, lines)
}

// without takes an entry's line out.
func (d *document) without(e entry) []byte {
	return d.splice(bytes.LastIndexByte(d.data[:e.from], '\n')+1, d.lineEnd(e.to), "")
}

// Assignment writes a key with its value, as TOML.
func Assignment(key string, value any) (string, error) {
	line, err := toml.Marshal(map[string]any{key: value})
	return strings.TrimSuffix(string(line), "\n"), err
}

// change reads a file again, changes it, checks the result, and replaces the file whole. A missing file counts as
// the given one.
func change(path string, otherwise string, edit func(d *document) ([]byte, error), check func(data []byte) error) error {
	data, err := os.ReadFile(path)
	mode := fs.FileMode(0o644)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		data = []byte(otherwise)
	case err != nil:
		return unreadable(path, err)
	default:
		if info, err := os.Stat(path); err == nil {
			mode = info.Mode().Perm()
		}
	}
	if err := check(data); err != nil {
		return fmt.Errorf("nothing is written, because the file has a mistake: %w", err)
	}
	changed, err := edit(newDocument(path, data))
	if err != nil {
		return err
	}
	if err := check(changed); err != nil {
		return fmt.Errorf("%s cannot be changed here, write it in by hand: %w", path, err)
	}
	if resolved, err := filepath.EvalSymlinks(path); err == nil {
		path = resolved
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if err := wholefile.Replace(path, mode, wholefile.Bytes(changed)); err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, err)
	}
	return nil
}
