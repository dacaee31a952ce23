// Package variables finds, in the debug information of a Go test binary, the package-level variables that are not of its module, so
// that the process can look at them.
//
//	found, err := variables.Read(binary, "example.org/glass", distance)
//	err = found.Write(file) // for the process to read
//	words := found.Words()  // what is looked at, and what is left out
package variables

import (
	"cmp"
	"debug/dwarf"
	"debug/elf"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"fernrelay/internal/wholefile"
	"fernrelay/internal/wording"
)

// Outside is the variables of a test binary that are not of its module, as the process reads them from a file: see
// generated/outside.go.tmpl.
type Outside struct {
	Self      uint64
	Variables []located
	Layouts   []layout

	order    binary.ByteOrder
	packages map[string]bool // that have some of the variables
	left     int             // packages that are left out
}

type located struct {
	Name    string
	Address uint64
	Layout  int
}

type layout struct {
	Kind   string
	Size   int64
	Elem   int
	Count  int64   `json:",omitempty"`
	Fields []field `json:",omitempty"`
}

type field struct {
	Name   string
	Offset int64
	Layout int
}

// The bounds of what a hunt looks at outside the module, in packages that come by their distance: variables, and the time to
// find them.
const (
	mostOutside     = 5000
	patienceOutside = 250 * time.Millisecond
)

// unwatched are packages whose variables change as any test runs.
var unwatched = []string{"runtime", "internal", "sync", "reflect", "testing", "vendor", "unsafe", StateFolder}

// Read reads the debugging information of a binary (DWARF, the Go toolchain's on systems with ELF). own is the path of the
// module; distance is how many imports a package is away from the tests.
func Read(name, own string, distance map[string]int) (*Outside, error) {
	file, err := elf.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	data, err := file.DWARF()
	if err != nil {
		return nil, err
	}
	o := &Outside{order: file.ByteOrder, packages: map[string]bool{}}
	units, err := o.units(file, data)
	if err != nil {
		return nil, err
	}
	// The packages nearest to the tests come first; that of the state is needed for its address.
	near := func(u unit) int {
		if strings.HasSuffix(u.name, "/"+StateFolder) {
			return -1
		}
		return distance[u.name]
	}
	slices.SortStableFunc(units, func(a, b unit) int { return cmp.Compare(near(a), near(b)) })
	types := &typeReader{data: data, outside: o, known: map[dwarf.Type]int{}}
	began := time.Now()
	for _, u := range units {
		_, imported := distance[u.name]
		switch {
		case near(u) < 0:
		case !imported || u.name == own || strings.HasPrefix(u.name, own+"/"):
			continue
		case slices.Contains(unwatched, strings.Split(u.name, "/")[0]), len(o.Variables) > mostOutside, time.Since(began) > patienceOutside:
			o.left++
			continue
		}
		if err := o.read(u, types); err != nil {
			return nil, err
		}
	}
	if o.Self == 0 {
		return nil, errors.New("it has no debugging information of its variables")
	}
	return o, nil
}

// unit is the part of the debugging information about one package.
type unit struct {
	name string
	at   dwarf.Offset
}

// units returns the units of a binary, by the headers of the section (DWARF 5, 7.5.1).
func (o *Outside) units(file *elf.File, data *dwarf.Data) ([]unit, error) {
	section := file.Section(".debug_info")
	if section == nil {
		return nil, errors.New("it has no debugging information")
	}
	info, err := section.Data()
	if err != nil {
		return nil, err
	}
	var units []unit
	entries := data.Reader()
	for from := 0; from+12 <= len(info); {
		length, header := int(o.order.Uint32(info[from:])), 11
		if o.order.Uint16(info[from+4:]) >= 5 {
			header = 12
		}
		entries.Seek(dwarf.Offset(from + header))
		entry, err := entries.Next()
		if err != nil || entry == nil || length <= 0 {
			return units, err
		}
		name, _ := entry.Val(dwarf.AttrName).(string)
		units = append(units, unit{name, entry.Offset})
		from += 4 + length
	}
	return units, nil
}

// read adds the variables of a unit.
func (o *Outside) read(u unit, types *typeReader) error {
	entries := types.data.Reader()
	entries.Seek(u.at)
	if _, err := entries.Next(); err != nil {
		return err
	}
	for {
		entry, err := entries.Next()
		if err != nil || entry == nil || entry.Tag == 0 {
			return err
		}
		if entry.Tag == dwarf.TagVariable {
			o.add(entry, types)
		}
		entries.SkipChildren()
	}
}

// add adds a variable if it is one to watch.
func (o *Outside) add(entry *dwarf.Entry, types *typeReader) {
	name, _ := entry.Val(dwarf.AttrName).(string)
	address, ok := o.addressOf(entry)
	if !ok {
		return
	}
	if strings.HasSuffix(name, "/"+StateFolder+".variables") {
		o.Self = address
	}
	at, ok := entry.Val(dwarf.AttrType).(dwarf.Offset)
	if !ok || strings.Contains(name, "/"+StateFolder+".") {
		return
	}
	if t, err := types.data.Type(at); err == nil && !opaque(t) {
		o.Variables = append(o.Variables, located{name, address, types.layout(t)})
		o.packages[packageOf(name)] = true
	}
}

// addressOf returns the fixed address of a variable.
func (o *Outside) addressOf(entry *dwarf.Entry) (address uint64, ok bool) {
	const opAddr = 0x03 // DW_OP_addr
	place, _ := entry.Val(dwarf.AttrLocation).([]byte)
	if len(place) != 9 || place[0] != opAddr {
		return 0, false
	}
	return o.order.Uint64(place[1:]), true
}

// packageOf is the import path in the name of a symbol.
func packageOf(name string) string {
	slash := strings.LastIndexByte(name, '/')
	pkg, _, _ := strings.Cut(name[slash+1:], ".")
	return name[:slash+1] + pkg
}

// typeReader makes layouts of types.
type typeReader struct {
	data    *dwarf.Data
	outside *Outside
	known   map[dwarf.Type]int
}

// layout returns the index of the layout of a type.
func (r *typeReader) layout(t dwarf.Type) int {
	if at, ok := r.known[t]; ok {
		return at
	}
	at := len(r.outside.Layouts)
	r.known[t] = at
	r.outside.Layouts = append(r.outside.Layouts, layout{}) // a type may lead back to itself
	made := r.make(t)
	made.Size = max(0, t.Size())
	r.outside.Layouts[at] = made
	return at
}

func (r *typeReader) make(t dwarf.Type) layout {
	switch t := t.(type) {
	case *dwarf.BoolType:
		return layout{Kind: "bool"}
	case *dwarf.IntType, *dwarf.CharType:
		return layout{Kind: "int"}
	case *dwarf.UintType, *dwarf.UcharType:
		return layout{Kind: "uint"}
	case *dwarf.FloatType:
		return layout{Kind: "float"}
	case *dwarf.FuncType:
		return layout{Kind: "func"}
	case *dwarf.ArrayType:
		return layout{Kind: "array", Elem: r.layout(t.Type), Count: max(0, t.Count)}
	case *dwarf.PtrType:
		return r.pointer(t)
	case *dwarf.TypedefType:
		return r.typedef(t)
	case *dwarf.StructType:
		return r.structure(t)
	}
	return layout{Kind: "opaque"}
}

func (r *typeReader) pointer(t *dwarf.PtrType) layout {
	if _, void := t.Type.(*dwarf.VoidType); void || t.Type == nil || opaque(t.Type) {
		return layout{Kind: "pointer", Elem: -1}
	}
	return layout{Kind: "pointer", Elem: r.layout(t.Type)}
}

func (r *typeReader) typedef(t *dwarf.TypedefType) layout {
	switch {
	case strings.HasPrefix(t.Name, "map["):
		return layout{Kind: "map"}
	case strings.HasPrefix(t.Name, "chan "), strings.HasPrefix(t.Name, "<-chan "), strings.HasPrefix(t.Name, "chan<- "):
		return layout{Kind: "pointer", Elem: -1}
	case strings.HasPrefix(t.Name, "func("):
		return layout{Kind: "func"}
	case t.Type == nil || opaque(t):
		return layout{Kind: "opaque"}
	}
	return r.make(t.Type)
}

func (r *typeReader) structure(t *dwarf.StructType) layout {
	switch {
	case t.StructName == "string":
		return layout{Kind: "string"}
	case t.StructName == "runtime.iface", t.StructName == "runtime.eface":
		return layout{Kind: "interface"}
	case strings.HasPrefix(t.StructName, "[]") && len(t.Field) == 3:
		if array, ok := t.Field[0].Type.(*dwarf.PtrType); ok && array.Type != nil {
			return layout{Kind: "slice", Elem: r.layout(array.Type)}
		}
		return layout{Kind: "opaque"}
	case opaque(t):
		return layout{Kind: "opaque"}
	}
	l := layout{Kind: "struct"}
	for _, f := range t.Field {
		if f.Name == "_" {
			continue
		}
		l.Fields = append(l.Fields, field{f.Name, f.ByteOffset, r.layout(f.Type)})
	}
	return l
}

// opaque reports whether a type is one of those that change as any test runs: locks, pools, settings that are counted.
func opaque(t dwarf.Type) bool {
	name := strings.TrimPrefix(t.Common().Name, "*")
	if s, ok := t.(*dwarf.StructType); ok {
		name = s.StructName
	}
	if p, ok := t.(*dwarf.PtrType); ok && p.Type != nil {
		name = p.Type.Common().Name
	}
	pkg := packageOf(name)
	return pkg == "sync" || strings.HasPrefix(pkg, "internal/") || strings.HasPrefix(name, "runtime.") && !strings.HasSuffix(name, "face")
}

// Write writes the file that the process reads.
func (o *Outside) Write(name string) error {
	return wholefile.Write(name, func(w io.Writer) error { return json.NewEncoder(w).Encode(o) })
}

// Words say what is looked at outside the module, and what is not.
func (o *Outside) Words() string {
	words := fmt.Sprintf("%d variables of %d packages outside the module were looked at", len(o.Variables), len(o.packages))
	if o.left > 0 {
		words += fmt.Sprintf(", %s (the runtime, locks and the like, and what is far from the tests) not", wording.Plural(o.left, "package"))
	}
	return words
}

// Distances returns how many imports each package is away from the package under test, by its path.
func Distances(packages map[string][]string, from []string) map[string]int {
	distance := map[string]int{}
	for n, level := 0, from; len(level) > 0; n++ {
		var next []string
		for _, name := range level {
			name = path.Clean(name)
			if _, known := distance[name]; known {
				continue
			}
			distance[name] = n
			next = append(next, packages[name]...)
		}
		level = next
	}
	return distance
}

// StateFolder is the folder, only in the build, of the package that reports the state.
const StateFolder = "fernrelaystate"
