package matrix

import (
	"cmp"
	"slices"
	"time"

	"fernrelay/core/matrix"
)

// Place works out when crossings ran and when those that wait should, as far as it is known: those that take longest first.
func (v *View) Place() {
	results := v.results()
	v.begins, v.end = results.Begins(v.now)
	if v.Live == nil && !v.hasRun() {
		v.placeWaiting(make([]float64, v.matrix().AtOnce), func(string) bool { return true })
		return
	}
	if v.Live == nil || v.Live.Ended {
		return
	}
	now := 0.0
	if first := v.firstBegan(); !first.IsZero() {
		now = v.now.Sub(first).Seconds()
	}
	var lanes []float64
	for i, row := range v.Rows {
		if row.from, row.to = 0, 0; row.State == matrix.Running {
			row.to = max(now, v.begins[i]+v.expectedOf(row))
			lanes = append(lanes, row.to)
		}
	}
	for len(lanes) < v.Live.AtOnce {
		lanes = append(lanes, now)
	}
	v.placeWaiting(lanes, v.Live.runs)
}

// axisEnd returns the second at which the time axis ends.
func (v *View) axisEnd() float64 {
	if end := v.lastEnd(); end > 0 {
		return end
	}
	return 1
}

// lastEnd returns the second at which the last crossing ends, 0 if that is not known.
func (v *View) lastEnd() float64 {
	end := v.end
	for _, row := range v.Rows {
		if row.State != matrix.Ended {
			end = max(end, row.to)
		}
	}
	return end
}

// placeWaiting gives each crossing that waits and is to run the lane that is free first, in the order in which they start.
func (v *View) placeWaiting(lanes []float64, runs func(key string) bool) {
	var waiting []*Row
	for _, row := range v.Rows {
		if row.State == matrix.Waiting && runs(row.Key()) {
			waiting = append(waiting, row)
		}
	}
	slices.SortStableFunc(waiting, func(a, b *Row) int { return cmp.Compare(v.expectedOf(b), v.expectedOf(a)) })
	for _, row := range waiting {
		lane := slices.Index(lanes, slices.Min(lanes))
		row.from = lanes[lane]
		row.to = row.from + v.expectedOf(row)
		lanes[lane] = row.to
	}
}

// expectedOf returns the seconds that a crossing should take: as long as it is not known, as long as the others.
func (v *View) expectedOf(row *Row) float64 {
	if row.expected.Seconds > 0 {
		return row.expected.Seconds
	}
	sum, n := 0.0, 0
	for _, other := range v.Rows {
		if other.State == matrix.Ended && other.Run != nil {
			sum, n = sum+other.Took(v.now), n+1
		}
	}
	return sum / float64(max(1, n))
}

// firstBegan returns when the first of the shown crossings began.
func (v *View) firstBegan() (first time.Time) {
	for _, row := range v.Rows {
		if !row.Began.IsZero() && (first.IsZero() || row.Began.Before(first)) {
			first = row.Began
		}
	}
	return first
}
