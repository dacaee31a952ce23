package hunt

import "strings"

// The kinds of state that can be named.
const (
	Variable    = "variable"
	Environment = "environment"
	Folder      = "folder" // the working directory
	File        = "file"   // in a folder that tests share
)

// Value is one named piece of state at one moment.
type Value struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	Text string `json:"value"`         // for people, cut where it is long
	Sum  string `json:"sum,omitempty"` // tells apart values whose Text is the same
}

// Change is a piece of state that culprits leave other than the victim meets it
// in a fresh run.
type Change struct {
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Before string `json:"before"` // in a fresh run
	After  string `json:"after"`  // after the culprits
}

// Absent stands for the value of what is not there on one side.
const Absent = "(absent)"

// Compare names what differs between the state in which a victim begins in a
// fresh run and that in which it begins after its culprits, in the order of
// fresh. Values that differ too deep to be seen in their text say so.
func Compare(fresh, after []Value) []Change {
	type key struct{ kind, name string }
	left := make(map[key]Value, len(after))
	for _, v := range after {
		left[key{v.Kind, v.Name}] = v
	}
	changes := []Change{}
	for _, before := range fresh {
		k := key{before.Kind, before.Name}
		now, ok := left[k]
		delete(left, k)
		switch {
		case !ok:
			changes = append(changes, Change{k.kind, k.name, before.Text, Absent})
		case before.Text != now.Text:
			changes = append(changes, Change{k.kind, k.name, before.Text, now.Text})
		case before.Sum != now.Sum:
			changes = append(changes, Change{k.kind, k.name, before.Text, now.Text + " (differs further in)"})
		}
	}
	for _, v := range after {
		if _, added := left[key{v.Kind, v.Name}]; added {
			changes = append(changes, Change{v.Kind, v.Name, Absent, v.Text})
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
