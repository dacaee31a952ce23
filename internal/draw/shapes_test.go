package draw

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/core/split"
)

// shapes is a canvas that remembers what is drawn.
type shapes struct {
	polygons []drawnPolygon
	discs    []point
	lines    []drawnLine
	texts    []drawnText
}

type drawnPolygon struct {
	points []point
	colour color.NRGBA
}

type drawnLine struct {
	from, to point
	colour   color.NRGBA
}

type drawnText struct {
	x, y, width float64
	text        string
}

func (s *shapes) polygon(points []point, c color.NRGBA) {
	s.polygons = append(s.polygons, drawnPolygon{slices.Clone(points), c})
}
func (s *shapes) disc(x, y, _ float64, _ color.NRGBA) { s.discs = append(s.discs, point{x, y}) }
func (s *shapes) line(from, to point, _ float64, c color.NRGBA) {
	s.lines = append(s.lines, drawnLine{from, to, c})
}
func (s *shapes) text(x, y, size float64, bold bool, _ color.NRGBA, text string) {
	s.texts = append(s.texts, drawnText{x, y, fontOf(bold).width(text, size), text})
}
func (s *shapes) write(io.Writer) error { return nil }

// drawn paints a drawing, and holds that all of it is within its bounds.
func drawn(t *testing.T, d Drawing) *shapes {
	t.Helper()
	s := &shapes{}
	d.paint(&page{s})
	inside := func(what string, x, y float64) {
		if x < -0.01 || y < -0.01 || x > d.Width+0.01 || y > d.Height+0.01 || math.IsNaN(x+y) {
			t.Errorf("%s is at %.1f, %.1f, outside of %.0f by %.0f", what, x, y, d.Width, d.Height)
		}
	}
	for _, p := range s.polygons {
		for _, at := range p.points {
			inside("a corner", at.x, at.y)
		}
	}
	for _, l := range s.lines {
		inside("a line", l.from.x, l.from.y)
		inside("a line", l.to.x, l.to.y)
	}
	for _, at := range s.discs {
		inside("a disc", at.x, at.y)
	}
	for _, text := range s.texts {
		inside(text.text, text.x, text.y)
		inside(text.text, text.x+text.width, text.y)
	}
	return s
}

// rectangles returns the rectangles of a height, the upper left corner and the lower right one of each.
func (s *shapes) rectangles(height float64) (all [][2]point) {
	for _, p := range s.polygons {
		if len(p.points) == 4 && math.Abs(p.points[2].y-p.points[0].y-height) < 0.01 {
			all = append(all, [2]point{p.points[0], p.points[2]})
		}
	}
	return all
}

// TestShardsAreToScale draws random plans: each unit is as long as its time on one scale for all shards, units of a shard do not
// overlap, and none goes beyond the finish.
func TestShardsAreToScale(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 9))
	for range 30 {
		units := make([]schedule.Unit, 1+random.IntN(30))
		for i := range units {
			units[i] = schedule.Unit{Name: fmt.Sprint("unit ", i), Label: strings.Repeat("long ", random.IntN(40)), Seconds: float64(1 + random.IntN(60))}
		}
		plan := split.NewWork(units).Plan(split.Fleet{Shards: 1 + random.IntN(8)}, split.Quick)
		s := drawn(t, Shards("a plan", plan))
		bars := s.rectangles(barHeight)
		if len(bars) != len(units) {
			t.Fatalf("%d bars are drawn of %d units", len(bars), len(units))
		}
		scale := (pageWidth - barLeft - barRight) / plan.Finish
		n := 0
		for at, shard := range plan.Shards {
			end := barLeft
			for i, u := range shard.Units {
				bar := bars[n]
				n++
				want := (shard.UnitEnd(i) - u.Start) * scale
				if got := bar[1].x - bar[0].x; math.Abs(got-max(want-1, 0.3)) > 0.01 || bar[0].y != barTop+float64(at)*barPitch {
					t.Fatalf("unit %d of shard %d is %.2f long at row %.1f, want %.2f", i, at+1, got, bar[0].y, want-1)
				}
				if bar[0].x < end-0.01 || bar[1].x > barLeft+plan.Finish*scale+0.01 {
					t.Fatalf("unit %d of shard %d is drawn from %.2f to %.2f, after %.2f", i, at+1, bar[0].x, bar[1].x, end)
				}
				end = bar[1].x
			}
		}
		floor := barLeft + plan.Floor*scale
		if !slices.ContainsFunc(s.lines, func(l drawnLine) bool {
			return l.colour == amber && math.Abs(l.from.x-floor) < 0.01 && l.from.x == l.to.x
		}) {
			t.Errorf("no upright amber line is at the floor, %.2f", floor)
		}
	}
}

// TestTimelineIsToScale draws random runs: each failure has a triangle above its block, which is where and as long as its test was.
func TestTimelineIsToScale(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	ran := []run.Outcome{run.Passed, run.Failed, run.Errored, run.TimedOut, run.Owed, run.Surprise} // the axis begins with the first of these
	for range 30 {
		r, began := run.New(), time.Unix(5000, 0)
		r.Apply(run.Event{Event: run.RunBegins, At: began})
		workers := 1 + random.IntN(6)
		ends, bad := make([]float64, workers), 0
		for i := range 1 + random.IntN(60) {
			w := random.IntN(workers)
			seconds := 1 + random.Float64()*5
			e := run.Event{Event: run.Started, ID: fmt.Sprint("u:g#", i), Worker: w + 1, Batch: 1, At: began.Add(time.Duration(ends[w] * float64(time.Second)))}
			r.Apply(e)
			ends[w] += seconds
			e.Event, e.Outcome, e.Seconds, e.At = run.Finished, ran[random.IntN(len(ran))], &seconds, began.Add(time.Duration(ends[w]*float64(time.Second)))
			r.Apply(e)
			if e.Outcome.Bad() {
				bad++
			}
		}
		r.Apply(run.Event{Event: run.RunEnds, At: began.Add(time.Duration(slices.Max(ends) * float64(time.Second)))})
		s := drawn(t, Timeline("a run", r))
		blocks, triangles := s.rectangles(trackHeight), 0
		for _, p := range s.polygons {
			if len(p.points) == 3 && p.points[0].y < trackTop+float64(workers)*(trackHeight+trackGap) {
				triangles++
			}
		}
		if len(blocks) != len(r.Results) || triangles != bad {
			t.Fatalf("%d blocks and %d triangles are drawn of %d tests, %d of them bad", len(blocks), triangles, len(r.Results), bad)
		}
		scale := (pageWidth - margin - trackLeft) / r.Wall()
		for i, res := range r.Results {
			x, width := trackLeft+res.Started.Sub(r.FirstProcess()).Seconds()*scale, res.Ended.Sub(res.Started).Seconds()*scale
			if b := blocks[i]; math.Abs(b[0].x-x) > 0.01 || math.Abs(b[1].x-b[0].x-max(width-0.5, 0.4)) > 0.01 || b[0].y != trackTop+float64(res.Worker-1)*(trackHeight+trackGap) {
				t.Fatalf("%s is drawn from %.2f to %.2f at row %.1f, want from %.2f, %.2f long", res.ID, b[0].x, b[1].x, b[0].y, x, width)
			}
		}
	}
}

// sampleMatrix is two crossings that ended, of which one fails.
func sampleMatrix(t *testing.T) *matrix.Results {
	t.Helper()
	m, err := matrix.New(matrix.Spec{Names: []matrix.Name{{Name: "store", Values: []string{"memory", "redis"}}}})
	if err != nil {
		t.Fatal(err)
	}
	results := matrix.NewResults(m, m.Crossings, "./announce")
	for i, one := range results.Results {
		r := sampleRun(5 + 3*i)
		one.State, one.Began, one.Tests = matrix.Running, r.Started, len(r.Results)
		one.End(i+1, r)
	}
	return results
}

// TestChartsStayInside draws every chart of the registry: nothing of it is outside of its page.
func TestChartsStayInside(t *testing.T) {
	finding, records := sampleHunt()
	plan, points := samplePlan(90, 40, 30, 20)
	past := samplePast(t)
	results := sampleMatrix(t)
	data := Data{Title: strings.Repeat("a long title ", 4), Run: sampleRun(40), Pick: "valve", Weave: sampleWeave(), Plan: plan, Points: points, Shards: 3,
		Past: past, Tests: past.Order(history.ByTrouble, nil), Matrix: results, Explained: results.Explain(), Finding: finding, Trials: records}
	for _, c := range Charts {
		d, err := c.Draw(data)
		if err != nil {
			t.Fatal(err)
		}
		if s := drawn(t, d); len(s.texts) == 0 || len(s.polygons)+len(s.lines)+len(s.discs) == 0 {
			t.Errorf("the chart %s has %d texts and %d polygons", c.Name, len(s.texts), len(s.polygons))
		}
	}
}
