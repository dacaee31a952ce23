package pick

import (
	"cmp"
	"fmt"
	"go/version"
	"strconv"
	"strings"

	"fernrelay/core/lazy"
)

// conditions is the language of conditions: what must be so of the machine.
var conditions = newLanguage([]field{
	{name: "env", example: "GLASS_SLOW=on", check: checkEnv},
	{name: "os", example: "linux"},
	{name: "arch", example: "arm64"},
	{name: "program", example: "redis-server", check: checkProgram},
	{name: "go", compares: true, example: "1.25", check: checkVersion},
})

// ParseCondition reads a condition: picks' grammar over the fields env, os,
// arch, program and go. The error, if any, is an *Error.
func ParseCondition(text string) (Expr, error) {
	e, err := parse(text, conditions)
	if err != nil {
		wrong := err.(*Error) // parse returns no other
		return nil, fmt.Errorf("the condition %q is wrong at column %d: %s", text, wrong.Column, wrong.Message)
	}
	return e, nil
}

func checkEnv(t *Term) error {
	if strings.HasPrefix(t.Value, "=") {
		return fmt.Errorf("env:%s names no variable: write env:NAME or env:NAME=value", t.Value)
	}
	return nil
}

func checkVersion(t *Term) error {
	if !version.IsValid("go" + t.Value) {
		return fmt.Errorf("%q is not a version of Go: write it like 1.25", t.Value)
	}
	return nil
}

// checkProgram refuses a version of a program that is none.
func checkProgram(t *Term) error {
	name, op, wanted := programVersion(t.Value)
	if name == "" || op != "" && comparisons[op] == nil {
		return fmt.Errorf("program:%s names no program: write program:node or program:node>=18", t.Value)
	}
	if op != "" && versionNumber().FindString(wanted) != wanted {
		return fmt.Errorf("%q is not a version: write it like program:%s>=18 or program:%s<2.5", wanted, name, name)
	}
	return nil
}

// programVersion parts node>=18. Without a comparison, op is empty.
func programVersion(value string) (name, op, wanted string) {
	at := strings.IndexAny(value, "<>=")
	if at < 0 {
		return value, "", ""
	}
	name, rest := value[:at], value[at:]
	wanted = strings.TrimLeft(rest, "<>=")
	return name, rest[:len(rest)-len(wanted)], wanted
}

// versionNumber matches the version in what a program says about itself.
var versionNumber = lazy.Regexp(`\d+(?:\.\d+)*`)

// compareVersions compares two versions number by number; what is missing counts as 0.
func compareVersions(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		if c := cmp.Compare(numberAt(x, i), numberAt(y, i)); c != 0 {
			return c
		}
	}
	return 0
}

func numberAt(numbers []string, i int) uint64 {
	if i >= len(numbers) {
		return 0
	}
	n, _ := strconv.ParseUint(numbers[i], 10, 64) // the greatest if it is too large
	return n
}

// Machine is what conditions ask about.
type Machine struct {
	Env     func(name string) (value string, set bool)
	OS      string                      // as GOOS names it
	Arch    string                      // as GOARCH names it
	Program func(name string) bool      // whether it is there to be run
	Go      func() string               // the toolchain's version, as "go1.26.1"; empty without one
	Version func(program string) string // what the program prints about its version; empty if it cannot be asked
}

// Said returns what the programs of a condition print about their versions, in words; "" if it asks for none.
func (m *Machine) Said(e Expr) string {
	var words []string
	Terms(e, func(t *Term) {
		name, op, _ := programVersion(t.Value)
		switch {
		case t.Field != "program" || op == "":
		case !m.Program(name):
			words = append(words, name+" is not installed")
		default:
			words = append(words, fmt.Sprintf("%s --version prints %q", name, m.Version(name)))
		}
	})
	return strings.Join(words, "; ")
}

// hasProgram reports whether a program is there, in a version if one is asked for.
func (m *Machine) hasProgram(value string) bool {
	name, op, wanted := programVersion(value)
	if !m.Program(name) {
		return false
	}
	if op == "" {
		return true
	}
	is := versionNumber().FindString(m.Version(name))
	return is != "" && comparisons[op](float64(compareVersions(is, wanted)), 0)
}

// Holds reports whether a term of a condition holds on the machine.
func (m *Machine) Holds(t *Term) bool {
	switch t.Field {
	case "env":
		name, want, compares := strings.Cut(t.Value, "=")
		value, set := m.Env(name)
		if !compares {
			return value != ""
		}
		return set && value == want
	case "os":
		return t.Value == m.OS
	case "arch":
		return t.Value == m.Arch
	case "program":
		return m.hasProgram(t.Value)
	case "go":
		is := m.Go()
		if is == "" {
			return false
		}
		return comparisons[t.Op](float64(version.Compare(is, "go"+t.Value)), 0)
	}
	return false
}
