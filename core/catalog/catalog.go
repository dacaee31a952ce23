// Package catalog holds what was found in a project: its tests, their groups,
// tags and rules, and the crosstab of groups and tags.
//
// A catalog keeps the order in which the adapters declared the tests, with the
// tests of one group next to each other:
//
//	c := catalog.New(found)
//	test, err := c.Find("drip#holds_when_dry")
package catalog

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Kind says what a test consists of.
type Kind string

// The kinds of test that the adapters find.
const (
	KindTest    Kind = "test"
	KindExample Kind = "example"
	KindFuzz    Kind = "fuzz"   // the seeds of a fuzz target
	KindScript  Kind = "script" // a program
)

// Test is the smallest thing that can be picked and run. It is the one type for
// a test from discovery to report, and a line of "list --json".
type Test struct {
	ID         string        `json:"id"` // suite:group#name
	Suite      string        `json:"suite"`
	Group      string        `json:"group"`
	Name       string        `json:"name"`
	Kind       Kind          `json:"kind"`
	File       string        `json:"file"`       // relative to the project, with slashes
	Line       int           `json:"line"`       // 1-based; 0 if unknown
	End        int           `json:"-"`          // its last line; 0 if unknown
	Tags       []string      `json:"tags"`       // sorted, no duplicates, never nil in a catalog
	Ruled      *Rules        `json:"rules"`      // nil for none; tests may share them, so they are replaced and never changed
	Expected   float64       `json:"expected_s"` // seconds; an estimate if Known is false
	Share      float64       `json:"-"`          // processors that it keeps busy when it runs alone; 0 if that is not known
	Spread     float64       `json:"-"`          // of Expected, in seconds: one standard deviation
	Setup      float64       `json:"-"`          // seconds that it costs to begin a batch of its group
	Together   Level         `json:"-"`          // what never runs side by side
	Limit      time.Duration `json:"-"`          // that it has of itself; 0 for the suite's
	Known      bool          `json:"-"`          // Expected was measured for this very test
	Parallel   bool          `json:"-"`          // it, or a part of it, runs side by side with others of its process
	SkipReason string        `json:"-"`          // why it does not run here; empty if it does
	Unmet      *Unmet        `json:"-"`          // the build constraint that a build here does not meet; nil for none
	Origins    []Origin      `json:"-"`          // where its tags and rules come from
	Asked      *Asked        `json:"-"`          // nil for nothing; copies of a test share it, so [Test.Ask] replaces it
}

// Unmet is a build constraint that a build with the project's own flags does not meet. Tests of a file share one.
type Unmet struct {
	Constraint string   // as in "integration && !race"
	Tags       []string // the words that a build can add to meet it, sorted
	Settled    bool     // the system or the toolchain settles it: no added word meets it
}

// Asked is what one run asks of a test.
type Asked struct {
	Steps   []string      // the only ones that run; empty for all
	Serial  bool          // nothing runs side by side in its process, for a trial
	Whole   bool          // its process is not divided if that ends badly, for a trial: other orders answer another question
	Cell    string        // tests of the same cell run after all others, in a fresh process that no other test shares; empty for none
	Limit   time.Duration // of it alone; 0 for the suite's
	Failure *KnownFailure // what the run says of a failure of a quarantined test; nil for any other test
}

// Asks returns what a run asks of the test.
func (t *Test) Asks() Asked {
	if t.Asked == nil {
		return Asked{}
	}
	return *t.Asked
}

// Ask changes what a run asks of the test.
func (t *Test) Ask(change func(a *Asked)) {
	own := t.Asks()
	change(&own)
	t.Asked = &own
}

// A KnownFailure says why the failure of a test is known.
type KnownFailure struct {
	Words string
	Ended bool // the failure is no longer owed: it is an error
}

// ID joins the parts of a test's ID.
func ID(suite, group, name string) string { return suite + ":" + group + "#" + name }

// GroupName returns the name of the test's group, suite:group, which is unique in a project.
func (t *Test) GroupName() string { return t.Suite + ":" + t.Group }

// GroupLabel returns the name of the test's group as people see it: of the group that is the suite's own folder, the suite's name.
func (t *Test) GroupLabel() string {
	if t.Group == "." {
		return t.Suite
	}
	return t.Group
}

// Parts splits an ID. One from a report of others may lack its suite, or be a name alone.
func Parts(id string) (suite, group, name string) {
	place, name, ok := strings.Cut(id, "#")
	if !ok {
		return "", "", id
	}
	if suite, group, ok = strings.Cut(place, ":"); !ok {
		suite, group = "", place
	}
	return suite, group, name
}

// Place returns the test's file and line, if they are known.
func (t *Test) Place() string {
	if t.Line == 0 {
		return t.File
	}
	return fmt.Sprintf("%s:%d", t.File, t.Line)
}

// Tagged reports whether the test carries the tag.
func (t *Test) Tagged(tag string) bool {
	_, found := slices.BinarySearch(t.Tags, tag)
	return found
}

// AddTag adds a tag, once, and says where it comes from. Copies of the test that
// share its tags keep theirs.
func (t *Test) AddTag(tag, from string) {
	at, found := slices.BinarySearch(t.Tags, tag)
	if !found {
		t.Tags = slices.Insert(slices.Clone(t.Tags), at, tag)
		t.Origins = append(slices.Clip(t.Origins), Origin{Of: tag, From: from})
	}
}

// Group is a run of neighbours in Catalog.Tests that share one place.
type Group struct {
	Suite, Name string
	First, Len  int // Catalog.Tests[First : First+Len]
}

// Catalog is the tests of a project in declared order, group by group.
type Catalog struct {
	Tests  []Test
	Groups []Group
	byID   map[string]int  // index of Tests
	system map[string]bool // the tags that come from build constraints which the system settles; nil for none
}

// New returns a catalog, which takes the tests over. Of two tests with one ID it keeps the first. It builds missing IDs from
// their parts.
func New(tests []Test) *Catalog {
	type place struct{ suite, group string }
	c := &Catalog{Tests: tests, byID: make(map[string]int, len(tests))}
	groups := map[place]int{}
	group := make([]int, len(tests)) // by test; -1 for one that is left out
	sorted := true                   // no test is left out, and the groups follow each other
	for i := range tests {
		t := &tests[i]
		t.settle()
		if _, seen := c.byID[t.ID]; seen {
			group[i], sorted = -1, false
			continue
		}
		c.byID[t.ID] = i
		c.noteSystem(t)
		at := place{t.Suite, t.Group}
		g, known := groups[at]
		if !known {
			g = len(c.Groups)
			groups[at] = g
			c.Groups = append(c.Groups, Group{Suite: t.Suite, Name: t.Group})
		}
		c.Groups[g].Len++
		group[i], sorted = g, sorted && g == len(c.Groups)-1
	}
	for g := 1; g < len(c.Groups); g++ {
		c.Groups[g].First = c.Groups[g-1].First + c.Groups[g-1].Len
	}
	if !sorted {
		c.sort(group)
	}
	return c
}

// With returns a catalog of the same tests in the same order, of which tests says other things than c does. It takes them over.
func (c *Catalog) With(tests []Test) *Catalog {
	return &Catalog{Tests: tests, Groups: c.Groups, byID: c.byID, system: c.system}
}

func (c *Catalog) noteSystem(t *Test) {
	for _, o := range t.Origins {
		if o.From != FromSystem || c.system[o.Of] {
			continue
		}
		if c.system == nil {
			c.system = map[string]bool{}
		}
		c.system[o.Of] = true
	}
}

// sort puts the tests of each group next to each other, given the group of each test, and leaves out those without one.
func (c *Catalog) sort(group []int) {
	tests := c.Tests
	next := make([]int, len(c.Groups)) // by group: the place of its next test
	for g := range next {
		next[g] = c.Groups[g].First
	}
	c.Tests = make([]Test, len(c.byID))
	for i, g := range group {
		if g >= 0 {
			c.Tests[next[g]], c.byID[tests[i].ID] = tests[i], next[g]
			next[g]++
		}
	}
}

// settle normalizes a test for a catalog.
func (t *Test) settle() {
	if t.ID == "" {
		t.ID = ID(t.Suite, t.Group, t.Name)
	}
	if suite, group, name := Parts(t.ID); suite == t.Suite && group == t.Group && name == t.Name {
		t.Group, t.Name = group, name // the same text once in memory
	}
	if !increasing(t.Tags) {
		t.Tags = slices.Compact(slices.Sorted(slices.Values(t.Tags)))
	}
	if t.Tags == nil {
		t.Tags = []string{}
	}
}

// increasing reports whether words are sorted, without one twice.
func increasing(words []string) bool {
	for i := 1; i < len(words); i++ {
		if words[i-1] >= words[i] {
			return false
		}
	}
	return true
}

// Lookup finds the test with exactly this ID.
func (c *Catalog) Lookup(id string) (*Test, bool) {
	i, ok := c.byID[id]
	if !ok {
		return nil, false
	}
	return &c.Tests[i], true
}

// Index returns the place in Tests of the test with exactly this ID.
func (c *Catalog) Index(id string) (i int, ok bool) {
	i, ok = c.byID[id]
	return i, ok
}

// FileOf returns the file of a test by its ID, "" if it is not known.
func (c *Catalog) FileOf(id string) string {
	if t, ok := c.Lookup(id); ok {
		return t.File
	}
	return ""
}

// Find finds the one test whose ID ends in the given text. A whole part (a name,
// group#name) goes before an ending that begins inside a word.
func (c *Catalog) Find(ending string) (*Test, error) {
	if t, ok := c.Lookup(ending); ok {
		return t, nil
	}
	if ending == "" {
		return nil, fmt.Errorf("an empty ID names no test: write suite:group#name or any unambiguous ending of it")
	}
	var whole, part []*Test
	for i := range c.Tests {
		id := c.Tests[i].ID
		if !strings.HasSuffix(id, ending) {
			continue
		}
		part = append(part, &c.Tests[i])
		if strings.ContainsRune(":#/", rune(id[len(id)-len(ending)-1])) {
			whole = append(whole, &c.Tests[i])
		}
	}
	matches := whole
	if len(matches) == 0 {
		matches = part
	}
	switch len(matches) {
	case 1:
		return matches[0], nil
	case 0:
		return nil, fmt.Errorf("no test has an ID that ends in %q: \"fern-relay list\" prints the IDs", ending)
	}
	return nil, fmt.Errorf("%q is the ending of %d IDs, among them %s and %s: write more of the one you mean",
		ending, len(matches), matches[0].ID, matches[1].ID)
}

// FindStep finds a test as Find does, and the step that is named behind it, as in drip#TestX/case_3; "" if it is a test
// as a whole. The part before the step is a whole name.
func (c *Catalog) FindStep(ending string) (t *Test, step string, err error) {
	if t, err = c.Find(ending); err == nil {
		return t, "", nil
	}
	for at := strings.LastIndexByte(ending, '/'); at > 0; at = strings.LastIndexByte(ending[:at], '/') {
		t, wrong := c.Find(ending[:at])
		if wrong == nil && (len(t.ID) == at || strings.ContainsRune(":#/", rune(t.ID[len(t.ID)-at-1]))) {
			return t, ending[at+1:], nil
		}
	}
	return nil, "", err
}

// Only returns the tests of a set, in the catalog's order. If the set has all tests, they are the catalog's own,
// which do not change.
func (c *Catalog) Only(held Set) []Test {
	if held.Len() == len(c.Tests) {
		return slices.Clip(c.Tests)
	}
	tests := make([]Test, 0, held.Len())
	for i := range held.All {
		tests = append(tests, c.Tests[i])
	}
	return tests
}

// Tags lists every tag that a test carries, the most carried first.
func (c *Catalog) Tags() []string {
	counts := map[string]int{}
	for i := range c.Tests {
		for _, tag := range c.Tests[i].Tags {
			counts[tag]++
		}
	}
	tags := make([]string, 0, len(counts))
	for tag := range counts {
		tags = append(tags, tag)
	}
	slices.SortFunc(tags, func(a, b string) int {
		if counts[a] != counts[b] {
			return counts[b] - counts[a]
		}
		return strings.Compare(a, b)
	})
	return tags
}

// Only returns the tests with some IDs, in the order of tests.
func Only(tests []Test, ids []string) []Test {
	wanted := make(map[string]bool, len(ids))
	for _, id := range ids {
		wanted[id] = true
	}
	var own []Test
	for i := range tests {
		if wanted[tests[i].ID] {
			own = append(own, tests[i])
		}
	}
	return own
}
