package pick

import (
	"encoding/binary"
	"math/bits"
	"regexp/syntax"
	"slices"
	"unicode/utf8"
)

// matcher finds out which of some regular expressions (RE2) match a part of a text, all in one pass. It is a
// deterministic automaton whose states are built when they are first reached (Thompson's construction by subsets,
// as in Cox, "Regular Expression Matching Can Be Simple And Fast", 2007): a step for a character is one look into
// a table, so that a pick can be evaluated over a large catalog while it is typed. Two goroutines must not use a
// matcher at once.
type matcher struct {
	insts  []syntax.Inst // of all expressions, one behind the other
	owner  []uint8       // by instruction: its expression
	starts []uint32      // by expression
	again  []bool        // by expression: it can match from any place on
	all    uint64        // the set of all expressions
	states map[string]*state
	first  *state
	marked []uint32 // by instruction: the visit that saw it
	visit  uint32
	clears int // how often the states were rebuilt
}

// state is the expressions that have matched, a set of instructions at which threads wait before a character, and
// the kind of the character before, which decides about word boundaries.
type state struct {
	matched uint64
	threads []uint32
	before  rune // -1 at the beginning, 'a' behind a word character, ' ' behind another
	next    [utf8.RuneSelf]*state
	others  map[rune]*state
	final   bool    // nothing can change
	last    *uint64 // what has matched if the text ends here; nil while unknown
}

const (
	// mostTogether is the number of expressions that one matcher takes.
	mostTogether = 64
	// maxStates bounds the table of a matcher, which is rebuilt when it is full.
	maxStates = 2000
)

func newMatcher(expressions ...string) (*matcher, error) {
	m := &matcher{all: ^uint64(0) >> (mostTogether - len(expressions))}
	for i, expression := range expressions {
		parsed, err := syntax.Parse(expression, syntax.Perl)
		if err != nil {
			return nil, err
		}
		prog, err := syntax.Compile(parsed.Simplify())
		if err != nil {
			return nil, err
		}
		offset := uint32(len(m.insts))
		for _, in := range prog.Inst {
			in.Out += offset
			if in.Op == syntax.InstAlt || in.Op == syntax.InstAltMatch {
				in.Arg += offset
			}
			m.insts, m.owner = append(m.insts, in), append(m.owner, uint8(i))
		}
		m.starts = append(m.starts, offset+uint32(prog.Start))
		m.again = append(m.again, prog.StartCond()&syntax.EmptyBeginText == 0)
	}
	m.marked = make([]uint32, len(m.insts))
	m.clear()
	return m, nil
}

func (m *matcher) clear() {
	m.states = map[string]*state{}
	m.first = m.state(0, slices.Clone(m.starts), -1)
}

// match returns the set of the expressions that match a part of the text.
func (m *matcher) match(text string) uint64 {
	if len(m.states) > maxStates {
		m.clear()
		m.clears++
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
			return s.matched
		}
	}
	if s.last == nil {
		_, matched := m.reach(s, -1)
		s.last = &matched
	}
	return *s.last
}

// other returns the state after a character that is not ASCII.
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

// step returns the state after a character.
func (m *matcher) step(s *state, r rune) *state {
	waiting, matched := m.reach(s, r)
	var threads []uint32
	for _, pc := range waiting {
		if in := &m.insts[pc]; matched&(1<<m.owner[pc]) == 0 && in.MatchRune(r) {
			threads = append(threads, in.Out)
		}
	}
	for left := m.all &^ matched; left != 0; left &= left - 1 {
		if i := bits.TrailingZeros64(left); m.again[i] {
			threads = append(threads, m.starts[i])
		}
	}
	before := ' '
	if syntax.IsWordChar(r) {
		before = 'a'
	}
	if r == '\n' {
		before = r
	}
	return m.state(matched, threads, before)
}

// state returns the state with these threads.
func (m *matcher) state(matched uint64, threads []uint32, before rune) *state {
	slices.Sort(threads)
	threads = slices.Compact(threads)
	key := binary.LittleEndian.AppendUint64(nil, matched)
	key = utf8.AppendRune(key, before+1)
	for _, pc := range threads {
		key = binary.LittleEndian.AppendUint32(key, pc)
	}
	s := m.states[string(key)]
	if s == nil {
		s = &state{matched: matched, threads: threads, before: before, final: len(threads) == 0}
		m.states[string(key)] = s
	}
	return s
}

// reach follows the instructions that consume no character, where r comes next, -1 at the end of the text. It
// returns the instructions that wait for a character, and the set of the expressions that have matched.
func (m *matcher) reach(s *state, r rune) (waiting []uint32, matched uint64) {
	m.visit++
	matched = s.matched
	here := syntax.EmptyOpContext(s.before, r)
	stack := slices.Clone(s.threads)
	for len(stack) > 0 {
		pc := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if m.marked[pc] == m.visit {
			continue
		}
		m.marked[pc] = m.visit
		switch in := &m.insts[pc]; in.Op {
		case syntax.InstMatch:
			matched |= 1 << m.owner[pc]
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
	return waiting, matched
}
