package run_test

import (
	"fmt"

	"fernrelay/core/run"
)

func ExampleRun() {
	ran := run.New()
	for _, e := range []run.Event{
		{Event: run.Finished, ID: "unit:drip#fills", Outcome: run.Passed, Seconds: run.Took(0.2)},
		{Event: run.Finished, ID: "unit:drip#drains", Outcome: run.Failed, Failure: run.Failure{Message: "3 litres left"}},
	} {
		ran.Apply(e)
	}
	for _, r := range ran.Troubled() {
		fmt.Println(r.ID, r.Outcome, r.Message)
	}
	fmt.Println("exit status", ran.ExitStatus())
	// Output:
	// unit:drip#drains failed 3 litres left
	// exit status 1
}
