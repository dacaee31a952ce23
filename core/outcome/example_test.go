package outcome_test

import (
	"fmt"

	"fernrelay/core/outcome"
)

func ExampleRun() {
	run := outcome.NewRun()
	for _, e := range []outcome.Event{
		{Event: outcome.Finished, ID: "unit:drip#fills", Outcome: outcome.Passed, Seconds: outcome.Took(0.2)},
		{Event: outcome.Finished, ID: "unit:drip#drains", Outcome: outcome.Failed, Failure: outcome.Failure{Message: "3 litres left"}},
	} {
		run.Apply(e)
	}
	for _, r := range run.Troubled() {
		fmt.Println(r.ID, r.Outcome, r.Message)
	}
	fmt.Println("exit status", run.ExitStatus())
	// Output:
	// unit:drip#drains failed 3 litres left
	// exit status 1
}
