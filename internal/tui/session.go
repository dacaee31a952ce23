package tui

import (
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/outcome"
	"fernrelay/core/pick"
	"fernrelay/core/split"
	"fernrelay/internal/relay"
)

// session is what all views look at: the project, what is picked, and the
// figures that follow from it. It changes only in Update; figures come ready
// made, so that drawing never counts tests.
type session struct {
	relay  *relay.Relay
	theme  *theme
	shards int // also the number of workers of a run
	picked figures
	run    *liveRun // nil before the first of this session
	hunts  []*liveHunt
}

// figures are what follows from a pick.
type figures struct {
	text   string
	held   []bool // by index of Catalog.Tests
	tests  []catalog.Test
	weave  *catalog.Weave
	funnel []pick.Step
	plans  []split.Plan // for 1 shard, 2 shards, …
}

// maxShards is how many shards the split view goes up to.
const maxShards = 16

// evaluate works out the figures of a pick. The error is a *pick.Error.
func evaluate(c *catalog.Catalog, text string) (figures, error) {
	expr, err := pick.Parse(text)
	if err != nil {
		return figures{}, err
	}
	if err := pick.Check(text, expr, c); err != nil {
		return figures{}, err
	}
	f := figures{text: text, held: make([]bool, len(c.Tests))}
	for i := range c.Tests {
		if expr.Match(&c.Tests[i]) {
			f.held[i] = true
			f.tests = append(f.tests, c.Tests[i])
		}
	}
	f.weave = catalog.NewWeave(c, c.Tags(), func(i int) bool { return f.held[i] })
	f.funnel = pick.Funnel(expr, c)
	units, err := split.Units(f.tests, split.Group)
	if err != nil {
		return figures{}, err
	}
	for n := 1; n <= maxShards; n++ {
		f.plans = append(f.plans, split.Balance(units, n))
	}
	return f, nil
}

// columns are the tags of the weave, most carried first.
func (s *session) columns() []string { return s.picked.weave.Tags }

// plan is the plan for the present number of shards.
func (s *session) plan() *split.Plan { return &s.picked.plans[s.shards-1] }

// runPick asks for a run of what is picked.
func (s *session) runPick() action {
	if len(s.picked.tests) == 0 {
		return action{say: "the pick holds no test: there is nothing to run"}
	}
	return action{run: s.picked.tests}
}

// groupAndName takes an ID apart for the screen.
func groupAndName(id string) (group, name string) {
	place, name, _ := strings.Cut(outcome.PlainLine(id), "#")
	_, group, _ = strings.Cut(place, ":")
	return group, name
}
