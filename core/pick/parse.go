package pick

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"
)

// Error says what is wrong with a pick and where.
type Error struct {
	Pick    string // the whole pick
	Column  int    // from 1, in characters
	Message string // what is wrong, and how to correct it
}

func (e *Error) Error() string {
	return fmt.Sprintf("the pick is wrong at column %d: %s", e.Column, e.Message)
}

// Pointer shows the pick with a caret under the column, on two lines.
func (e *Error) Pointer() string {
	return e.Pick + "\n" + strings.Repeat(" ", e.Column-1) + "^"
}

// Parse reads a pick. The error, if any, is an *Error.
//
//	pick  = [ or ]
//	or    = and { "or" and }
//	and   = not { [ "and" ] not }
//	not   = "not" not | "(" or ")" | term
//	term  = word | field ":" value | field compare value
//	value = word | quoted text | "/" expression "/"
//
// So "frost not (valve or took>2s)" reads as frost and not (valve or took>2s).
func Parse(text string) (Expr, error) { return parse(text, picks) }

func parse(text string, l *language) (Expr, error) {
	p := &parser{language: l, text: text, input: []rune(text)}
	p.next()
	if p.token.kind == tokenEnd {
		if p.err != nil {
			return nil, p.err
		}
		return All{}, nil
	}
	expr := p.or()
	if p.err == nil && p.token.kind == tokenClose {
		p.fail(p.token.at, `this ")" closes nothing: remove it, or open it with "("`)
	}
	if p.err != nil {
		return nil, p.err
	}
	if l == picks {
		restrict(expr, "")
	}
	return expr, nil
}

type tokenKind int

const (
	tokenEnd tokenKind = iota
	tokenOpen
	tokenClose
	tokenAnd
	tokenOr
	tokenNot
	tokenTerm
)

type token struct {
	kind tokenKind
	at   int // offset in characters
	term *Term
}

// parser is a lexer and a parser of one token look-ahead. After the first error
// it reads no further: every token is then the end.
type parser struct {
	*language
	text  string
	input []rune
	pos   int
	depth int
	token token
	err   error
}

// maxDepth bounds the nesting of brackets and nots.
const maxDepth = 200

func (p *parser) fail(at int, format string, args ...any) {
	if p.err == nil {
		p.err = &Error{Pick: p.text, Column: at + 1, Message: fmt.Sprintf(format, args...)}
	}
	p.token = token{kind: tokenEnd, at: at}
}

func (p *parser) or() Expr {
	left := p.and()
	for p.token.kind == tokenOr {
		p.next()
		left = &Or{left, p.and()}
	}
	return left
}

func (p *parser) and() Expr {
	left := p.not()
	for {
		switch p.token.kind {
		case tokenAnd:
			p.next()
		case tokenNot, tokenOpen, tokenTerm:
		default:
			return left
		}
		left = &And{left, p.not()}
	}
}

func (p *parser) not() Expr {
	p.depth++
	defer func() { p.depth-- }()
	if p.depth > maxDepth {
		p.fail(p.token.at, "brackets and nots are nested more than %d deep here", maxDepth)
		return All{}
	}
	at := p.token.at
	switch p.token.kind {
	case tokenNot:
		p.next()
		return &Not{X: p.not(), At: at + 1}
	case tokenOpen:
		p.next()
		inner := p.or()
		if p.err == nil && p.token.kind != tokenClose {
			p.fail(at, `this "(" is never closed: add ")"`)
			return inner
		}
		p.next()
		return inner
	case tokenTerm:
		term := p.token.term
		p.next()
		return term
	}
	p.fail(at, "a tag, a field or a bracket is expected %s", p.place())
	return All{}
}

// place describes where the parser is, for a message.
func (p *parser) place() string {
	switch p.token.kind {
	case tokenClose:
		return `before ")"`
	case tokenOr:
		return `before "or"`
	case tokenAnd:
		return `before "and"`
	}
	return "at the end"
}

// next reads the next token.
func (p *parser) next() {
	if p.err != nil {
		return
	}
	for p.pos < len(p.input) && unicode.IsSpace(p.input[p.pos]) {
		p.pos++
	}
	p.token = token{kind: tokenEnd, at: p.pos}
	if p.pos == len(p.input) {
		return
	}
	switch p.input[p.pos] {
	case '(':
		p.token.kind = tokenOpen
		p.pos++
		return
	case ')':
		p.token.kind = tokenClose
		p.pos++
		return
	}
	p.term()
}

// term reads a word, a keyword, or a field with its value.
func (p *parser) term() {
	at := p.pos
	if p.input[at] == '"' {
		if value, _, ok := p.value(false); ok {
			p.bare(at, value)
		}
		return
	}
	for p.pos < len(p.input) && inWord(p.input[p.pos]) && !strings.ContainsRune(":<>=", p.input[p.pos]) {
		p.pos++
	}
	word, end := string(p.input[at:p.pos]), p.pos
	op := p.operator()
	if op == "" {
		p.word(at, word)
		return
	}
	f, known := p.fields[word]
	if now := renamedFields[word]; now != "" && !known {
		p.fail(at, "the field %s is now called %s: write %s:…", word, now, now)
		return
	}
	if !known || f.bare {
		p.fail(at, "unknown field %q: %s", word, suggest(word, p.names(), "the fields are "+strings.Join(p.names(), " ")))
		return
	}
	if (op == ":") == f.compares {
		p.fail(end, "%s", f.wants(word))
		return
	}
	value, isRegexp, ok := p.value(f.regexp)
	if !ok {
		return
	}
	if value == "" {
		p.fail(p.pos, "a value is expected after %s%s", word, op)
		return
	}
	p.made(&Term{Field: word, Op: op, Value: value, Regexp: isRegexp, At: at + 1})
}

// word takes a word that no operator follows.
func (p *parser) word(at int, word string) {
	switch word {
	case "and":
		p.token.kind = tokenAnd
	case "or":
		p.token.kind = tokenOr
	case "not":
		p.token.kind = tokenNot
	case "":
		p.fail(at, "%q does not belong here: put it between quotes if it is part of a value", string(p.input[at]))
	default:
		if f := p.fields[word]; f != nil && f.bare && word != fieldTag {
			p.made(&Term{Field: word, At: at + 1})
			return
		}
		p.bare(at, word)
	}
}

// bare takes a word without a field, which is a tag.
func (p *parser) bare(at int, word string) {
	if p.fields[fieldTag] == nil {
		p.fail(at, "a condition is made of fields: %s", strings.Join(p.names(), " "))
		return
	}
	p.made(&Term{Field: fieldTag, Op: ":", Value: word, At: at + 1})
}

func (p *parser) made(term *Term) {
	if check := p.fields[term.Field].check; check != nil {
		if err := check(term); err != nil {
			p.fail(term.At-1, "%s", err)
			return
		}
	}
	p.token.kind, p.token.term = tokenTerm, term
}

func (p *parser) operator() string {
	rest := string(p.input[p.pos:min(p.pos+2, len(p.input))])
	for _, op := range []string{"<=", ">=", "<", ">", "=", ":"} {
		if strings.HasPrefix(rest, op) {
			p.pos += len(op)
			return op
		}
	}
	return ""
}

// value reads what follows an operator: bare, quoted, or, if the field takes one, a regular expression between
// slashes.
func (p *parser) value(regexps bool) (value string, isRegexp, ok bool) {
	at := p.pos
	if at == len(p.input) {
		return "", false, true
	}
	closing := p.input[at]
	if closing != '"' && closing != '/' || closing == '/' && !regexps {
		for p.pos < len(p.input) && inWord(p.input[p.pos]) {
			p.pos++
		}
		return string(p.input[at:p.pos]), false, true
	}
	var out strings.Builder
	for p.pos++; p.pos < len(p.input); p.pos++ {
		r := p.input[p.pos]
		switch {
		case r == closing:
			p.pos++
			return out.String(), closing == '/', true
		case r == '\\' && p.pos+1 < len(p.input) && (p.input[p.pos+1] == closing || closing == '"' && p.input[p.pos+1] == '\\'):
			p.pos++
			out.WriteRune(p.input[p.pos])
		default:
			out.WriteRune(r)
		}
	}
	p.fail(at, "this %q is never closed: add another at the end of the value", string(closing))
	return "", false, false
}

// inWord reports whether a character belongs to a bare word or value.
func inWord(r rune) bool { return !unicode.IsSpace(r) && !strings.ContainsRune(`()"`, r) }

// keyword reports whether a bare word means something else than a tag.
func keyword(word string) bool {
	f := picks.fields[word]
	return word == "and" || word == "or" || word == "not" || f != nil && f.bare && word != fieldTag
}

// names lists the fields that take a value.
func (l *language) names() []string {
	names := slices.Sorted(maps.Keys(l.fields))
	return slices.DeleteFunc(names, func(name string) bool { return l.fields[name].bare })
}

// renamedFields are the present names of fields by their earlier ones.
var renamedFields = map[string]string{"last": "was", "marked": "rule"}
