package hunting

import (
	"context"
	"slices"
	"strings"

	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/engine"
)

// changedServices names what the culprits leave in the services of the victim's suite that can be reset, and tries which of these
// services its outcome turns on: each is proved as a whole.
func (h *hunter) changedServices(ctx context.Context, f hunt.Finding) (changes []hunt.Change, err error) {
	culprits, victim := h.app.toTry(f.Culprits[0]), h.app.toTry([]string{f.ID})[0]
	err = h.pool.Serve(ctx, victim.Suite, func(s *engine.Served) error {
		var fresh [2][]hunt.Value
		for i := range fresh {
			if err := s.Freshen(ctx); err != nil {
				return err
			}
			if fresh[i], err = s.State(ctx); err != nil {
				return err
			}
		}
		if err := s.Run(ctx, culprits); err != nil {
			return err
		}
		after, err := s.State(ctx)
		if err != nil {
			return err
		}
		changes = hunt.Locate(hunt.Compare(fresh[0], after), fresh, after)
		for i, name := range s.Names() {
			if err := s.Run(ctx, culprits); err != nil {
				return err
			}
			outcome, err := s.Continue(ctx, i, victim)
			if err != nil {
				return err
			}
			if outcome != run.Lost && outcome.Bad() != (f.With.Failed > 0) {
				changes = proveService(changes, name)
			}
		}
		return nil
	})
	return provedFirst(changes), err
}

// proveService records that the outcome turns on what a service holds, and says so if none of its pieces is known.
func proveService(changes []hunt.Change, name string) []hunt.Change {
	known := false
	for i, c := range changes {
		if strings.HasSuffix(c.Name, " in "+name) {
			changes[i].Proved, known = true, true
		}
	}
	if known {
		return changes
	}
	return slices.Insert(changes, 0, hunt.Change{Kind: hunt.Service, Name: "something in " + name, Before: hunt.Absent, After: "unknown, as the service has no state in fern.toml", Proved: true})
}
