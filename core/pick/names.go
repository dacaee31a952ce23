package pick

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"fernrelay/core/catalog"
)

func checkName(t *Term) error {
	if !t.Regexp {
		return nil
	}
	if _, err := regexp.Compile(t.Value); err != nil {
		return fmt.Errorf("the regular expression does not parse: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	return nil
}

func named(v *evaluation, t *Term) (catalog.Set, error) {
	if !t.Regexp && strings.Contains(t.Value, "/") {
		return v.index.namingStep(t), nil
	}
	if !t.Regexp {
		return v.index.naming(t.Value), nil
	}
	sets, err := v.index.matching([]string{t.Value})
	if err != nil {
		return nil, err
	}
	return sets[0], nil
}

// naming returns the tests whose name contains a part, in any case unless the part has a capital.
func (x *Index) naming(part string) catalog.Set {
	if strings.ContainsFunc(part, unicode.IsUpper) {
		return x.nameList.containing(part)
	}
	return x.lowerNames().containing(part)
}

// namingStep returns the tests whose name, alone or with one of their steps, contains a part with a slash.
func (x *Index) namingStep(t *Term) catalog.Set {
	set := x.naming(t.Value)
	set.Or(x.where(func(i int) bool {
		s := x.stepTerm(t, i)
		return s != nil && (s.exact != "" || slices.ContainsFunc(x.knownSteps(i), s.matches))
	}))
	return set
}

// nameList is the names of tests, one after the other, so that one search looks through all of them.
type nameList struct {
	text string // each with a line's end behind it
	ends []int  // by test: where its name ends
}

func (l *nameList) add(text *strings.Builder, name string) {
	text.WriteString(name)
	l.ends = append(l.ends, text.Len())
	text.WriteByte('\n')
}

// containing returns the tests whose name contains a part.
func (l *nameList) containing(part string) catalog.Set {
	set := catalog.NewSet(len(l.ends))
	for from, i := 0, 0; ; {
		at := strings.Index(l.text[from:], part)
		if at < 0 {
			return set
		}
		at += from
		for l.ends[i] < at {
			i++
		}
		if at+len(part) <= l.ends[i] {
			set.Add(i)
			from = l.ends[i] + 1
			continue
		}
		from = at + 1 // it reached beyond the name
	}
}

func nameFact(x *Index, _ *Term, i int) string { return "its name is " + x.Catalog.Tests[i].Name }
