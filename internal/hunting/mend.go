package hunting

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/aymanbagabas/go-udiff"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/engine"
	"fernrelay/internal/mend"
	"fernrelay/internal/owned"
	"fernrelay/internal/project"
	"fernrelay/internal/wholefile"
)

// Patch is a change of a test that makes its victim independent of it. It was tried.
type Patch struct {
	Victim string
	Test   string   // that is changed
	File   string   // absolute
	Diff   string   // unified; git apply takes it in the project's repository
	Trials []string // what was tried, in words
	before []byte
	after  []byte
}

// mostPatches bounds the changes that are tried.
const mostPatches = 5

// Mend looks for the smallest change with which the culprits of a finding restore the state that they leave, or a brittle
// victim sets it up, and tries it: nothing is written into the project. The error says why there is none.
func (a Hunting) Mend(ctx context.Context, f hunt.Finding, progress func(what string)) (*Patch, error) {
	if err := mendable(f); err != nil {
		return nil, err
	}
	victim := a.toTry([]string{f.ID})[0]
	p := &patchTrial{app: a, finding: f, victim: victim, culprits: a.toTry(f.Culprits[0]), group: a.declared(&victim)}
	var reasons []error
	tried := 0
	changed := p.culprits
	if f.Verdict == hunt.Brittle {
		changed = []catalog.Test{victim}
	}
	for _, test := range slices.Backward(changed) {
		if tried == mostPatches {
			break
		}
		candidates, err := a.candidates(ctx, &test, f)
		if err != nil {
			reasons = append(reasons, err)
			continue
		}
		for _, c := range candidates[:min(len(candidates), mostPatches-tried)] {
			tried++
			progress(fmt.Sprintf("change %d of %s", tried, test.Name))
			err := p.build(ctx, c)
			if err == nil {
				return a.newPatch(ctx, f.ID, test.ID, c, p.trials), nil
			}
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			reasons = append(reasons, fmt.Errorf("change %d of %s: %w", tried, test.Name, err))
		}
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return nil, fmt.Errorf("no change is a repair: %w", errors.Join(reasons...))
}

// mendable says why no patch can follow from a finding.
func mendable(f hunt.Finding) error {
	switch {
	case len(f.Culprits) == 0:
		return errors.New("no culprit is known: there is nothing to repair")
	case f.Overlap:
		return errors.New("the tests disturb each other only while both run: let both hold the resource that they share")
	}
	return nil
}

// candidates returns the changes of a test that are worth a trial: of a culprit, or of a victim that passes only after
// its culprits.
func (a Hunting) candidates(ctx context.Context, test *catalog.Test, f hunt.Finding) ([]mend.Candidate, error) {
	if r, ok := a.Adapters[test.Suite].(adapter.Repairer); ok {
		return a.proposed(ctx, r, test, f)
	}
	t, err := a.goSource(ctx, test)
	if err != nil {
		return nil, err
	}
	if f.Verdict == hunt.Brittle {
		others := sync.OnceValues(func() ([]*mend.Test, error) { return a.goSources(ctx, f.Culprits[0]) })
		return t.SetUps(f.Changed, others)
	}
	return t.Candidates(f.Changed)
}

// proposed returns the changes of a culprit, or of a victim that passes only after its culprits, that the adapter of its suite proposes.
func (a Hunting) proposed(ctx context.Context, r adapter.Repairer, test *catalog.Test, f hunt.Finding) (candidates []mend.Candidate, err error) {
	switch {
	case len(f.Changed) == 0:
		return nil, errors.New("no state is known that it leaves")
	case !filepath.IsLocal(filepath.FromSlash(test.File)):
		return nil, fmt.Errorf("%s is in %q, outside of the project", test.ID, test.File)
	}
	file := filepath.Join(a.Project.Dir, filepath.FromSlash(test.File))
	before, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	contents, err := r.Repairs(ctx, test, f.Changed, f.Verdict == hunt.Brittle)
	for _, content := range contents {
		candidates = append(candidates, mend.Candidate{File: file, Before: before, Content: content})
	}
	return candidates, err
}

// goSource reads the package of a test.
func (a Hunting) goSource(ctx context.Context, test *catalog.Test) (*mend.Test, error) {
	at, ok := a.GoTest(test)
	if !ok {
		return nil, fmt.Errorf("%s is not in Go source", test.ID)
	}
	return mend.Load(ctx, a.Project.Dir, mend.Place{File: at.File, Function: at.Function}, at.Flags)
}

// goSources reads the packages of tests.
func (a Hunting) goSources(ctx context.Context, ids []string) ([]*mend.Test, error) {
	var sources []*mend.Test
	for _, test := range a.toTry(ids) {
		t, err := a.goSource(ctx, &test)
		if err != nil {
			return nil, err
		}
		sources = append(sources, t)
	}
	return sources, nil
}

// timesTried is how often the order that failed, or a brittle victim alone, is tried with a patch.
const timesTried = 5

// declared returns the tests of a test's group that run, in their declared order.
func (a Hunting) declared(of *catalog.Test) (tests []catalog.Test) {
	for _, t := range a.Catalog.Tests {
		if t.Suite == of.Suite && t.Group == of.Group && t.SkipReason == "" && (t.Unmet == nil || of.Unmet != nil) {
			bound(&t)
			tests = append(tests, t)
		}
	}
	return tests
}

// patchTrial tries changes, one after the other.
type patchTrial struct {
	app      Hunting
	finding  hunt.Finding
	victim   catalog.Test
	culprits []catalog.Test
	group    []catalog.Test         // of the victim, in declared order
	without  map[string]run.Outcome // of the group in that order without a change; nil before it is known
	trials   []string               // what was well with the latest change, in words
}

// build builds the tests with a change, beside the project, and tries them. The error says what is not well.
func (p *patchTrial) build(ctx context.Context, c mend.Candidate) error {
	store, err := p.app.Project.Store()
	if err != nil {
		return err
	}
	record := owned.Begin(p.app.Project.Records())
	defer record.Close()
	folder, err := record.MakeFolder(store)
	if err != nil {
		return err
	}
	defer folder.Remove()
	if p.without == nil {
		if p.without, err = p.outcomes(ctx, p.app.Adapters); err != nil {
			return err
		}
	}
	adapters, err := p.app.WithSources(p.victim.Suite, folder.Path(), map[string][]byte{c.File: c.Content})
	if err != nil {
		return err
	}
	p.trials = nil
	return p.try(ctx, adapters)
}

// pool opens a pool of one worker, with tests prepared.
func (p *patchTrial) pool(ctx context.Context, adapters map[string]adapter.Adapter) (*engine.Pool, error) {
	var tests []*catalog.Test
	for _, t := range slices.Concat(p.culprits, p.group, []catalog.Test{p.victim}) {
		tests = append(tests, &t)
	}
	if err := adapters[p.victim.Suite].Prepare(ctx, tests, func(string) {}); err != nil {
		return nil, err
	}
	pool, err := p.app.newPool(adapters)
	if err != nil {
		return nil, err
	}
	if err := pool.Prepare(ctx, 1); err != nil {
		return nil, errors.Join(err, pool.Close())
	}
	return pool, nil
}

// outcomes returns the outcomes of the group in its declared order.
func (p *patchTrial) outcomes(ctx context.Context, adapters map[string]adapter.Adapter) (map[string]run.Outcome, error) {
	pool, err := p.pool(ctx, adapters)
	if err != nil {
		return nil, err
	}
	defer pool.Close()
	return pool.Outcomes(ctx, p.group)
}

// try runs each culprit and the victim alone, the order that failed, its reverse, and the victim's group in its declared
// order, which must not be worse than without the change; and it compares the state that the culprits leave with a
// fresh one. It returns the first that is not well.
func (p *patchTrial) try(ctx context.Context, adapters map[string]adapter.Adapter) error {
	pool, err := p.pool(ctx, adapters)
	if err != nil {
		return err
	}
	defer pool.Close()
	order := append(slices.Clone(p.culprits), p.victim)
	alone, after, what := 1, timesTried, "the order that failed"
	if p.finding.Verdict == hunt.Brittle {
		alone, after, what = timesTried, 1, p.victim.Name+" after its culprits"
	}
	for _, t := range order {
		times := 1
		if t.ID == p.victim.ID {
			times = alone
		}
		if err := p.well(ctx, pool, []catalog.Test{t}, times, t.Name+" alone"); err != nil {
			return err
		}
	}
	if err := p.well(ctx, pool, order, after, what); err != nil {
		return err
	}
	reversed := slices.Clone(order)
	slices.Reverse(reversed)
	if err := p.well(ctx, pool, reversed, 1, "its reverse"); err != nil {
		return err
	}
	outcomes, err := pool.Outcomes(ctx, p.group)
	if err != nil {
		return err
	}
	for _, t := range p.group {
		if o := outcomes[t.ID]; (o.Bad() || o == "") && (!p.without[t.ID].Bad() || t.ID == p.victim.ID) {
			return fmt.Errorf("in the declared order of its group %s is %s", t.Name, o)
		}
	}
	p.trials = append(p.trials, "the group in its declared order: no test is worse")
	if p.finding.Verdict == hunt.Brittle {
		return nil // what the culprits leave is not the fault
	}
	return p.fresh(ctx, pool)
}

// well runs tests in order, and is an error if one of them is not well each time.
func (p *patchTrial) well(ctx context.Context, pool *engine.Pool, tests []catalog.Test, times int, what string) error {
	for range times {
		outcomes, err := pool.Outcomes(ctx, tests)
		if err != nil {
			return err
		}
		for _, t := range tests {
			if o := outcomes[t.ID]; o != run.Passed {
				return fmt.Errorf("%s: %s is %s", what, t.Name, o)
			}
		}
	}
	if times == 1 {
		p.trials = append(p.trials, what+": passed")
		return nil
	}
	p.trials = append(p.trials, fmt.Sprintf("%s: %d of %d passed with it, %d of %d failed without", what, times, times, p.failing().Failed, p.failing().Runs))
	return nil
}

// failing returns the trials of the hunt in which the victim failed: after its culprits or, if it is brittle, alone.
func (p *patchTrial) failing() hunt.Times {
	if p.finding.Verdict == hunt.Brittle {
		return p.finding.Without
	}
	return p.finding.With
}

// fresh compares the state that the culprits leave with a fresh one.
func (p *patchTrial) fresh(ctx context.Context, pool *engine.Pool) error {
	tests := append(slices.Clone(p.culprits), p.victim)
	return pool.Borrow(ctx, p.victim.Suite, func(s adapter.Session, freshen func() error) error {
		prover := &prover{session: s, freshen: freshen, tests: tests}
		left, err := prover.differences(ctx, s.Probe)
		if err != nil {
			return err
		}
		if len(left) > 0 {
			return fmt.Errorf("%s %s still differs from a fresh run", left[0].Kind, left[0].Name)
		}
		p.trials = append(p.trials, "the state that it leaves is that of a fresh run")
		return nil
	})
}

// newPatch describes a change that was tried.
func (a Hunting) newPatch(ctx context.Context, victim, test string, c mend.Candidate, trials []string) *Patch {
	name := a.repositoryName(ctx, c.File)
	return &Patch{Victim: victim, Test: test, File: c.File, before: c.Before, after: c.Content, Trials: trials,
		Diff: udiff.Unified("a/"+name, "b/"+name, string(c.Before), string(c.Content))}
}

// repositoryName returns the name of a file in the project's repository, or in the project if that is in none.
func (a Hunting) repositoryName(ctx context.Context, file string) string {
	top, err := project.Top(ctx, a.Project.Dir)
	if err != nil {
		top = a.Project.Dir
	}
	real, err := filepath.EvalSymlinks(file) // as git names the repository
	if err != nil {
		real = file
	}
	for _, name := range []string{real, file} {
		if below, err := filepath.Rel(top, name); err == nil && filepath.IsLocal(below) {
			return filepath.ToSlash(below)
		}
	}
	return filepath.Base(file)
}

// Apply writes the change into the file, unless that has changed since.
func (p *Patch) Apply() error {
	now, err := os.ReadFile(p.File)
	if err != nil {
		return err
	}
	if !bytes.Equal(now, p.before) {
		return fmt.Errorf("%s has changed since the patch was made: hunt again", p.File)
	}
	info, err := os.Stat(p.File)
	if err != nil {
		return err
	}
	return wholefile.Replace(p.File, info.Mode().Perm(), wholefile.Bytes(p.after))
}
