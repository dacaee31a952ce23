package pick

import (
	"fmt"
	"go/version"
	"strings"
)

// conditions is the language of conditions: what must be so of the machine.
var conditions = &language{map[string]*field{
	"env":     {example: "GLASS_SLOW=on", check: checkEnv},
	"os":      {example: "linux"},
	"arch":    {example: "arm64"},
	"program": {example: "redis-server"},
	"go":      {compares: true, example: "1.25", check: checkVersion},
}}

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

// Machine is what conditions ask about.
type Machine struct {
	Env     func(name string) (value string, set bool)
	OS      string                 // as GOOS names it
	Arch    string                 // as GOARCH names it
	Program func(name string) bool // whether it is there to be run
	Go      func() string          // the toolchain's version, as "go1.26.1"; empty without one
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
		return m.Program(t.Value)
	case "go":
		is := m.Go()
		if is == "" {
			return false
		}
		return comparisons[t.Op](float64(version.Compare(is, "go"+t.Value)), 0)
	}
	return false
}
