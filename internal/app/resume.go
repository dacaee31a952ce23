package app

import (
	"context"
	"errors"
	"fmt"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/quarantine"
	"fernrelay/core/run"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
)

// ResumeRequest returns a request to run the rest of the run that was killed last, with some tests in quarantine. gone
// counts tests of it that the project no longer has. The error refuses to go on with other sources, unless mixed allows it.
func (a *App) ResumeRequest(ctx context.Context, known quarantine.List, mixed bool) (q Request, gone int, err error) {
	k, err := ledger.LastKilled(a.Project.StorePath())
	if errors.Is(err, run.ErrNoRecord) {
		return q, 0, errors.New("no run was killed here that could be resumed")
	}
	if err != nil {
		return q, 0, err
	}
	if k.Task.Crossing != "" {
		return q, 0, fmt.Errorf("the run that was killed last is of the crossing %s: fern-relay matrix run --resume runs the rest of the matrix", k.Task.Crossing)
	}
	before, now := k.Task.Source, project.Origin(ctx, a.Project.Dir)
	differ := before.Differs(now)
	if differ && !mixed {
		return q, 0, fmt.Errorf("the run that was killed last is of %s, and the sources are now %s: what passed then may fail now. Run everything again, or add --mixed", before, now)
	}
	var rest []catalog.Test
	for _, id := range k.Task.Tests {
		if done := k.Run.Result(id); done != nil && done.Outcome != run.Lost {
			continue
		}
		if t, ok := a.Catalog.Lookup(id); ok {
			rest = append(rest, *t)
		} else {
			gone++
		}
	}
	q, err = a.NewRequest(k.Task.Pick, known.Mark(a.widen(rest), time.Now()), k.Task.Workers)
	q.InOrder, q.Before = k.Task.InOrder, k.Run
	if differ {
		q.Mixed = run.MixedWords("the earlier part", before, "the rest", now)
	}
	return q, gone, err
}

// Resumed returns a resumed run together with what it resumes. Unless tests are lost again, it forgets that the
// run was killed.
func (a *App) Resumed(q Request, resumed *run.Run) (*run.Run, error) {
	whole := run.Merge([]run.Part{{Name: "before", Run: q.Before}, {Name: "resumed", Run: resumed}}).Run
	whole.Mixed = q.Mixed
	if whole.Counts[run.Lost] > 0 {
		return whole, nil
	}
	return whole, ledger.ForgetKilled(a.Project.StorePath())
}
