package hunt_test

import (
	"fmt"
	"slices"

	"fernrelay/core/hunt"
	"fernrelay/core/run"
)

func ExampleHunt() {
	h := hunt.New(hunt.Task{
		Victim: "unit:vent#opens",
		Orders: [][]string{{"unit:drip#fills", "unit:drip#freezes", "unit:drip#drains"}},
	})
	defer h.Close()
	run := func(order []string) run.Outcome { // in which one test spoils the victim
		if slices.Contains(order, "unit:drip#freezes") {
			return run.Failed
		}
		return run.Passed
	}
	for round := h.Next(); round != nil; round = h.Next() {
		for _, trial := range round {
			h.Report(trial.Number, run(trial.Order), 0.1)
		}
	}
	f := h.Finding()
	fmt.Println(f.Verdict, f.Culprits)
	// Output: polluted [[unit:drip#freezes]]
}
