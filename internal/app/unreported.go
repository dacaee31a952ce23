package app

import (
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/workspace"
)

// Unreported returns the IDs of the tests of a plan that no merged report of its shards has. It returns none if the
// project has other tests than the plan.
func (a *App) Unreported(m *run.Merged) (ids []string) {
	tests, err := a.PickToRun(m.Planned.Pick)
	if err != nil {
		return nil
	}
	tests = workspace.Lone(tests)
	if catalogPrint, _ := split.Fingerprints(tests); catalogPrint != m.Planned.Catalog {
		return nil
	}
	for i := range tests {
		if m.Run.Result(tests[i].ID) == nil {
			ids = append(ids, tests[i].ID)
		}
	}
	return ids
}
