package app

import (
	"fernrelay/core/run"
	"fernrelay/core/split"
	"fernrelay/internal/workspace"
)

// Unreported returns the IDs of the tests of a plan that no merged report of its shards has, and of those that a report has and the
// plan does not. It returns none if the project has other tests than the plan.
func (a *App) Unreported(m *run.Merged) (lost, beyond []string) {
	tests, err := a.PickToRun(m.Planned.Pick)
	if err != nil {
		return nil, nil
	}
	tests = workspace.Lone(tests)
	if catalogPrint, _ := split.Fingerprints(tests); catalogPrint != m.Planned.Catalog {
		return nil, nil
	}
	planned := map[string]bool{}
	for i := range tests {
		planned[tests[i].ID] = true
		if m.Run.Result(tests[i].ID) == nil {
			lost = append(lost, tests[i].ID)
		}
	}
	for _, r := range m.Run.Results {
		if !planned[r.ID] && !r.Entry {
			beyond = append(beyond, r.ID)
		}
	}
	return lost, beyond
}
