package pick

import (
	"fmt"

	"fernrelay/core/catalog"
)

// language is a set of fields that the parser takes.
type language struct {
	fields map[string]*field // by name
	list   []field           // in the order in which completions offer them
}

func newLanguage(list []field) *language {
	l := &language{map[string]*field{}, list}
	for i := range list {
		l.fields[list[i].name] = &list[i]
	}
	return l
}

// field is everything that the language knows of one field.
type field struct {
	name     string
	hint     string // for completions; "" if they do not offer it
	bare     bool   // written as a word alone
	compares bool   // takes < <= > >= =
	regexp   bool   // takes /…/
	past     bool   // asks for earlier runs, of one crossing if the pick is restricted to that
	example  string // of a value, for messages
	// check holds the value of a parsed term against what the field takes.
	check func(t *Term) error
	// set is the tests for which a term holds, and fact what is true of one test, as in "it takes 0.84 s".
	// Conditions have neither.
	set  func(v *evaluation, t *Term) (catalog.Set, error)
	fact func(x *Index, t *Term, i int) string
}

// wants says how the field is written.
func (f *field) wants(name string) string {
	if f.compares {
		return fmt.Sprintf("%s compares: write %s>%s or %s<=%s", name, name, f.example, name, f.example)
	}
	return fmt.Sprintf("%s does not compare: write %s:%s", name, name, f.example)
}
