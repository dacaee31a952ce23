package hunt

import "strings"

// The kinds of state that can be named.
const (
	Variable    = "variable"
	Environment = "environment"
	Folder      = "folder" // the working directory
	File        = "file"   // in a folder that tests share
	Goroutine   = "goroutine"
	Port        = "port"
	Signal      = "signal" // one that is ignored
)

// Value is one named piece of state at one moment.
type Value struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	Text string `json:"value"`          // for people, cut if it is long
	Sum  string `json:"sum,omitempty"`  // distinguishes values with the same Text
	File string `json:"file,omitempty"` // of its declaration
	Line int    `json:"line,omitempty"`
}

// Change is a piece of state that culprits leave other than the victim meets it
// in a fresh run.
type Change struct {
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Before string `json:"before"`         // in a fresh run
	After  string `json:"after"`          // after the culprits
	File   string `json:"file,omitempty"` // of its declaration, relative to the project
	Line   int    `json:"line,omitempty"`
	Proved bool   `json:"proved,omitempty"` // with this alone restored, the victim's outcome is the one it has alone
}

// Absent is the value of what is missing on one side.
const Absent = "(absent)"

// Compare returns the differences between the state in which a victim begins in a fresh run and that in which it
// begins after its culprits, in the order of fresh. It marks values whose texts are the same although they differ
// deep inside.
func Compare(fresh, after []Value) []Change {
	type key struct{ kind, name string }
	left := make(map[key]Value, len(after))
	for _, v := range after {
		left[key{v.Kind, v.Name}] = v
	}
	changes := []Change{}
	add := func(v Value, before, after string) {
		changes = append(changes, Change{Kind: v.Kind, Name: v.Name, Before: before, After: after, File: v.File, Line: v.Line})
	}
	for _, before := range fresh {
		k := key{before.Kind, before.Name}
		now, ok := left[k]
		delete(left, k)
		switch {
		case !ok:
			add(before, before.Text, Absent)
		case before.Text != now.Text:
			add(before, before.Text, now.Text)
		case before.Sum != now.Sum:
			add(before, before.Text, now.Text+" (differs further in)")
		}
	}
	for _, v := range after {
		if _, added := left[key{v.Kind, v.Name}]; added {
			add(v, Absent, v.Text)
		}
	}
	return changes
}

// EnvironmentValues turns the lines of a process environment (NAME=value) into
// values.
func EnvironmentValues(lines []string) []Value {
	values := make([]Value, 0, len(lines))
	for _, line := range lines {
		name, text, _ := strings.Cut(line, "=")
		values = append(values, Value{Kind: Environment, Name: name, Text: text})
	}
	return values
}
