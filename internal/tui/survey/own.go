package survey

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/internal/app"
	"fernrelay/internal/project"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
	"fernrelay/internal/workspace"
)

// The places in which rules and picks are kept.
const (
	KeepSession = "this session"
	keepPerson  = "mine, in all projects"
	keepProject = "fern.toml"
)

// saveSheet asks for the name under which, and the place in which, to save the present pick.
func saveSheet(s *leg.Session) *screen.Sheet {
	text := s.Picked.Text
	return &screen.Sheet{
		Title: "Save the pick: " + text,
		Rows: []screen.SheetRow{
			screen.NewText("name", "", "one word; saved:NAME picks it again"),
			{Label: "keep in", Choices: []string{keepProject, keepPerson, KeepSession}, Hints: []string{"for everybody who works on this project", "in your configuration folder", "until you quit"}},
		},
		Done: func(sh *screen.Sheet) tea.Cmd { return savePick(sh, text) },
	}
}

func savePick(sh *screen.Sheet, text string) tea.Cmd {
	name, keep := strings.TrimSpace(sh.Choice("name")), sh.Choice("keep in")
	said := fmt.Sprintf("saved in %s: saved:%s picks it again", placeWords(keep), name)
	return leg.Renew(sh, said, func(r *app.App) (*app.App, error) {
		if name == "" {
			return nil, errors.New("give it a name")
		}
		if expr, err := pick.Parse(text); err == nil && asksForItself(expr, name) {
			return nil, fmt.Errorf("the pick asks for saved:%s itself: give it another name", name)
		}
		var err error
		switch keep {
		case keepProject:
			err = r.Project.SavePick(name, text)
		case keepPerson:
			err = project.SavePersonPick(name, text)
		default:
			if err := project.CheckPickName(name); err != nil {
				return nil, err
			}
			own := r.Own
			own.Picks = maps.Clone(own.Picks)
			if own.Picks == nil {
				own.Picks = map[string]string{}
			}
			own.Picks[name] = text
			return r.With(own)
		}
		if err != nil {
			return nil, err
		}
		return r.Reload(context.Background(), nil)
	})
}

// placeWords names the place of a saved pick.
func placeWords(keep string) string {
	if path, err := project.PersonPath(); keep == keepPerson && err == nil {
		return path
	}
	return keep
}

func asksForItself(e pick.Expr, name string) bool {
	asks := false
	pick.Terms(e, func(t *pick.Term) { asks = asks || t.Field == "saved" && t.Value == name })
	return asks
}

// scope is what a rule can be set on: a word for it, its pick, and the number of its tests.
type scope struct {
	word, pick string
	tests      int
}

// ruleSheet asks which rule to set or clear, and on which tests.
func ruleSheet(scopes []scope) *screen.Sheet {
	on := screen.SheetRow{Label: "on"}
	for _, sc := range scopes {
		on.Choices = append(on.Choices, sc.word)
		on.Hints = append(on.Hints, wording.Plural(sc.tests, "test")+": "+sc.pick)
	}
	return &screen.Sheet{
		Title: "Set or clear a rule",
		Rows: []screen.SheetRow{
			{Label: "rule", Choices: catalog.RuleNames, Hints: []string{"does not run", "only tests with this rule run", "runs, and may fail", "runs under a condition", "only when these passed", "not before these", "holds a resource", "never side by side: test, file, group, suite", "test: in a process of its own"}},
			on,
			{Label: "do", Choices: []string{"set", "clear"}},
			{Label: "keep in", Choices: []string{KeepSession, keepProject}, Hints: []string{"until you quit", "as a [[rule]], for everybody"}},
			screen.NewText("reason", "", "why; for only-if the condition, for needs, after and holds the names"),
		},
		Done: func(sh *screen.Sheet) tea.Cmd {
			at := slices.IndexFunc(scopes, func(sc scope) bool { return sc.word == sh.Choice("on") })
			return setRule(sh, scopes[at].pick)
		},
	}
}

// setRule sets the rule that a sheet asks for on the tests of a pick, or clears it.
func setRule(sh *screen.Sheet, text string) tea.Cmd {
	name, value, keep := sh.Choice("rule"), sh.Choice("reason"), sh.Choice("keep in")
	clear := sh.Choice("do") == "clear"
	return leg.Renew(sh, "", func(r *app.App) (*app.App, error) {
		rule := project.Rule{Text: text, From: KeepSession}
		var err error
		if rule.Pick, err = pick.Parse(text); err != nil {
			return nil, err
		}
		if clear {
			rule.Clear = []string{name}
		} else if err := rule.Set.Set(name, value); err != nil {
			return nil, err
		}
		if keep == KeepSession {
			if err := rule.Check(); err != nil {
				return nil, err
			}
			return r.With(withRule(r.Own, rule))
		}
		if clear {
			err = r.Project.ClearRule(text, name)
		} else {
			err = r.Project.SaveRule(text, name, rule.Set)
		}
		if err != nil {
			return nil, err
		}
		return r.Reload(context.Background(), nil)
	})
}

// withRule adds a rule to those of a session. One that only clears what earlier ones set on the same tests removes those
// instead.
func withRule(own workspace.Own, rule project.Rule) workspace.Own {
	left := slices.DeleteFunc(slices.Clone(own.Rules), func(old project.Rule) bool {
		return len(rule.Clear) == 1 && old.Text == rule.Text && old.Set.Has(rule.Clear[0])
	})
	if len(left) == len(own.Rules) {
		left = append(left, rule)
	}
	own.Rules = left
	return own
}

// OwnWords says what holds for this session only, "" if nothing does.
func OwnWords(own workspace.Own) string {
	var words []string
	if n := len(own.Rules); n > 0 {
		words = append(words, wording.Plural(n, "rule"))
	}
	if n := len(own.Picks); n > 0 {
		words = append(words, wording.Plural(n, "saved pick"))
	}
	if words == nil {
		return ""
	}
	return strings.Join(words, " and ") + " of this session only"
}
