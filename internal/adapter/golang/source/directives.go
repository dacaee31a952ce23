package source

import (
	"fmt"
	"go/ast"
	"go/token"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
)

// directivePrefix begins a comment that is for Fern Relay.
const directivePrefix = "//fern:"

// directives are the comments about a test: tags and rules, and where each comes from.
type directives struct{ catalog.Test }

func (d directives) clone() directives {
	d.Tags = slices.Clone(d.Tags)
	return d
}

// read reads the directives of a comment; an error about one names its place in the file.
func (d *directives) read(comments *ast.CommentGroup, from string, wrong func(at token.Pos, problem string)) {
	if comments == nil {
		return
	}
	for _, c := range comments.List {
		if !strings.HasPrefix(c.Text, directivePrefix) {
			continue
		}
		if err := d.take(c.Text, from); err != nil {
			wrong(c.Pos(), err.Error())
		}
	}
}

// take reads one directive, such as "//fern:tags frost slow".
func (d *directives) take(comment, from string) error {
	word, rest, _ := strings.Cut(strings.TrimPrefix(comment, directivePrefix), " ")
	word, rest = strings.TrimSpace(word), strings.TrimSpace(rest)
	if word == "tags" {
		tags := strings.Fields(rest)
		if len(tags) == 0 {
			return fmt.Errorf("%stags names no tag", directivePrefix)
		}
		for _, tag := range tags {
			d.AddTag(tag, from)
		}
		return nil
	}
	var rules catalog.Rules
	if err := rules.Set(word, rest); err != nil {
		return fmt.Errorf("%s%s: %w", directivePrefix, word, err)
	}
	if _, err := pick.ParseCondition(rules.OnlyIf); err != nil {
		return fmt.Errorf("%s%s: %w", directivePrefix, word, err)
	}
	d.AddRules(rules, from)
	return nil
}
