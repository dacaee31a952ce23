package split

import (
	"fernrelay/core/catalog"
	"fernrelay/core/schedule"
	"slices"
)

// Point is the result of planning for a number of shards.
type Point struct {
	Shards  int
	Runners int     // how many of them run at once
	Finish  float64 // seconds
	Floor   float64
	Optimal bool
	Setter  *schedule.Unit // as of a Plan
	Held    string         // as of a Plan
	Full    bool           // as of a Plan
}

// Machines is the machine time that the point costs, in seconds: all machines are
// held until the last one ends.
func (p Point) Machines() float64 { return float64(p.Runners) * p.Finish }

// Curve plans for 1 shard, 2 shards, and so on up to most.
func (w *Work) Curve(f Fleet, most, effort int) []Point {
	points := make([]Point, 0, most)
	for f.Shards = 1; f.Shards <= most; f.Shards++ {
		points = append(points, w.point(f, effort))
	}
	Smooth(points)
	return points
}

// point plans without writing the plan down, if the result is the same.
func (w *Work) point(f Fleet, effort int) Point {
	if w.contended(f) || f.AtOnce() < f.Shards || f.Processors > 0 {
		p := w.Plan(f, effort)
		return Point{f.Shards, f.AtOnce(), p.Finish, p.Floor, p.Optimal, p.Setter, p.Held, p.Full}
	}
	on, floor := w.deal(f, effort)
	p := Plan{Start: f.Start, Finish: w.seconds(w.finish(f, on))}
	w.judge(&p, floor)
	return Point{f.Shards, f.AtOnce(), p.Finish, p.Floor, p.Optimal, p.Setter, p.Held, false}
}

// Smooth makes more shards never finish later than fewer: leaving one empty would be better.
func Smooth(points []Point) {
	for i := 1; i < len(points); i++ {
		if before := points[i-1].Finish; points[i].Finish > before {
			points[i].Finish = before
			points[i].Optimal = points[i].Optimal || before <= points[i].Floor
		}
	}
}

// Knee is the number of shards up to which one more is worth it: at which the finish times the machine time is
// least. Beyond it another shard saves a smaller part of the finish than half of what it adds to the machines.
func Knee(points []Point) int {
	knee, least := 1, 0.0
	for i, p := range points {
		if cost := p.Finish * p.Machines(); i == 0 || cost < least*(1-1e-9) {
			knee, least = p.Shards, cost
		}
	}
	return knee
}

// Within returns the least number of shards that finish within a number of seconds; 0 if no point does.
func Within(points []Point, seconds float64) int {
	if at := slices.IndexFunc(points, func(p Point) bool { return p.Finish <= seconds }); at >= 0 {
		return points[at].Shards
	}
	return 0
}

// Division is what it gains to part a unit into its tests.
type Division struct {
	Unit    *schedule.Unit
	Longest catalog.Test // of the unit
	Floor   float64      // of the same number of shards when it is parted
	Finish  float64
}

// division computes the gain of dividing the unit that blocks a plan first: the one that is its floor, or else the
// longest. tests are the planned ones. ok is false if that unit cannot be divided, or nothing is planned.
func (w *Work) division(p Plan, f Fleet, tests []catalog.Test, effort int) (division Division, ok bool) {
	if len(w.units) == 0 {
		return division, false
	}
	division.Unit = w.units[0]
	for _, t := range catalog.Only(tests, division.Unit.Tests) {
		if t.Expected >= division.Longest.Expected {
			division.Longest = t
		}
	}
	apart := NewWork(schedule.Apart(w.copies(), division.Unit.Name, tests))
	if len(apart.units) == len(w.units) {
		return division, false
	}
	point := apart.point(f, effort)
	division.Floor, division.Finish = point.Floor, min(point.Finish, p.Finish)
	return division, true
}
