// Package split plans shards: which tests go together to which worker or machine, so that all of them end at about
// the same time.
//
//	units, err := schedule.Units(picked, catalog.GroupLevel)
//	work := split.NewWork(units)
//	plan := work.Plan(split.Fleet{Shards: 6}, split.Thorough)
//
// All times are in seconds. The effort is bounded by counted steps, not by a clock, so that the same tests have
// the same plan on every machine, whatever their order.
package split

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/order"
	"fernrelay/core/schedule"
)

// Fleet is what the shards run on.
type Fleet struct {
	Shards     int             // at least 1
	Limit      int             // how many may run at once, the others in waves after them; 0 for all
	Start      float64         // the seconds that each shard's machine takes before its first test
	Starts     map[int]float64 // by shard number: the seconds that it begins late
	Speeds     map[int]float64 // by shard number: its speed relative to 1
	Pins       map[string]int  // by a unit's name: the number of the shard that it stays on
	Resources  map[string]int  // what the shards share as workers of one machine: how many may hold it at once
	Processors int             // that the shards share as workers of one machine; 0 if each has enough
}

// uniform reports whether no shard differs from another before anything is dealt.
func (f Fleet) uniform() bool {
	return len(f.Starts)+len(f.Speeds)+len(f.Pins) == 0 && f.AtOnce() == f.Shards
}

// AtOnce returns how many shards run side by side.
func (f Fleet) AtOnce() int {
	if f.Limit > 0 {
		return min(f.Limit, f.Shards)
	}
	return f.Shards
}

// start returns when a shard can run its first test.
func (f Fleet) start(number int) float64 { return f.Start + f.Starts[number] }

func (f Fleet) speed(number int) float64 {
	if s, ok := f.Speeds[number]; ok {
		return s
	}
	return 1
}

// pin returns the number of the shard that a unit stays on, 0 if it may go anywhere.
func (f Fleet) pin(u *schedule.Unit) int {
	if len(f.Pins) == 0 {
		return 0
	}
	if number := f.Pins[cmp.Or(u.Of, u.Name)]; number <= f.Shards {
		return max(0, number)
	}
	return 0
}

// Check returns an error for an impossible fleet.
func (f Fleet) Check() error {
	if f.Shards < 1 {
		return fmt.Errorf("%d shards cannot be planned: a number from 1 is expected", f.Shards)
	}
	if f.Limit < 0 {
		return fmt.Errorf("the limit is %d: a number from 1 is expected, or 0 for none", f.Limit)
	}
	if !(f.Start >= 0 && f.Start <= longest) {
		return fmt.Errorf("a shard's machine starts in %g s: a number from 0 to %d is expected", f.Start, longest)
	}
	for number, s := range f.Speeds {
		if !(s > 0 && s <= 1000) {
			return fmt.Errorf("the speed of shard %d is %g: a number above 0 is expected, at most 1000", number, s)
		}
		if f.AtOnce() < f.Shards {
			return fmt.Errorf("shards of different speed do not go with a limit of %d at once: leave one of them out", f.Limit)
		}
	}
	for number, s := range f.Starts {
		if !(s >= 0 && s <= longest) {
			return fmt.Errorf("shard %d starts at %g s: a number from 0 to %d is expected", number, s, longest)
		}
	}
	return nil
}

// longest is the latest that a shard may start, in seconds: thirty days.
const longest = 30 * 24 * 3600

// Shard is a planned share of the tests.
type Shard struct {
	Number     int // from 1
	Start, End float64
	Units      []Placed // in the order in which they run
}

// Placed is a unit in a plan.
type Placed struct {
	*schedule.Unit
	Start float64 // when it begins
}

// Seconds returns how long the shard takes.
func (s Shard) Seconds() float64 { return s.End - s.Start }

// UnitEnd is when a unit of the shard ends, by its index.
func (s Shard) UnitEnd(i int) float64 {
	if i+1 == len(s.Units) {
		return s.End
	}
	return min(s.Units[i+1].Start, s.Units[i].Start+s.Units[i].Alone())
}

// Tests lists the IDs of the shard's tests in the order planned.
func (s Shard) Tests() []string {
	ids := []string{}
	for _, u := range s.Units {
		ids = append(ids, u.Tests...)
	}
	return ids
}

// Plan is the tests of a pick dealt out to shards.
type Plan struct {
	Shards    []Shard
	Finish    float64        // when the last shard ends
	Floor     float64        // no plan of these units on such a fleet can end sooner
	Optimal   bool           // Finish is proved to be the least
	Spread    float64        // the last end minus the first
	Start     float64        // as of the fleet
	Work      float64        // what one worker alone takes
	Unknown   int            // tests never measured
	Estimated float64        // the part of Work that these take
	Setter    *schedule.Unit // the unit that is the floor by its own length, if one is
	Held      string         // the resource whose holding time is the floor, if one is
	Full      bool           // the processors are busy nearly all the time: they are the floor
}

// Setting names what the floor is, for people: a unit or a resource; "" if it is the work as a whole.
func (p Plan) Setting() string {
	if p.Setter != nil {
		return p.Setter.Label
	}
	return p.Held
}

// Empty counts the shards that hold nothing.
func (p Plan) Empty() int {
	n := 0
	for _, s := range p.Shards {
		if len(s.Units) == 0 {
			n++
		}
	}
	return n
}

// Format names the JSON form of a plan.
const Format = "fern-split/1"

// MarshalJSON writes the promised form of "split --json".
func (p Plan) MarshalJSON() ([]byte, error) {
	type shard struct {
		Shard   int      `json:"shard"`
		Seconds float64  `json:"seconds"`
		Start   float64  `json:"start_s,omitempty"`
		Tests   []string `json:"tests"`
	}
	shards := make([]shard, len(p.Shards))
	for i, s := range p.Shards {
		shards[i] = shard{s.Number, s.Seconds(), s.Start, s.Tests()}
	}
	return json.Marshal(struct {
		Format      string  `json:"format"`
		Shards      []shard `json:"shards"`
		Finish      float64 `json:"finish_s"`
		Floor       float64 `json:"floor_s"`
		Optimal     bool    `json:"optimal"`
		Spread      float64 `json:"spread_s"`
		Unknown     int     `json:"unknown"`
		Fingerprint string  `json:"fingerprint"`
	}{Format, shards, p.Finish, p.Floor, p.Optimal, p.Spread, p.Unknown, p.Fingerprint()})
}

// Fingerprint is the same for plans that send the same tests to the same shards.
func (p Plan) Fingerprint() string {
	var text []byte
	for _, s := range p.Shards {
		text = strconv.AppendInt(text, int64(s.Number), 10)
		ids := s.Tests()
		slices.Sort(ids)
		for _, id := range ids {
			text = append(append(text, id...), 0)
		}
	}
	return fingerprint(text)
}

// Fingerprints returns the fingerprints of what a plan is made from: the tests with what they need and use, and their
// times. Machines with the same fingerprints make the same plan.
func Fingerprints(tests []catalog.Test) (catalogPrint, timingsPrint string) {
	byID := make([]*catalog.Test, len(tests))
	for i := range tests {
		byID[i] = &tests[i]
	}
	slices.SortFunc(byID, func(a, b *catalog.Test) int { return strings.Compare(a.ID, b.ID) })
	var what, times []byte
	for _, t := range byID {
		what = fmt.Appendf(what, "%q %q %q %q\n", t.ID, t.File, order.Dependencies(t), t.Rules().Holds)
		times = fmt.Appendf(times, "%q %g %g\n", t.ID, t.Expected, t.Setup)
	}
	return fingerprint(what), fingerprint(times)
}

// fingerprint is a short name for a text: 12 hexadecimal digits.
func fingerprint(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:6])
}
