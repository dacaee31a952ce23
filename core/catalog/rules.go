package catalog

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Rules are the standing instructions on a test. An empty value means that the rule is not set.
type Rules struct {
	Skip       string   `json:"skip,omitempty" toml:"skip"`               // why it does not run
	Lone       string   `json:"lone,omitempty" toml:"lone"`               // why only tests with this rule run
	ExpectFail string   `json:"expect-fail,omitempty" toml:"expect-fail"` // why it is expected to fail
	OnlyIf     string   `json:"only-if,omitempty" toml:"only-if"`         // the condition under which it runs
	Needs      []string `json:"needs,omitempty" toml:"needs"`             // tests that must pass before it
	After      []string `json:"after,omitempty" toml:"after"`             // tests that it does not run before
	Holds      []string `json:"holds,omitempty" toml:"holds"`             // resources that it holds while it runs
	Together   string   `json:"together,omitempty" toml:"together"`       // the level that never runs side by side, instead of its suite's
	Isolate    string   `json:"isolate,omitempty" toml:"isolate"`         // "test": it runs in a process of its own
}

// The names of the rules, as they are written everywhere.
const (
	RuleSkip       = "skip"
	RuleLone       = "lone"
	RuleExpectFail = "expect-fail"
	RuleOnlyIf     = "only-if"
	RuleNeeds      = "needs"
	RuleAfter      = "after"
	RuleHolds      = "holds"
	RuleTogether   = "together"
	RuleIsolate    = "isolate"
)

// RuleNames lists the rules in the order in which they are shown.
var RuleNames = []string{RuleSkip, RuleLone, RuleExpectFail, RuleOnlyIf, RuleNeeds, RuleAfter, RuleHolds, RuleTogether, RuleIsolate}

// ruleChoices are the values of rules that take one of a few words.
var ruleChoices = map[string][]string{RuleTogether: {"test", "file", "group", "suite"}, RuleIsolate: {"test"}}

// checkChoice returns an error if a rule takes one of a few words and the value is another.
func checkChoice(rule, value string) error {
	choices := ruleChoices[rule]
	if choices == nil || slices.Contains(choices, value) {
		return nil
	}
	return fmt.Errorf("%s is %q: it takes %s", rule, value, strings.Join(choices, ", "))
}

// RenamedRules are the present names of rules by their earlier ones.
var RenamedRules = map[string]string{"solo": RuleLone, "uses": RuleHolds}

// UnknownRule is the error of a name that no rule has.
func UnknownRule(name string) error {
	if now := RenamedRules[name]; now != "" {
		return fmt.Errorf("the rule %s is now called %s", name, now)
	}
	return fmt.Errorf("there is no rule %q: the rules are %s", name, strings.Join(RuleNames, " "))
}

// UnmarshalJSON reads rules. A name that a rule had earlier is an error that says the present one.
func (r *Rules) UnmarshalJSON(data []byte) error {
	type plain Rules
	if err := json.Unmarshal(data, (*plain)(r)); err != nil {
		return err
	}
	for old := range RenamedRules {
		if bytes.Contains(data, []byte(`"`+old+`":`)) {
			return UnknownRule(old)
		}
	}
	return r.Check()
}

// Check returns an error if a rule has a value that it does not take.
func (r *Rules) Check() error {
	for rule := range ruleChoices {
		if value := r.Value(rule); value != "" {
			if err := checkChoice(rule, value); err != nil {
				return err
			}
		}
	}
	return nil
}

// NoReason is the reason of a rule that takes one and has none.
const NoReason = "no reason given"

// text and list return the field of a rule by its name; one of them is nil.
func (r *Rules) text(rule string) *string {
	switch rule {
	case RuleSkip:
		return &r.Skip
	case RuleLone:
		return &r.Lone
	case RuleExpectFail:
		return &r.ExpectFail
	case RuleOnlyIf:
		return &r.OnlyIf
	case RuleTogether:
		return &r.Together
	case RuleIsolate:
		return &r.Isolate
	}
	return nil
}

func (r *Rules) list(rule string) *[]string {
	switch rule {
	case RuleNeeds:
		return &r.Needs
	case RuleAfter:
		return &r.After
	case RuleHolds:
		return &r.Holds
	}
	return nil
}

// Set sets a rule by its name: to a reason, a condition, or names separated by spaces. The error
// says what is missing or that there is no such rule.
func (r *Rules) Set(rule, value string) error {
	value = strings.TrimSpace(value)
	if list := r.list(rule); list != nil {
		if value == "" {
			return fmt.Errorf("%s takes one name or more", rule)
		}
		*list = union(*list, strings.Fields(value))
		return nil
	}
	text := r.text(rule)
	switch {
	case text == nil:
		return UnknownRule(rule)
	case checkChoice(rule, value) != nil:
		return checkChoice(rule, value)
	case rule == RuleOnlyIf && value == "":
		return fmt.Errorf("%s takes a condition", rule)
	case rule == RuleOnlyIf && r.OnlyIf != "":
		value = "(" + r.OnlyIf + ") (" + value + ")"
	case value == "":
		value = NoReason
	}
	*text = value
	return nil
}

// Has reports whether the rule of this name is set.
func (r Rules) Has(rule string) bool { return r.Value(rule) != "" }

// Value returns a rule's reason, condition or names, empty if the rule is not set.
func (r Rules) Value(rule string) string {
	if list := r.list(rule); list != nil {
		return strings.Join(*list, " ")
	}
	if text := r.text(rule); text != nil {
		return *text
	}
	return ""
}

// union appends what is missing; the first list stays as it is.
func union(have, more []string) []string {
	have = slices.Clip(have)
	for _, name := range more {
		if !slices.Contains(have, name) {
			have = append(have, name)
		}
	}
	return have
}

// Origin names where a tag or a rule of a test comes from.
type Origin struct {
	Of   string // the tag, or the rule's name
	Rule bool
	From string // "the function", "the file", "fern.toml:12", …
}

// FromSystem is where a tag comes from that is a part of a build constraint which the system or the toolchain settles.
const FromSystem = "the build constraint, for systems"

// Rules returns the rules of the test.
func (t *Test) Rules() Rules {
	if t.Ruled == nil {
		return Rules{}
	}
	return *t.Ruled
}

// change replaces the rules of the test by a copy, and returns it.
func (t *Test) change() *Rules {
	own := t.Rules()
	t.Ruled = &own
	return t.Ruled
}

// AddRules sets the rules that are set in more, and records where they come from. It appends names, requires both
// conditions, and replaces a reason. Copies of the test keep their rules.
func (t *Test) AddRules(more Rules, from string) {
	var changed *Rules
	for _, rule := range RuleNames {
		if !more.Has(rule) {
			continue
		}
		if changed == nil {
			changed = t.change()
		}
		if list := more.list(rule); list != nil {
			own := changed.list(rule)
			*own = union(*own, *list)
		} else {
			_ = changed.Set(rule, more.Value(rule)) // it is one of the rules and has a value
		}
		t.Origins = append(slices.Clip(t.Origins), Origin{Of: rule, Rule: true, From: from})
	}
}

// WaitFor has the test run after another.
func (t *Test) WaitFor(id, from string) { t.AddRules(Rules{After: []string{id}}, from) }

// StayApart has the test hold a resource that is named after a victim and that one test at a time may hold.
func (t *Test) StayApart(victim, from string) {
	t.AddRules(Rules{Holds: []string{"apart from " + victim}}, from)
}

// ClearRule removes a rule.
func (t *Test) ClearRule(rule string) {
	if t.Rules().Has(rule) {
		changed := t.change()
		if list := changed.list(rule); list != nil {
			*list = nil
		}
		if text := changed.text(rule); text != nil {
			*text = ""
		}
	}
	t.Origins = slices.DeleteFunc(slices.Clone(t.Origins), func(o Origin) bool { return o.Rule && o.Of == rule })
}

// TagFrom and RuleFrom return where a tag or a rule comes from; several places are separated by commas.
func (t *Test) TagFrom(tag string) string   { return t.from(tag, false) }
func (t *Test) RuleFrom(rule string) string { return t.from(rule, true) }

func (t *Test) from(of string, rule bool) string {
	var places []string
	for _, o := range t.Origins {
		if o.Of == of && o.Rule == rule {
			places = union(places, []string{o.From})
		}
	}
	return strings.Join(places, ", ")
}
