package host

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/internal/adapter"
)

// Repairs asks the host for contents of the test's file with which the test restores what it leaves, or sets it up for itself.
func (a *Adapter) Repairs(ctx context.Context, t *catalog.Test, changed []hunt.Change, set bool) (contents [][]byte, err error) {
	s := &session{adapter: a}
	defer s.Close() // how it ends says nothing of the answer
	defer context.AfterFunc(ctx, s.kill)()
	if err := s.begin(ctx); err != nil {
		return nil, err
	}
	if !slices.Contains(s.hello.Can, CanRepair) || !slices.Contains(s.hello.Can, CanSources) {
		return nil, fmt.Errorf("the test host of suite %s proposes no repairs", a.Suite)
	}
	params := RepairParams{TestName: TestName{t.Group, t.Name}, Set: set}
	for _, c := range changed {
		params.Changed = append(params.Changed, a.changedState(c))
	}
	var result RepairResult
	if err := s.ask(a.Limits.Idle, MethodRepair, params, &result); err != nil {
		return nil, err
	}
	for _, content := range result.Contents {
		contents = append(contents, []byte(content))
	}
	return contents, nil
}

// changedState returns a change in the terms of the protocol: a file is relative to the suite's folder.
func (a *Adapter) changedState(c hunt.Change) Changed {
	changed := Changed{Kind: c.Kind, Name: c.Name}
	if c.Before != hunt.Absent {
		changed.Before = &c.Before
	}
	if c.After != hunt.Absent {
		changed.After = &c.After
	}
	if c.Kind == hunt.File {
		changed.Name = a.suiteFile(c.Name)
	}
	return changed
}

// WithSources returns an adapter for the same tests whose hosts use other contents of some files, by their absolute paths.
func (a *Adapter) WithSources(_ string, contents map[string][]byte) (adapter.Adapter, error) {
	other := *a
	other.sources = map[string]string{}
	for file, content := range contents {
		below, err := filepath.Rel(a.Dir, file)
		if err != nil {
			return nil, err
		}
		other.sources[filepath.ToSlash(below)] = string(content)
	}
	return &other, nil
}
