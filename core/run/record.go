package run

import (
	"errors"
	"time"
)

// Meta describes what a run is: what it runs of which sources, how and where. Its journal, its record in the ledger and its plan on a
// station have the same.
type Meta struct {
	Pick    string `json:"pick"`
	Workers int    `json:"workers"`
	Order   string `json:"order,omitempty"` // as order.Order writes it; empty for tests as written
	Source
	Machine  string `json:"machine,omitempty"`
	Trial    bool   `json:"trial,omitempty"`    // it reproduces a failure, and says nothing about rates and times
	Crossing string `json:"crossing,omitempty"` // of the matrix that it is a run of, as in store=redis,season=winter; empty for none
}

// A Record describes a run that has ended: what it was, when it ran, and its counts. Its results are kept apart.
type Record struct {
	Number int `json:"run"` // from 1
	Meta
	Imported string `json:"source,omitempty"` // the file that it was imported from, empty for a run of ours
	Note     string `json:"note,omitempty"`   // what went wrong beside the tests

	Began    time.Time       `json:"began"`
	Prepared float64         `json:"prepared_s,omitempty"` // seconds before the first test began, for building and the like
	Placed   time.Time       `json:"-"`                    // by which runs are ordered: when it began, unless that is in the future
	Ended    time.Time       `json:"ended"`                // the same as Began if it is not known
	Counts   map[Outcome]int `json:"counts"`
	Work     float64         `json:"work_s"` // of all tests

	Places   []Place   `json:"places,omitempty"`   // by worker, of a run of several machines
	Services []Service `json:"services,omitempty"` // that it started
	Journal  string    `json:"-"`                  // its name, so that it is not kept twice; empty for none
}

// Wall returns the seconds from the first test on, as [Run.Wall] does, or 0 if they are not known.
func (k *Record) Wall() float64 { return max(0, k.Ended.Sub(k.Began).Seconds()-k.Prepared) }

// Tests counts the tests of the run.
func (k *Record) Tests() int { return CountTests(k.Counts) }

// ErrNoRecord reports that the ledger does not have the run asked for.
var ErrNoRecord = errors.New("there is no such run in the ledger")
