package app

import (
	"errors"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// Victims returns the tests that were bad in the latest run.
func (a *App) Victims() ([]catalog.Test, error) {
	_, latest, err := a.Ledger().Last()
	if errors.Is(err, run.ErrNoRecord) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return a.VictimsOf(latest), nil
}

// VictimsOf returns the tests that were bad in a run and that the project has.
func (a *App) VictimsOf(ran *run.Run) []catalog.Test {
	var ids []string
	for _, r := range ran.Troubled() {
		ids = append(ids, r.ID)
	}
	return a.TestsOf(ids)
}
