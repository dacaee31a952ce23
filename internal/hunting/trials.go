package hunting

import (
	"context"
	"errors"
	"slices"
	"sync"

	"fernrelay/core/hunt"
	"fernrelay/core/run"
)

// search is one search for the culprits of a victim.
type search struct {
	*hunter
	number   int                // of the hunt in the ledger, 0 for none
	quietly  bool               // no two trials run at the same time
	overlaps bool               // a trial ran tests beside the victim
	apart    map[string]float64 // as of the task

	mu       sync.Mutex // guards what follows while the trials of a round run side by side
	state    *hunt.Hunt
	progress hunt.Progress
	made     map[string][]hunt.Record // by sum: trials of an interrupted hunt
}

// resume takes the outcomes of a round's trials from those that were made before, and returns the others.
func (s *search) resume(round []hunt.Trial) (left []hunt.Trial) {
	for _, trial := range round {
		made := s.made[trial.Sum]
		if len(made) == 0 {
			left = append(left, trial)
			continue
		}
		s.made[trial.Sum] = made[1:]
		s.state.Report(trial.Number, made[0].Outcome, made[0].Seconds)
		s.progress.Resumed++
	}
	s.report()
	return left
}

// try runs trials side by side.
func (s *search) try(ctx context.Context, trials []hunt.Trial) error {
	failures := make([]error, len(trials))
	var wg sync.WaitGroup
	for i, trial := range trials {
		s.overlaps = s.overlaps || len(trial.Beside) > 0 // then the victim may clash with itself, too
		quietly := s.quietly || s.overlaps || trial.Serial
		wg.Go(func() {
			o, seconds, err := s.one(ctx, trial, quietly)
			s.mu.Lock()
			defer s.mu.Unlock()
			if err == nil {
				s.state.Report(trial.Number, o, seconds)
				err = s.keep(s.state.Records()[trial.Number-1])
				s.report()
			}
			failures[i] = err
		})
	}
	wg.Wait()
	return errors.Join(append(failures, s.pool.Restore())...)
}

// one runs a trial: on any machine of a fleet, unless it must not meet others.
func (s *search) one(ctx context.Context, trial hunt.Trial, quietly bool) (run.Outcome, float64, error) {
	if s.machines != nil && !quietly && len(trial.Beside) == 0 {
		return s.machines.try(ctx, trial)
	}
	return s.pool.Try(ctx, s.app.trial(trial, s.apart, quietly))
}

func (s *search) keep(r hunt.Record) error {
	if s.number == 0 {
		return nil
	}
	return s.ledger.KeepTrial(s.number, r)
}

func (s *search) update() {
	s.progress.Records, s.progress.Finding = slices.Clone(s.state.Records()), s.state.Finding()
}

func (s *search) report() {
	s.update()
	s.hunter.report(s.progress)
}
