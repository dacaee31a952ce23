package run

import "fmt"

// MostSteps bounds the steps that are kept of one test.
const MostSteps = 10_000

// omitted counts the steps of a test, and sums up those that are left out.
type omitted struct {
	steps, bad int
	first      *Event // the first of them that is bad; nil for none
}

// LimitSteps returns a sink that passes events on to another, with at most 10,000 steps of each test. One more
// step, before the test's outcome, says how many are left out and how they ended.
func LimitSteps(to Sink) Sink {
	tests := map[string]*omitted{}
	return func(e Event) {
		o := tests[e.ID]
		switch e.Event {
		case StepDone:
			if o == nil {
				o = &omitted{}
				tests[e.ID] = o
			}
			if o.steps++; o.steps > MostSteps {
				o.omit(e)
				return
			}
		case Finished:
			delete(tests, e.ID)
			if o != nil && o.steps > MostSteps {
				to(o.summary(e))
			}
		}
		to(e)
	}
}

func (o *omitted) omit(e Event) {
	if !e.Outcome.Bad() {
		return
	}
	if o.bad++; o.bad == 1 {
		first := e
		o.first = &first
	}
}

// summary returns the step that replaces those left out of a test that ends with an event.
func (o *omitted) summary(end Event) Event {
	step := Event{Event: StepDone, ID: end.ID, At: end.At, Worker: end.Worker, Batch: end.Batch, Outcome: Passed}
	if o.bad > 0 {
		step.Outcome, step.Failure = o.first.Outcome, o.first.Failure
		step.Message = o.first.Step + ": " + step.Message
	}
	step.Step = fmt.Sprintf("%d more steps, %d of them bad", o.steps-MostSteps, o.bad)
	return step
}
