package host

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/internal/adapter"
)

// Discover asks a process of the host for its tests.
func (a *Adapter) Discover(ctx context.Context) (found adapter.Found, err error) {
	s := &session{adapter: a}
	defer s.Close() // how it ends after the list says nothing of the tests
	defer context.AfterFunc(ctx, s.kill)()
	if err := s.begin(ctx); err != nil {
		return found, err
	}
	list := listing{room: func(tests int) { found.Tests = slices.Grow(found.Tests, tests) }, add: func(t Test) error {
		if t.Marks != nil {
			return fmt.Errorf("the test host of suite %s lists the test %s with marks: they are now called rules", a.Suite, t.Name)
		}
		test := catalog.Test{Suite: a.Suite, Group: t.Group, Name: t.Name, Kind: cmp.Or(t.Kind, catalog.KindTest), File: a.projectFile(t.File), Line: t.Line}
		if t.Timeout > 0 {
			test.Limit = time.Duration(t.Timeout * float64(time.Second))
		}
		if !s.can(CanBeside) {
			t.Rules.Holds = append(t.Rules.Holds, "the process of "+a.Suite)
		}
		if err := found.Add(test, t.Tags, t.Rules, "the test host"); err != nil {
			return fmt.Errorf("the test host of suite %s: %w", a.Suite, err)
		}
		if t.Uses != nil {
			a.uses[catalog.ID(a.Suite, t.Group, t.Name)] = a.absolute(t.Uses)
		}
		return nil
	}}
	a.uses = map[string][]string{}
	err = s.ask(a.Limits.Idle, MethodDiscover, struct{}{}, &list)
	if list.err != nil {
		return found, list.err
	}
	if err != nil {
		return found, fmt.Errorf("the test host of suite %s does not list its tests: %w%s", a.Suite, err, s.lastWords())
	}
	found.Close("the test host")
	a.broken = map[string][]Broken{}
	for _, b := range list.broken {
		if b.Group == "" {
			return found, fmt.Errorf("the test host of suite %s reports a broken file %q without its group", a.Suite, b.File)
		}
		a.broken[b.Group] = append(a.broken[b.Group], b)
		found.Notes = append(found.Notes, fmt.Sprintf("%s:%d: the tests of group %s are missing: %s", a.projectFile(b.File), b.Line, b.Group, b.Message))
	}
	found.Bare = slices.Sorted(maps.Keys(a.broken))
	if len(found.Tests) == 0 && len(found.Bare) == 0 {
		found.Nothing = fmt.Sprintf("asked the test host %q, run in %s, for its tests, and it answered with an empty list: look into the host, or into what it reads its tests from", strings.Join(a.Command, " "), a.Dir)
	}
	return found, nil
}

// listing is a DiscoverResult that is read test by test, as there may be very many.
type listing struct {
	room func(tests int) // called with the most tests that there can be
	add  func(Test) error
	err  error // of add

	broken []Broken
}

// leastTest is the shortest form of a test in a list.
const leastTest = `{"name":"x"},`

// UnmarshalJSON adds the tests of a DiscoverResult.
func (l *listing) UnmarshalJSON(data []byte) error {
	var result struct {
		Tests  json.RawMessage `json:"tests"`
		Broken []Broken        `json:"broken"`
	}
	if err := json.Unmarshal(data, &result); err != nil {
		return err
	}
	l.broken = result.Broken
	d := json.NewDecoder(bytes.NewReader(result.Tests))
	switch begin, _ := d.Token(); begin {
	case nil:
		return nil
	case json.Delim('['):
	default:
		return fmt.Errorf("its tests begin with %v: a list is expected", begin)
	}
	l.room(min(bytes.Count(result.Tests, []byte("{")), len(result.Tests)/len(leastTest)))
	for d.More() {
		var t Test
		if err := d.Decode(&t); err != nil {
			return err
		}
		if l.err = l.add(t); l.err != nil {
			return l.err
		}
	}
	return nil
}
