// Package cause groups the failures of a run by their origin: the place in the project's code that they share,
// the resource that they lack, or the words that they have in common.
//
//	for _, c := range cause.Group(r.Troubled(), cause.OwnIn(dir)) {
//		fmt.Println(len(c.Results), "tests:", c.Words)
//	}
//
// The signs of a cause are the same in other runs, so that it can be recognised there.
package cause

import (
	"cmp"
	"fernrelay/core/internal/parallel"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fmt"
	"path"
	"slices"
	"strings"
)

// Cause is what failures have in common that have one origin.
type Cause struct {
	Words   string        // what the failures say, in the words of the first
	Origin  Frame         // the deepest frame in the project's own code that all of them share; zero if there is none
	Path    []Frame       // from there outward, the part that they share
	Lacks   *Resource     // what is missing, if that is the cause
	Results []*run.Result // in the order in which their tests ended
	Signs   []string      // of the failures, each once; the same in other runs
}

// failing is a failure as it is compared with others.
type failing struct {
	result  *run.Result
	frames  []Frame // of the project's own code, the deepest first
	origin  Frame   // the deepest of them that is not the test's own line; zero if there is none
	words   string  // the first line of what brought it about
	alike   string
	informs bool
	signal  string // that ended the process, such as KILL; empty if none is known
	lacks   *Resource
}

// The bytes that are read of the beginning and of the end of an output, and the number of failures of a run whose
// output is read: of more, the messages say enough.
const (
	headRead    = 4 << 10
	tailRead    = 12 << 10
	outputsRead = 2000
)

func newFailing(r *run.Result, own func(string) (string, bool), withOutput bool) failing {
	f := failing{result: r, words: firstLine(r.Message)}
	text := plain.Text(r.Message)
	output := ""
	if withOutput {
		output = plain.Text(ends(string(r.Output)))
		text += "\n" + output
	}
	chain, root := chained(text)
	if root != "" {
		f.words = root
	}
	for _, part := range chain {
		f.frames = append(f.frames, ownFrames(part, own)...)
	}
	f.signal = endingSignal(f.words)
	if exitOnly().MatchString(f.words) && len(f.frames) == 0 {
		f.words = cmp.Or(lastInformative(output), f.words)
	}
	f.alike = alike(f.words)
	f.informs = f.signal == "" && informative(f.alike) && !classOnly().MatchString(f.words)
	if lacks, ok := lacked(text); ok {
		f.lacks = &lacks
	}
	return f
}

// ends are the beginning and the end of a long text.
func ends(text string) string {
	if len(text) <= headRead+tailRead {
		return text
	}
	return text[:headRead] + "\n" + text[len(text)-tailRead:]
}

// place is the test's own line.
func (f *failing) place() string {
	if at := f.result.Where(); at != "" {
		return at
	}
	if len(f.frames) > 0 {
		return f.frames[0].String()
	}
	return f.result.ID
}

// sign names the cause of a failure by itself, so that it can be recognised in other runs. Lines move from
// revision to revision: the sign has none.
func (f *failing) sign() string {
	group, _, _ := strings.Cut(f.result.ID, "#")
	switch {
	case f.lacks != nil:
		return "lacks " + f.lacks.Kind + " " + f.lacks.Name
	case f.result.Outcome == run.TimedOut && f.origin.File == "":
		return "time " + group
	case f.signal != "" && f.origin.File == "":
		return "signal " + f.signal + f.reach(group)
	case f.origin.File != "" && f.informs:
		return "at " + f.origin.File + " " + f.origin.Function + " says " + f.alike
	case f.origin.File != "":
		return "at " + f.origin.File + " " + f.origin.Function
	case f.informs:
		return "says " + f.alike
	}
	return "in " + group + " " + path.Base(f.result.File) + " " + f.alike
}

// reach is the part of the tests in which failures by the same signal have one cause: a process that is killed
// from outside says nothing about its tests, others do about their group.
func (f *failing) reach(group string) string {
	if f.signal == "KILL" || f.signal == "TERM" {
		return ""
	}
	return " " + group
}

// Signs returns the sign of the cause of every failure, by ID.
func Signs(bad []*run.Result, own func(file string) (name string, own bool)) map[string]string {
	signs := make(map[string]string, len(bad))
	for _, f := range failings(bad, own) {
		signs[f.result.ID] = f.sign()
	}
	return signs
}

// failings prepares failures to be compared.
func failings(bad []*run.Result, own func(file string) (name string, own bool)) []failing {
	all := make([]failing, len(bad))
	parallel.Do(len(bad), func(i int) { all[i] = newFailing(bad[i], own, i < outputsRead) })
	trimOutward(all)
	return all
}

// Group groups failures by their origin, the largest group first. Failures belong together
//
//   - that lack the same resource;
//   - that went wrong at the same line of the project's own code, beneath the tests, with
//     messages that do not contradict each other;
//   - that have the same message except for values, times, places and at most one word, if
//     the message says more than that something was not as expected;
//   - that say no more than that, at the same line of the same test file;
//   - whose processes the same signal ended, without a place: for a signal from outside all
//     of them, for others those in the same group;
//   - that took too long in the same group, without a place.
//
// Of errors that caused each other the first one counts.
func Group(bad []*run.Result, own func(file string) (name string, own bool)) []Cause {
	all := failings(bad, own)
	g := newGrouping(len(all))
	said := map[Frame][]string{} // by origin: what is said there, differing from each other
	for i := range all {
		f := &all[i]
		switch {
		case f.lacks != nil:
			g.join(i, f.sign())
			continue
		case f.origin.File != "":
			at := Frame{File: f.origin.File, Line: f.origin.Line}
			n := slices.IndexFunc(said[at], func(other string) bool { return similar(f.alike, other) })
			if n < 0 {
				n = len(said[at])
				said[at] = append(said[at], f.alike)
			}
			g.join(i, fmt.Sprint("at ", at, " ", n))
		case f.result.Outcome == run.TimedOut, f.signal != "":
			g.join(i, f.sign())
			continue
		case !f.informs:
			g.join(i, "in "+f.place()+" "+f.alike)
		}
		if f.informs {
			for _, key := range templates(f.alike) {
				g.join(i, "says "+key)
			}
		}
	}
	return g.causes(all)
}

// similar reports whether two messages of one origin may have one cause: if either says nothing, or if they share
// a third of their words.
func similar(a, b string) bool {
	if !informative(a) || !informative(b) {
		return true
	}
	x, y := content(a), content(b)
	shared := 0
	for _, w := range x {
		if slices.Contains(y, w) {
			shared++
		}
	}
	return 3*shared >= len(x)+len(y)-shared
}

// The least and the most words of a message in which one may differ.
const (
	leastTemplate = 5
	mostTemplate  = 24
)

// templates returns a message and, if it is long enough, the message with each word left open in turn.
func templates(message string) []string {
	keys := []string{message}
	words := strings.Fields(message)
	if len(content(message)) < leastTemplate-1 || len(words) < leastTemplate || len(words) > mostTemplate {
		return keys
	}
	for i, w := range words {
		if strings.IndexFunc(w, isLetter) < 0 {
			continue
		}
		words[i] = "_"
		keys = append(keys, strings.Join(words, " "))
		words[i] = w
	}
	return keys
}

// grouping joins failures that share a key: a union of sets (Tarjan 1975).
type grouping struct {
	above []int
	first map[string]int // by key: the first that had it
}

func newGrouping(n int) *grouping {
	g := &grouping{above: make([]int, n), first: map[string]int{}}
	for i := range g.above {
		g.above[i] = i
	}
	return g
}

func (g *grouping) root(i int) int {
	for g.above[i] != i {
		g.above[i] = g.above[g.above[i]]
		i = g.above[i]
	}
	return i
}

func (g *grouping) join(i int, key string) {
	if other, ok := g.first[key]; ok {
		g.above[g.root(i)] = g.root(other)
		return
	}
	g.first[key] = i
}

func (g *grouping) causes(all []failing) []Cause {
	members := map[int][]*failing{}
	var roots []int
	for i := range all {
		root := g.root(i)
		if members[root] == nil {
			roots = append(roots, root)
		}
		members[root] = append(members[root], &all[i])
	}
	causes := make([]Cause, len(roots))
	for i, root := range roots {
		causes[i] = causeOf(members[root])
	}
	slices.SortStableFunc(causes, func(a, b Cause) int { return cmp.Compare(len(b.Results), len(a.Results)) })
	return causes
}

// causeOf says what failures that belong together have in common.
func causeOf(members []*failing) Cause {
	first := members[0]
	c := Cause{Words: cmp.Or(first.words, firstLine(string(first.result.Output)), string(first.result.Outcome)), Lacks: first.lacks, Path: first.frames}
	for _, f := range members {
		c.Results = append(c.Results, f.result)
		if sign := f.sign(); !slices.Contains(c.Signs, sign) {
			c.Signs = append(c.Signs, sign)
		}
		c.Path = slices.DeleteFunc(slices.Clone(c.Path), func(own Frame) bool { return !slices.Contains(f.frames, own) })
	}
	if at := slices.IndexFunc(c.Path, func(f Frame) bool { return !f.inTest() }); at > 0 {
		c.Path = c.Path[at:]
	}
	if len(c.Path) > 0 {
		c.Origin = c.Path[0]
	}
	return c
}
