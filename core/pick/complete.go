package pick

import (
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// Candidate is a completion of a pick that is being typed.
type Candidate struct {
	Text  string // the whole term, or a field with its operator
	Tests int    // how many tests the term selects by itself; -1 if that is not known yet
	Hint  string // a description

	field, value string
}

// candidates lists the terms that the catalog itself has to offer.
func (x *Index) candidates() []Candidate {
	c := x.Catalog
	var list []Candidate
	offer := func(field, value string, tests int, hint string) {
		text := Field(field, value)
		if field == fieldTag {
			text = Tag(value)
		}
		list = append(list, Candidate{text, tests, hint, field, value})
	}
	for _, tag := range c.Tags() {
		offer(fieldTag, tag, x.tags[tag].Len(), "tag")
	}
	places, suites := map[string]int{}, map[string]int{}
	for _, g := range c.Groups {
		places[g.Name] += g.Len
		suites[g.Suite] += g.Len
		for at, r := range g.Name {
			if r == '/' && at > 0 {
				places[g.Name[:at]+"/**"] += g.Len
			}
		}
	}
	for folder := range places { // a group that is above others
		if above, ok := strings.CutSuffix(folder, "/**"); ok && places[above] > 0 {
			places[folder] += places[above]
			places[above+"/."] = places[above]
			delete(places, above)
		}
	}
	kinds := map[string]int{}
	for kind, set := range x.kinds {
		kinds[kind] = set.Len()
	}
	for _, of := range []struct {
		field, hint string
		counts      map[string]int
	}{{"in", "place", places}, {"suite", "suite", suites}, {"kind", "kind", kinds}} {
		var values []string
		for value := range of.counts {
			values = append(values, value)
		}
		slices.Sort(values)
		for _, value := range values {
			offer(of.field, value, of.counts[value], of.hint)
		}
	}
	return list
}

// Complete returns ways to continue the word that ends at a cursor, which is an offset in characters, and where
// that word begins: tags, fields, then values of fields that begin with the word or contain it. There are none
// inside of quotes.
func (x *Index) Complete(text string, cursor int) (from int, list []Candidate) {
	runes := []rune(text)
	cursor = min(cursor, len(runes))
	from = cursor
	for from > 0 && inWord(runes[from-1]) {
		from--
	}
	if strings.Count(string(runes[:from]), `"`)%2 == 1 {
		return cursor, nil
	}
	word := string(runes[from:cursor])
	if word == "" {
		return from, nil
	}
	var fields, values, parts []Candidate
	for _, c := range slices.Concat(x.sums, x.others()) {
		switch {
		case c.Text == word:
		case strings.HasPrefix(c.Text, word) && (c.field == fieldTag || strings.ContainsRune(word, ':')):
			list = append(list, c)
		case strings.HasPrefix(c.value, word):
			values = append(values, c)
		case strings.Contains(c.value, word):
			parts = append(parts, c)
		}
	}
	for _, c := range fieldCandidates() {
		if strings.HasPrefix(c.Text, word) && c.Text != word {
			fields = append(fields, c)
		}
	}
	return from, slices.Concat(list, fields, values, parts)
}

// Warm computes how many tests those candidates select that do not come from the catalog alone, which takes as
// long as evaluating them.
func (x *Index) Warm() {
	counts := map[string]int{}
	for _, c := range x.others() {
		e, err := Parse(c.Text)
		if err != nil {
			continue // a name that a person wrote into a file by hand
		}
		if held, err := x.Selected(c.Text, e); err == nil {
			counts[c.Text] = held.Len()
		}
	}
	x.mu.Lock()
	x.counts = counts
	x.mu.Unlock()
}

// others lists the terms that do not come from the catalog alone.
func (x *Index) others() []Candidate {
	x.mu.Lock()
	counts := x.counts
	x.mu.Unlock()
	var list []Candidate
	offer := func(field, value, hint string) {
		text := Field(field, value)
		tests, known := counts[text]
		if !known {
			tests = -1
		}
		list = append(list, Candidate{text, tests, hint, field, value})
	}
	for _, name := range x.savedNames() {
		offer("saved", name, "saved pick")
	}
	for _, o := range run.Outcomes {
		offer("was", string(o), "outcome")
	}
	for _, rule := range catalog.RuleNames {
		offer("rule", rule, "rule")
	}
	return list
}

// fieldCandidates are the fields that are typed before a value, and the words without a value.
func fieldCandidates() []Candidate {
	var list []Candidate
	for _, f := range picks.list {
		operator := ":"
		switch {
		case f.hint == "":
			continue
		case f.bare:
			operator = ""
		case f.compares:
			operator = ">"
		}
		list = append(list, Candidate{Text: f.name + operator, Tests: -1, Hint: f.hint})
	}
	return list
}
