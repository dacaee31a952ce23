package project

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
)

// personFile holds a person's own saved picks, below the configuration folder.
const personFile = "fern-relay/picks.toml"

// PersonPath returns the file of a person's own saved picks.
func PersonPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no place for your own picks: %w", err)
	}
	return filepath.Join(dir, filepath.FromSlash(personFile)), nil
}

// PersonPicks reads the saved picks of the person; none if there is no file.
func PersonPicks() (map[string]string, error) {
	path, err := PersonPath()
	if err != nil {
		return nil, nil // without a home there is nothing saved
	}
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, unreadable(path, err)
	}
	return parsePerson(path, data)
}

func parsePerson(path string, data []byte) (map[string]string, error) {
	var f struct {
		Picks map[string]string `toml:"picks"`
	}
	decoder := toml.NewDecoder(strings.NewReader(string(data)))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&f); err != nil {
		return nil, positioned(path, err)
	}
	d := newDocument(path, data)
	for _, e := range d.entries("picks") {
		if _, err := d.pick(e, f.Picks[e.key]); err != nil {
			return nil, err
		}
	}
	return f.Picks, nil
}

// CheckPickName holds a saved pick's name to what saved:NAME can say.
func CheckPickName(name string) error {
	if name == "" || strings.ContainsAny(name, " \t\n()\"") {
		return fmt.Errorf("a pick cannot be saved as %q: use a name of one word", name)
	}
	return nil
}

// SavePersonPick keeps a pick for the person, in all projects.
func SavePersonPick(name, text string) error {
	path, err := PersonPath()
	if err != nil {
		return err
	}
	check := func(data []byte) error {
		_, err := parsePerson(path, data)
		return err
	}
	return savePick(path, "# Saved picks of Fern Relay, for all projects.\n", name, text, check)
}

// SavePick writes a pick into the project's fern.toml.
func (p *Project) SavePick(name, text string) error {
	return savePick(p.path(), p.skeleton(), name, text, p.checkFile)
}

func savePick(path, otherwise, name, text string, check func([]byte) error) error {
	if err := CheckPickName(name); err != nil {
		return err
	}
	if _, err := pick.Parse(text); err != nil {
		return err
	}
	line, err := Assignment(name, text)
	if err != nil {
		return err
	}
	return change(path, otherwise, func(d *document) ([]byte, error) { return d.with("picks", 0, name, line), nil }, check)
}

// SaveRule writes a rule, with its value in rules, on the tests of a pick into
// fern.toml, as a rule.
func (p *Project) SaveRule(text, rule string, rules catalog.Rules) error {
	var value any = rules.Value(rule)
	switch rule {
	case catalog.RuleNeeds, catalog.RuleAfter, catalog.RuleHolds:
		value = strings.Fields(rules.Value(rule))
	}
	line, err := Assignment(rule, value)
	if err != nil {
		return err
	}
	return p.changeRules(func(d *document, rules []writtenRule) ([]byte, error) {
		for n, r := range slices.Backward(rules) { // the last one counts
			if r.Pick == text {
				return d.with("rule", n, rule, line), nil
			}
		}
		head, err := Assignment("pick", text)
		return d.withTable("[[rule]]", head+"\n"+line), err
	})
}

// ClearRule removes a rule from the tests of a pick: from the rules for exactly this pick if any sets it, else by a
// rule that clears it, unless there is one.
func (p *Project) ClearRule(text, rule string) error {
	clear, err := Assignment("clear", []string{rule})
	if err != nil {
		return err
	}
	return p.changeRules(func(d *document, rules []writtenRule) ([]byte, error) {
		done, setLater := false, false
		for n, r := range slices.Backward(rules) { // backward, as a change moves only what is behind it
			switch {
			case r.Pick == text && r.Has(rule):
				d.data, done = d.withoutRule(n, rule), true
			case r.Pick == text && slices.Contains(r.Clear, rule) && !setLater:
				done = true
			}
			setLater = setLater || r.Has(rule)
		}
		if done {
			return d.data, nil
		}
		head, err := Assignment("pick", text)
		return d.withTable("[[rule]]", head+"\n"+clear), err
	})
}

// withoutRule takes a key out of the nth [[rule]], and all of that if nothing but its pick would be left.
func (d *document) withoutRule(n int, key string) []byte {
	t := d.table("rule", n)
	if len(t.entries) == 2 {
		return d.splice(t.header.from, d.end(t), "")
	}
	return d.without(d.entry("rule", n, key))
}

// changeRules changes fern.toml; edit is given its rules.
func (p *Project) changeRules(edit func(d *document, rules []writtenRule) ([]byte, error)) error {
	return change(p.path(), p.skeleton(), func(d *document) ([]byte, error) {
		var f file
		if err := toml.Unmarshal(d.data, &f); err != nil {
			return nil, err
		}
		return edit(d, f.Rules)
	}, p.checkFile)
}

func (p *Project) path() string { return filepath.Join(p.Dir, FileName) }

func (p *Project) checkFile(data []byte) error {
	_, err := parse(p.Dir, p.path(), data)
	return err
}

// skeleton is the fern.toml of a project that has none: it says what was so
// without it, so that every ID stays the same.
func (p *Project) skeleton() string {
	name, err := Assignment("name", p.Name)
	if err != nil {
		name = ""
	}
	text := "[project]\n" + name + "\n"
	for _, s := range p.Suites {
		text += fmt.Sprintf("\n[[suite]]\nname = %q\nkind = %q\ndir = %q\n", s.Name, s.Kind, s.Dir)
	}
	return text
}

// Saved merges picks that are saved in several places; the last place, which is the nearest, wins.
func Saved(places ...map[string]string) map[string]string {
	all := map[string]string{}
	for _, picks := range places {
		maps.Copy(all, picks)
	}
	return all
}
