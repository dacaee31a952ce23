// Package pick is the language that selects tests.
//
//	frost                  tests that carry the tag frost (* and ? match)
//	in:irrigation/**       tests of a place: a group, a folder or a file
//	name:valve             tests with valve in their name
//	name:/^TestDrip/       the same by regular expression (RE2)
//	took>2s                tests by expected duration
//	frost not nightly      terms side by side mean and; or, not and () are there too
//
// Parse gives a tree whose String form parses back to the same tree, in the
// manner of go/build/constraint; an *Error points at the column.
package pick

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"fernrelay/core/catalog"
)

// Expr is a node of a parsed pick: *And, *Or, *Not, *Term or All.
type Expr interface {
	// Match reports whether the pick holds the test.
	Match(t *catalog.Test) bool
	// String gives the pick in a form that parses back to the same tree.
	String() string
}

// All is the empty pick: it holds every test.
type All struct{}

// And holds what both sides hold.
type And struct{ X, Y Expr }

// Or holds what either side holds.
type Or struct{ X, Y Expr }

// Not holds what X does not.
type Not struct{ X Expr }

// Term is a tag or a field with a value.
type Term struct {
	Field  string // "tag" for a bare word
	Op     string // ":" or a comparison
	Value  string
	Regexp bool // Value stood between slashes
	Column int  // of its first character in the pick, from 1, in characters

	match func(*catalog.Test) bool
}

func (All) Match(*catalog.Test) bool { return true }
func (All) String() string           { return "" }

func (e *And) Match(t *catalog.Test) bool { return e.X.Match(t) && e.Y.Match(t) }
func (e *Or) Match(t *catalog.Test) bool  { return e.X.Match(t) || e.Y.Match(t) }
func (e *Not) Match(t *catalog.Test) bool { return !e.X.Match(t) }

// Match reports whether the test has what the term asks for.
func (e *Term) Match(t *catalog.Test) bool { return e.match(t) }

func (e *And) String() string { return side(e.X, isOr) + " " + side(e.Y, isOrAnd) }
func (e *Or) String() string  { return e.X.String() + " or " + side(e.Y, isOr) }
func (e *Not) String() string { return "not " + side(e.X, isOrAnd) }

func (e *Term) String() string {
	value := e.Value
	switch {
	case e.Regexp:
		value = "/" + strings.ReplaceAll(value, "/", `\/`) + "/"
	case value == "" || strings.IndexFunc(value, func(r rune) bool { return !inWord(r) }) >= 0 || value[0] == '/' && e.Field == "name":
		value = quote(value)
	case e.Field == "tag" && (keyword(value) || strings.ContainsAny(value, ":<>=")):
		value = quote(value)
	}
	if e.Field == "tag" {
		return value
	}
	return e.Field + e.Op + value
}

func isOr(e Expr) bool {
	_, ok := e.(*Or)
	return ok
}

func isOrAnd(e Expr) bool {
	_, and := e.(*And)
	return and || isOr(e)
}

func side(e Expr, brackets func(Expr) bool) string {
	if brackets(e) {
		return "(" + e.String() + ")"
	}
	return e.String()
}

func quote(value string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value) + `"`
}

// Clauses lists the parts of a pick that stand side by side at its top: each
// narrows what the ones before it left.
func Clauses(e Expr) []Expr {
	switch e := e.(type) {
	case All:
		return nil
	case *And:
		return append(Clauses(e.X), Clauses(e.Y)...)
	}
	return []Expr{e}
}

// Terms calls visit for every term of a pick, from left to right.
func Terms(e Expr, visit func(*Term)) {
	switch e := e.(type) {
	case *And:
		Terms(e.X, visit)
		Terms(e.Y, visit)
	case *Or:
		Terms(e.X, visit)
		Terms(e.Y, visit)
	case *Not:
		Terms(e.X, visit)
	case *Term:
		visit(e)
	}
}

// fields are the fields of the language: each makes the match function of a term.
var fields = map[string]func(e *Term) (func(*catalog.Test) bool, error){
	"tag":   tagField,
	"in":    placeField,
	"name":  nameField,
	"suite": exactField(func(t *catalog.Test) string { return t.Suite }),
	"kind":  exactField(func(t *catalog.Test) string { return string(t.Kind) }),
	"id":    exactField(func(t *catalog.Test) string { return t.ID }),
	"took":  tookField,
}

// compared lists the fields that take a comparison.
var compared = map[string]bool{"took": true}

func tagField(e *Term) (func(*catalog.Test) bool, error) {
	if !strings.ContainsAny(e.Value, "*?") {
		return func(t *catalog.Test) bool { return t.Tagged(e.Value) }, nil
	}
	glob := globRegexp(e.Value, ".*")
	return func(t *catalog.Test) bool {
		for _, tag := range t.Tags {
			if glob.MatchString(tag) {
				return true
			}
		}
		return false
	}, nil
}

func placeField(e *Term) (func(*catalog.Test) bool, error) {
	pattern := strings.TrimSuffix(strings.TrimPrefix(e.Value, "./"), "/")
	glob := globRegexp(pattern, "[^/]*")
	base := !strings.Contains(pattern, "/")
	return func(t *catalog.Test) bool {
		if glob.MatchString(t.Group) || glob.MatchString(t.File) {
			return true
		}
		cut := strings.LastIndexByte(t.File, '/')
		if cut < 0 {
			return false
		}
		return glob.MatchString(t.File[:cut]) || base && glob.MatchString(t.File[cut+1:])
	}, nil
}

func nameField(e *Term) (func(*catalog.Test) bool, error) {
	if !e.Regexp {
		return func(t *catalog.Test) bool { return strings.Contains(t.Name, e.Value) }, nil
	}
	re, err := regexp.Compile(e.Value)
	if err != nil {
		return nil, fmt.Errorf("the regular expression does not parse: %s",
			strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	return func(t *catalog.Test) bool { return re.MatchString(t.Name) }, nil
}

func exactField(of func(*catalog.Test) string) func(*Term) (func(*catalog.Test) bool, error) {
	return func(e *Term) (func(*catalog.Test) bool, error) {
		return func(t *catalog.Test) bool { return of(t) == e.Value }, nil
	}
}

func tookField(e *Term) (func(*catalog.Test) bool, error) {
	limit, err := time.ParseDuration(e.Value)
	if err != nil {
		n, plain := strconv.ParseFloat(e.Value, 64)
		if plain != nil {
			return nil, fmt.Errorf("%q is not a duration: write it like 200ms, 1.5s or 2m", e.Value)
		}
		limit = time.Duration(n * float64(time.Second))
	}
	seconds := limit.Seconds()
	compare, ok := comparisons[e.Op]
	if !ok {
		return nil, fmt.Errorf("took compares: write took>%s or took<=%s", e.Value, e.Value)
	}
	return func(t *catalog.Test) bool { return compare(t.Expected, seconds) }, nil
}

var comparisons = map[string]func(a, b float64) bool{
	"<":  func(a, b float64) bool { return a < b },
	"<=": func(a, b float64) bool { return a <= b },
	">":  func(a, b float64) bool { return a > b },
	">=": func(a, b float64) bool { return a >= b },
	"=":  func(a, b float64) bool { return a == b },
}

// globRegexp turns a glob into an expression that matches the whole text. star
// is what a single * matches; ** crosses folders.
func globRegexp(glob, star string) *regexp.Regexp {
	var out strings.Builder
	out.WriteString(`^(?s:`)
	for i := 0; i < len(glob); {
		rest := glob[i:]
		switch {
		case rest == "/**":
			out.WriteString(`(?:/.*)?`)
			i += 3
		case strings.HasPrefix(rest, "**/"):
			out.WriteString(`(?:.*/)?`)
			i += 3
		case strings.HasPrefix(rest, "**"):
			out.WriteString(`.*`)
			i += 2
		case rest[0] == '*':
			out.WriteString(star)
			i++
		case rest[0] == '?':
			out.WriteString(`[^/]`)
			i++
		default:
			end := strings.IndexAny(rest, "*?")
			if end < 0 {
				end = len(rest)
			}
			if slash := strings.Index(rest, "/**"); slash == 0 {
				end = 1
			} else if slash > 0 && slash < end {
				end = slash
			}
			out.WriteString(regexp.QuoteMeta(rest[:end]))
			i += end
		}
	}
	out.WriteString(`)$`)
	return regexp.MustCompile(out.String())
}
