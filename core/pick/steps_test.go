package pick

import (
	"strings"
	"testing"
)

// TestSteps holds which steps picks ask for, of a test with known steps, of one without, and inside saved picks.
func TestSteps(t *testing.T) {
	source := known
	source.Steps = func() map[string][]string {
		return map[string][]string{"unit:irrigation/drip#opens at dawn": {"beds/mosses", "beds", "doors"}, "checks:misting#or": {"doors"}}
	}
	source.Saved = map[string]string{"doors": "step:doors"}
	x := NewIndex(glass, source)
	for text, want := range map[string]string{
		"step:doors":                           "opens at dawn: doors|or: doors",
		"step:DOORS":                           "",
		"step:beds":                            "opens at dawn: beds",
		"step:/^beds.m/":                       "opens at dawn: beds/mosses",
		"step:doors quick":                     "opens at dawn: doors",
		"step:doors or quick":                  "opens at dawn|or: doors",
		"not step:doors":                       "TestValve|ExampleFrost",
		"step:doors or step:mosses":            "opens at dawn: beds/mosses, doors|or: doors",
		"saved:doors in:misting":               "or: doors",
		"name:dawn/beds":                       "opens at dawn: beds",
		"name:Valve/high/er":                   "TestValve: high/er",
		"name:alve/high":                       "TestValve: high",
		"name:Frost/x not step:y":              "ExampleFrost: x",
		`id:"unit:irrigation#TestValve/a b/c"`: "TestValve: a b/c",
		`id:"unit:irrigation#TestValve"`:       "TestValve",
		"valve":                                "opens at dawn|TestValve",
	} {
		e, held, err := x.Pick(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		steps := x.Steps(e, held)
		var words []string
		for i := range held.All {
			word := glass.Tests[i].Name
			if of := steps[i]; of != nil {
				word += ": " + strings.Join(of, ", ")
			}
			words = append(words, word)
		}
		if got := strings.Join(words, "|"); got != want {
			t.Errorf("%s asks for %q, want %s", text, got, want)
		}
	}
}
