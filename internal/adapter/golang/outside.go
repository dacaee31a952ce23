package golang

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

	"fernrelay/internal/wholefile"
)

// outside are the variables of a test binary that are not of its module, as the process reads them from a file: see
// generated/outside.go.tmpl.
type outside struct {
	Self      uint64
	Variables []located
	Layouts   []layout

	order    binary.ByteOrder
	packages map[string]bool // that have some of the variables
	left     int             // variables that are left out
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

// mostOutside bounds the variables outside the module that a hunt looks at, those of the nearest packages first.
const mostOutside = 5000

// unwatched are packages whose variables change as any test runs.
var unwatched = []string{"runtime", "internal", "sync", "reflect", "testing", "vendor", "unsafe", stateFolder}

// readOutside reads the debugging information of a binary (DWARF, the Go toolchain's on systems with ELF). own is the path of the
// module; distance tells how many imports a package is away from the tests.
func readOutside(name, own string, distance map[string]int) (*outside, error) {
	file, err := elf.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	data, err := file.DWARF()
	if err != nil {
		return nil, err
	}
	o := &outside{order: file.ByteOrder, packages: map[string]bool{}}
	types := &typeReader{data: data, outside: o, known: map[dwarf.Type]int{}}
	entries := data.Reader()
	for {
		entry, err := entries.Next()
		if err != nil {
			return nil, err
		}
		if entry == nil {
			break
		}
		if entry.Tag == dwarf.TagSubprogram {
			entries.SkipChildren()
		}
		if entry.Tag == dwarf.TagVariable {
			o.add(entry, types, own, distance)
		}
	}
	if o.Self == 0 {
		return nil, errors.New("it has no debugging information of its variables")
	}
	slices.SortStableFunc(o.Variables, func(a, b located) int {
		return cmp.Compare(distance[packageOf(a.Name)], distance[packageOf(b.Name)])
	})
	if n := len(o.Variables); n > mostOutside {
		o.Variables, o.left = o.Variables[:mostOutside], o.left+n-mostOutside
	}
	for _, v := range o.Variables {
		o.packages[packageOf(v.Name)] = true
	}
	return o, nil
}

// add adds a variable if its package is outside the module and worth watching.
func (o *outside) add(entry *dwarf.Entry, types *typeReader, own string, distance map[string]int) {
	name, _ := entry.Val(dwarf.AttrName).(string)
	address, ok := o.addressOf(entry)
	if !ok {
		return
	}
	pkg := packageOf(name)
	switch _, imported := distance[pkg]; {
	case strings.HasSuffix(name, "/"+stateFolder+".variables"):
		o.Self = address
		return
	case pkg == own || strings.HasPrefix(pkg, own+"/") || !imported:
		return
	case slices.Contains(unwatched, strings.Split(pkg, "/")[0]):
		o.left++
		return
	}
	at, ok := entry.Val(dwarf.AttrType).(dwarf.Offset)
	if !ok {
		return
	}
	t, err := types.data.Type(at)
	if err != nil || opaque(t) {
		o.left++
		return
	}
	o.Variables = append(o.Variables, located{name, address, types.layout(t)})
}

// addressOf returns the fixed address of a variable.
func (o *outside) addressOf(entry *dwarf.Entry) (address uint64, ok bool) {
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
	outside *outside
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

// write writes the file that the process reads.
func (o *outside) write(name string) error {
	return wholefile.Write(name, func(w io.Writer) error { return json.NewEncoder(w).Encode(o) })
}

// words say what is looked at outside the module, and what is not.
func (o *outside) words() string {
	words := fmt.Sprintf("%d variables of %d packages outside the module were looked at", len(o.Variables), len(o.packages))
	if o.left > 0 {
		words += fmt.Sprintf(", %d of the runtime, of locks and the like were not", o.left)
	}
	return words
}

// distances returns how many imports each package is away from the package under test, by its path.
func distances(packages map[string][]string, from []string) map[string]int {
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
