package hunting

import (
	"slices"
	"time"

	"fernrelay/core/hunt"
	"fernrelay/core/quarantine"
	"fernrelay/internal/app"
	"fernrelay/internal/ledger"
)

// Streaks returns for each test in quarantine in how many of its latest runs in a row it passed in the order that used to
// break it, since it came into quarantine.
func Streaks(h *app.History, list quarantine.List) ([]int, error) {
	ids := make([]string, len(list))
	for i := range list {
		ids[i] = list[i].ID
	}
	companies, err := h.Ledger().Companies(ids, true, quarantine.Looked)
	streaks := make([]int, len(list))
	for i := range list {
		since := slices.DeleteFunc(companies[list[i].ID], func(c ledger.Company) bool { return c.Began.Before(list[i].Since) })
		streaks[i] = list[i].Streak(pastIn(since))
	}
	return streaks, err
}

// Quarantine returns what a file of tests in quarantine says of findings: of each victim whose outcome depends on the order
// or on chance. reason puts a finding into words.
func (a Hunting) Quarantine(findings []hunt.Finding, reason func(hunt.Finding) string) (quarantine.List, error) {
	hunts, err := a.Hunts()
	if err != nil {
		return nil, err
	}
	var list quarantine.List
	for _, f := range findings {
		number := slices.IndexFunc(hunts, func(h hunt.Saved) bool { return h.Victim == f.ID })
		if e, ok := quarantine.Of(f, reason(f), time.Now()); ok {
			if number >= 0 {
				e.Hunt = hunts[number].Number
			}
			list = append(list, e)
		}
	}
	return list, nil
}
