package progress

import (
	"cmp"
	"slices"
	"time"

	"fernrelay/core/matrix"
	"fernrelay/core/run"
)

// Crossings follows the crossings of a matrix: those that run, those that ran before, and the forecast of those that wait.
//
//	crossings.Begin(keys, 2)
//	go runMatrix(crossings.Steps.Put) // from any goroutine
//	crossings.Follow(time.Now())      // takes what happened since
//	fmt.Println(crossings.Rows[0].Outcome, crossings.End())
type Crossings struct {
	Steps    Inbox[CrossingStep]
	Rows     []*Crossing // in the matrix's order
	Now      time.Time   // of the latest frame
	Begins   []float64   // by row: seconds after the first crossing
	AtOnce   int         // how many may run at the same time
	Stopping bool        // no more crossings start
	running  []string    // the keys of those that Begin has begun, until they End
	last     float64     // when the last of those that ran or run ends, in seconds, without what is expected
}

// Crossing is a crossing as the application follows it.
type Crossing struct {
	matrix.Result
	Live     *Run          // nil before it runs in this session
	Expected float64       // seconds that it should take; 0 if that is not known
	Past     []run.Outcome // of its latest runs, the oldest first, at most CrossingPast
	Bins     Bins          // of the tests that ended
	From, To float64       // when it is expected to run, in seconds after the first crossing; 0 if that is not known
	seen     int           // results of Live that Bins has
}

// CrossingPast bounds the earlier runs of a crossing that are known.
const CrossingPast = 12

// CrossingStep is one of: a crossing begins, or its result changed.
type CrossingStep struct {
	Key    string
	Live   *Run           // nil if it does not begin
	Result *matrix.Result // nil if it does not change
}

// Row returns the crossing with a key, nil if there is none.
func (c *Crossings) Row(key string) *Crossing {
	if at := slices.IndexFunc(c.Rows, func(r *Crossing) bool { return r.Key() == key }); at >= 0 {
		return c.Rows[at]
	}
	return nil
}

// Begin clears the crossings that are about to run, at most atOnce at the same time.
func (c *Crossings) Begin(crossings []matrix.Crossing, atOnce int) {
	c.AtOnce, c.Stopping, c.running = atOnce, false, nil
	for i := range crossings {
		row := c.Row(crossings[i].Key())
		if row == nil || row.State == matrix.LeftOut {
			continue
		}
		c.running = append(c.running, row.Key())
		*row = Crossing{Result: matrix.Result{Crossing: row.Crossing, State: matrix.Waiting}, Expected: row.Expected, Past: row.Past}
	}
}

// End notes that the crossings do not run any more.
func (c *Crossings) End() {
	c.running = nil
	c.place()
}

// Follow takes what happened since the last frame, and the time. It reports whether a test or a crossing ended.
func (c *Crossings) Follow(now time.Time) (changed bool) {
	c.Now = now
	for _, step := range c.Steps.Take() {
		changed = c.take(step) || changed
	}
	for _, row := range c.Rows {
		if row.State == matrix.Running && row.Live != nil {
			row.Live.Follow(now)
			changed = row.bin() || changed
		}
	}
	c.place()
	return changed
}

func (c *Crossings) take(step CrossingStep) (changed bool) {
	row := c.Row(step.Key)
	switch {
	case row == nil:
	case step.Live != nil:
		row.Live, row.seen, row.Bins = step.Live, 0, Bins{}
		row.Live.Quiet = true
	case step.Result != nil:
		row.Result = *step.Result
		if row.Live != nil && row.State == matrix.Ended {
			row.end(c.Now)
		}
		return true
	}
	return false
}

// end notes that the crossing's run has ended.
func (r *Crossing) end(now time.Time) {
	r.Live.Follow(now)
	r.bin()
	r.Live.Ended, r.Live.Number = true, r.Number
	if r.Number == 0 {
		r.Live.Cancel = nil // it is not kept, and nobody waits for that
	}
	if r.Past = append(r.Past, r.Outcome); len(r.Past) > CrossingPast {
		r.Past = r.Past[1:]
	}
}

// bin adds the results that came since to the bins, and reports whether there are any.
func (r *Crossing) bin() bool {
	before := r.seen
	for ; r.seen < len(r.Live.Results); r.seen++ {
		result := r.Live.Results[r.seen]
		r.Bins.Add(result.Ended.Sub(r.Began).Seconds(), result.Outcome)
	}
	return r.seen > before
}

// Ran returns what ran of the crossing, nil if nothing has.
func (r *Crossing) Ran() *run.Run {
	if r.Live != nil {
		return r.Live.Run
	}
	return r.Run
}

// Ready returns the seconds until the last of its services was ready.
func (r *Crossing) Ready() (seconds float64) {
	if ran := r.Ran(); ran != nil {
		for _, s := range ran.Services {
			seconds = max(seconds, s.Ready)
		}
	}
	return seconds
}

// Recall takes the latest results of the ledger, for crossings that have not run in this session.
func (c *Crossings) Recall(results []*matrix.Result, now time.Time) {
	for _, one := range results {
		row := c.Row(one.Key())
		if row == nil || row.Live != nil || row.State == matrix.Running {
			continue
		}
		row.Result, row.Bins = *one, Bins{}
		if one.Run != nil {
			for _, result := range one.Run.Results {
				row.Bins.Add(result.Ended.Sub(one.Began).Seconds(), result.Outcome)
			}
		}
	}
	c.Now = now
	c.place()
}

// Results lists the results of all crossings as they are now.
func (c *Crossings) Results() []*matrix.Result {
	var results []*matrix.Result
	for _, row := range c.Rows {
		results = append(results, &row.Result)
	}
	return results
}

// HasRun reports whether a crossing runs, or ever ran.
func (c *Crossings) HasRun() bool {
	return slices.ContainsFunc(c.Rows, func(r *Crossing) bool { return r.Run != nil || r.State == matrix.Running })
}

// Running counts the crossings that run.
func (c *Crossings) Running() (n int) {
	for _, row := range c.Rows {
		if row.State == matrix.Running {
			n++
		}
	}
	return n
}

// place works out when crossings ran and when those that wait should, as far as that is known.
func (c *Crossings) place() {
	c.Begins, c.last = (&matrix.Results{Results: c.Results()}).Begins(c.Now)
	switch {
	case len(c.running) > 0:
		c.placeRunning()
	case !c.HasRun():
		c.placeWaiting(make([]float64, c.AtOnce), func(string) bool { return true })
	}
}

// placeRunning forecasts the ends of the crossings that run, and then those that wait for them.
func (c *Crossings) placeRunning() {
	now := c.Since()
	var lanes []float64
	for i, row := range c.Rows {
		if row.From, row.To = 0, 0; row.State == matrix.Running {
			row.To = max(now, c.Begins[i]+c.ExpectedOf(row))
			lanes = append(lanes, row.To)
		}
	}
	for len(lanes) < c.AtOnce {
		lanes = append(lanes, now)
	}
	c.placeWaiting(lanes, func(key string) bool { return !c.Stopping && slices.Contains(c.running, key) })
}

// placeWaiting assigns each waiting crossing that will run to the lane that is free first. Those that take longest begin first.
func (c *Crossings) placeWaiting(lanes []float64, runs func(key string) bool) {
	var waiting []*Crossing
	for _, row := range c.Rows {
		if row.State == matrix.Waiting && runs(row.Key()) {
			waiting = append(waiting, row)
		}
	}
	slices.SortStableFunc(waiting, func(a, b *Crossing) int { return cmp.Compare(c.ExpectedOf(b), c.ExpectedOf(a)) })
	for _, row := range waiting {
		lane := slices.Index(lanes, slices.Min(lanes))
		row.From = lanes[lane]
		row.To = row.From + c.ExpectedOf(row)
		lanes[lane] = row.To
	}
}

// LastEnd returns the second at which the last crossing ends, 0 if that is not known.
func (c *Crossings) LastEnd() float64 {
	end := c.last
	for _, row := range c.Rows {
		if row.State != matrix.Ended {
			end = max(end, row.To)
		}
	}
	return end
}

// ExpectedOf returns the seconds that a crossing should take: as long as it is not known, as long as the others.
func (c *Crossings) ExpectedOf(row *Crossing) float64 {
	if row.Expected > 0 {
		return row.Expected
	}
	sum, n := 0.0, 0
	for _, other := range c.Rows {
		if other.State == matrix.Ended && other.Run != nil {
			sum, n = sum+other.Took(c.Now), n+1
		}
	}
	return sum / float64(max(1, n))
}

// Since returns the seconds since the first of the crossings began, 0 if none has.
func (c *Crossings) Since() float64 {
	var first time.Time
	for _, row := range c.Rows {
		if !row.Began.IsZero() && (first.IsZero() || row.Began.Before(first)) {
			first = row.Began
		}
	}
	if first.IsZero() {
		return 0
	}
	return c.Now.Sub(first).Seconds()
}
