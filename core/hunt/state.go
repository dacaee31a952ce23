package hunt

import (
	"slices"
	"strings"
)

// The kinds of state that can be named.
const (
	Variable    = "variable"
	Environment = "environment"
	Folder      = "folder" // the working directory
	File        = "file"   // in a folder that tests share
	Goroutine   = "goroutine"
	Port        = "port"
	Signal      = "signal"  // one that is ignored
	Service     = "service" // in a server
	Setting     = "setting" // of the whole process, such as GOMAXPROCS
)

// Value is one named piece of state at one moment.
type Value struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	Text string `json:"value"`          // for people, cut if it is long
	Sum  string `json:"sum,omitempty"`  // distinguishes values with the same Text
	File string `json:"file,omitempty"` // of its declaration
	Line int    `json:"line,omitempty"`

	// Parts are the simple values that a variable is made of, each with the way to it, such as .lamps[3].on, if they were asked for.
	Parts [][2]string `json:"parts,omitempty"`
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
	Part   *Part  `json:"part,omitempty"`   // of a variable, the first that differs; nil if it has none
}

// Part is a part of a variable that differs.
type Part struct {
	Way    string `json:"way"` // to it, such as .lamps[3].on
	Before string `json:"before"`
	After  string `json:"after"`
	More   int    `json:"more"` // parts that differ as well
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

// Full returns the name with the part that differs.
func (c *Change) Full() string {
	if c.Part == nil {
		return c.Name
	}
	return c.Name + c.Part.Way
}

// Locate names the parts in which changed variables differ, given the states of two fresh runs and of one after the culprits, with
// their parts. It leaves out what differs between the two fresh runs as well: nobody leaves that behind.
func Locate(changes []Change, fresh [2][]Value, after []Value) []Change {
	states := [3]map[[2]string]Value{}
	for i, values := range [3][]Value{fresh[0], fresh[1], after} {
		states[i] = make(map[[2]string]Value, len(values))
		for _, v := range values {
			states[i][[2]string{v.Kind, v.Name}] = v
		}
	}
	located := make([]Change, 0, len(changes))
	for _, c := range changes {
		var values [3]Value
		for i := range states {
			values[i] = states[i][[2]string{c.Kind, c.Name}]
		}
		if c.locate(values) {
			located = append(located, c)
		}
	}
	return located
}

// locate narrows a change to the first part that differs, given its values in two fresh runs and after the culprits. It reports
// whether the culprits left it.
func (c *Change) locate(values [3]Value) bool {
	var parts [3]map[string]string
	for i, v := range values {
		parts[i] = make(map[string]string, len(v.Parts))
		for _, p := range v.Parts {
			parts[i][p[0]] = p[1]
		}
	}
	differs := func(way string, i, j int) bool {
		x, inX := parts[i][way]
		y, inY := parts[j][way]
		return inX != inY || x != y
	}
	noisy := false
	seen := map[string]bool{}
	for _, p := range slices.Concat(values[0].Parts, values[2].Parts) {
		way := p[0]
		if seen[way] || !differs(way, 0, 2) {
			continue
		}
		seen[way] = true
		if differs(way, 0, 1) {
			noisy = true
			continue
		}
		if c.Part != nil {
			c.Part.More++
			continue
		}
		c.Part = &Part{Way: way, Before: partOr(parts[0], way), After: partOr(parts[2], way)}
	}
	same := values[0].Text == values[1].Text && values[0].Sum == values[1].Sum
	return c.Part != nil || !noisy && same
}

func partOr(parts map[string]string, way string) string {
	if text, ok := parts[way]; ok {
		return text
	}
	return Absent
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
