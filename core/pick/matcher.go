package pick

import (
	"regexp/syntax"
	"slices"
	"strings"
	"unicode/utf8"
)

// matcher tells whether a regular expression (RE2) matches some part of a text.
// It is a deterministic automaton whose states are made when they are first
// come to (Thompson's construction by subsets, as in Cox, "Regular Expression
// Matching Can Be Simple And Fast", 2007): a step for a character is one look
// into a table, which is what lets a pick go through a large catalog while it is
// typed. A matcher must not be used by two goroutines at once.
type matcher struct {
	prog     *syntax.Prog
	anchored bool // it can only match from the beginning on
	states   map[string]*state
	first    *state
	marked   []uint32 // by instruction: the visit that saw it
	visit    uint32
}

// state is a set of instructions at which threads wait before a character, and
// what the character before was, by which word boundaries are told.
type state struct {
	threads []uint32
	before  rune // -1 at the beginning, 'a' behind a word character, ' ' behind another
	next    [utf8.RuneSelf]*state
	others  map[rune]*state
	final   bool  // it is matched or dead
	last    *bool // whether the text may end here with a match; nil while unknown
}

// matched and dead are the states from which nothing changes any more.
var matched, dead = &state{final: true}, &state{final: true}

// maxStates bounds the table of a matcher; it is made anew when it is full.
const maxStates = 2000

func newMatcher(expression string) (*matcher, error) {
	parsed, err := syntax.Parse(expression, syntax.Perl)
	if err != nil {
		return nil, err
	}
	prog, err := syntax.Compile(parsed.Simplify())
	if err != nil {
		return nil, err
	}
	m := &matcher{prog: prog, anchored: prog.StartCond()&syntax.EmptyBeginText != 0, marked: make([]uint32, len(prog.Inst))}
	m.clear()
	return m, nil
}

func (m *matcher) clear() {
	m.states = map[string]*state{}
	m.first = m.state([]uint32{uint32(m.prog.Start)}, -1)
}

// match reports whether the expression matches some part of the text.
func (m *matcher) match(text string) bool {
	if len(m.states) > maxStates {
		m.clear()
	}
	s := m.first
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRuneInString(text[i:])
			s = m.other(s, r)
			i += size - 1
		} else if next := s.next[c]; next != nil {
			s = next
		} else {
			s.next[c] = m.step(s, rune(c))
			s = s.next[c]
		}
		if s.final {
			return s == matched
		}
	}
	if s.last == nil {
		_, ends := m.reach(s, -1)
		s.last = &ends
	}
	return *s.last
}

// other gives the state behind a character that is not ASCII.
func (m *matcher) other(s *state, r rune) *state {
	next := s.others[r]
	if next == nil {
		next = m.step(s, r)
		if s.others == nil {
			s.others = map[rune]*state{}
		}
		s.others[r] = next
	}
	return next
}

// step gives the state behind a character.
func (m *matcher) step(s *state, r rune) *state {
	waiting, ends := m.reach(s, r)
	if ends {
		return matched
	}
	var threads []uint32
	for _, pc := range waiting {
		if in := &m.prog.Inst[pc]; in.MatchRune(r) {
			threads = append(threads, in.Out)
		}
	}
	if !m.anchored {
		threads = append(threads, uint32(m.prog.Start))
	}
	if len(threads) == 0 {
		return dead
	}
	before := ' '
	if syntax.IsWordChar(r) {
		before = 'a'
	}
	if r == '\n' {
		before = r
	}
	return m.state(threads, before)
}

// state gives the one state with these threads.
func (m *matcher) state(threads []uint32, before rune) *state {
	slices.Sort(threads)
	threads = slices.Compact(threads)
	var key strings.Builder
	key.WriteRune(before + 1)
	for _, pc := range threads {
		key.WriteRune(rune(pc))
	}
	s := m.states[key.String()]
	if s == nil {
		s = &state{threads: threads, before: before}
		m.states[key.String()] = s
	}
	return s
}

// reach follows what takes no character, where r comes next, -1 at the end of
// the text. It gives the instructions that wait for a character, and whether the
// expression has matched.
func (m *matcher) reach(s *state, r rune) (waiting []uint32, ends bool) {
	m.visit++
	here := syntax.EmptyOpContext(s.before, r)
	stack := slices.Clone(s.threads)
	for len(stack) > 0 {
		pc := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if m.marked[pc] == m.visit {
			continue
		}
		m.marked[pc] = m.visit
		switch in := &m.prog.Inst[pc]; in.Op {
		case syntax.InstMatch:
			return nil, true
		case syntax.InstAlt, syntax.InstAltMatch:
			stack = append(stack, in.Out, in.Arg)
		case syntax.InstCapture, syntax.InstNop:
			stack = append(stack, in.Out)
		case syntax.InstEmptyWidth:
			if syntax.EmptyOp(in.Arg)&^here == 0 {
				stack = append(stack, in.Out)
			}
		case syntax.InstFail:
		default:
			waiting = append(waiting, pc)
		}
	}
	return waiting, false
}
