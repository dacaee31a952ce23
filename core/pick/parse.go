package pick

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"
)

// Error tells what is wrong with a pick and where.
type Error struct {
	Pick    string // the whole pick
	Column  int    // from 1, in characters
	Message string // what is wrong, and what to do
}

func (e *Error) Error() string {
	return fmt.Sprintf("the pick is wrong at column %d: %s", e.Column, e.Message)
}

// Pointer shows the pick with a caret under the column, on two lines.
func (e *Error) Pointer() string {
	return e.Pick + "\n" + strings.Repeat(" ", e.Column-1) + "^"
}

// Parse reads a pick. The error, if any, is an *Error.
func Parse(text string) (Expr, error) {
	p := &parser{text: text, input: []rune(text)}
	p.next()
	if p.token.kind == tokenEnd {
		if p.err != nil {
			return nil, p.err
		}
		return All{}, nil
	}
	expr := p.or()
	if p.err == nil && p.token.kind == tokenClose {
		p.fail(p.token.at, `this ")" closes nothing: take it out, or open it with "("`)
	}
	if p.err != nil {
		return nil, p.err
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
		return &Not{p.not()}
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

// place says where the parser stands, for a message.
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
		value, _, ok := p.value()
		if ok {
			p.made(&Term{Field: "tag", Op: ":", Value: value, Column: at + 1})
		}
		return
	}
	for p.pos < len(p.input) && inWord(p.input[p.pos]) && !strings.ContainsRune(":<>=", p.input[p.pos]) {
		p.pos++
	}
	word := string(p.input[at:p.pos])
	op := p.operator()
	if op == "" {
		p.word(at, word)
		return
	}
	if _, known := fields[word]; !known || word == "tag" {
		p.fail(at, "unknown field %q: %s", word, suggest(word, fieldNames(), "the fields are "+strings.Join(fieldNames(), " ")))
		return
	}
	if op != ":" && !compared[word] {
		p.fail(at+len([]rune(word)), "%s does not compare: write %s:…", word, word)
		return
	}
	value, isRegexp, ok := p.value()
	if !ok {
		return
	}
	if value == "" {
		p.fail(p.pos, "a value is expected after %s%s", word, op)
		return
	}
	p.made(&Term{Field: word, Op: op, Value: value, Regexp: isRegexp && word == "name", Column: at + 1})
}

func (p *parser) word(at int, word string) {
	switch word {
	case "and":
		p.token.kind = tokenAnd
	case "or":
		p.token.kind = tokenOr
	case "not":
		p.token.kind = tokenNot
	case "":
		p.fail(at, "%q does not belong here: quote it if it is part of a tag", string(p.input[at]))
	default:
		p.made(&Term{Field: "tag", Op: ":", Value: word, Column: at + 1})
	}
}

func (p *parser) made(term *Term) {
	match, err := fields[term.Field](term)
	if err != nil {
		p.fail(term.Column-1, "%s", err)
		return
	}
	term.match = match
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

// value reads what stands behind an operator: bare, quoted, or an expression
// between slashes.
func (p *parser) value() (value string, isRegexp, ok bool) {
	at := p.pos
	if at == len(p.input) {
		return "", false, true
	}
	closing := p.input[at]
	if closing != '"' && closing != '/' || closing == '/' && !p.closesBeforeSpace() {
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

// closesBeforeSpace tells a regular expression from a bare value that begins
// with a slash. Only name: takes expressions, and there a slash always opens one.
func (p *parser) closesBeforeSpace() bool {
	return strings.HasSuffix(string(p.input[:p.pos]), "name:")
}

// inWord reports whether a character belongs to a bare word or value.
func inWord(r rune) bool { return !unicode.IsSpace(r) && !strings.ContainsRune(`()"`, r) }

func keyword(word string) bool { return word == "and" || word == "or" || word == "not" }

func fieldNames() []string {
	names := slices.Sorted(maps.Keys(fields))
	return slices.DeleteFunc(names, func(name string) bool { return name == "tag" })
}
