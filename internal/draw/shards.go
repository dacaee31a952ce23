package draw

import (
	"fmt"
	"image/color"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/split"
	"fernrelay/internal/wording"
)

const (
	barTop    = 92.0
	barHeight = 22.0
	barPitch  = 32.0
	barLeft   = 64.0
	barRight  = 150.0 // for what follows a bar
)

// Shards draws a plan: a bar per shard, made of its units to scale, and the floor as a line through all.
//
//	barLeft                                barRight
//	   1 ▐██████▌██████▌█████│              0:31.0   12 tests
//	   2 ▐████████▌██████████│              0:31.0    9 tests
//	                         floor
//
// All shards share one scale, so that the white between the bars and the floor line is what a better plan could save.
func Shards(title string, plan split.Plan) Drawing {
	bottom := barTop + float64(len(plan.Shards))*barPitch
	return Drawing{Width: pageWidth, Height: bottom + 76, paint: func(p *page) {
		p.text(margin, 36, 15, true, fromLeft, ink, fits(plain.Line(title), 15, pageWidth-2*margin))
		p.text(margin, 56, 10, false, fromLeft, fog, fmt.Sprintf("%s; finish %s, floor %s, spread %s, alone %s; plan %s", wording.Plural(len(plan.Shards), "shard"),
			history.ClockTenths(plan.Finish), history.ClockTenths(plan.Floor), history.ClockTenths(plan.Spread), history.ClockTenths(plan.Work), plan.Fingerprint()))
		scale := (pageWidth - barLeft - barRight) / max(plan.Finish, 1e-9)
		secondsAxis(p, plan.Finish, scale, bottom)
		for i, s := range plan.Shards {
			drawShard(p, plan, s, barTop+float64(i)*barPitch, scale)
		}
		x := barLeft + plan.Floor*scale
		p.line(x, barTop-8, x, bottom, 1, amber)
		label := "floor " + history.ClockTenths(plan.Floor)
		if setting := plan.Setting(); setting != "" {
			label += ", " + fits(plain.Line(setting), 9, 240)
		}
		p.text(x, barTop-12, 9, false, fromRight, amber, label)
		p.rect(barLeft, bottom+44, 8, 8, mixed(leaf, 0.6))
		p.text(barLeft+12, bottom+52, 9, false, fromLeft, fog, "a unit that stays together, to scale")
		p.rect(barLeft+190, bottom+44, 8, 8, mixed(amber, 0.6))
		p.text(barLeft+202, bottom+52, 9, false, fromLeft, fog, "the unit that is the floor")
	}}
}

func drawShard(p *page, plan split.Plan, s split.Shard, y, scale float64) {
	p.text(barLeft-12, y+barHeight*0.66, 10, true, fromRight, ink, fmt.Sprint(s.Number))
	for i, u := range s.Units {
		from, to := barLeft+u.Start*scale, barLeft+s.UnitEnd(i)*scale
		shade := mixed(leaf, 0.62-0.08*float64(min(i, 5)))
		if plan.Setter != nil && plan.Setter.Name == u.Name {
			shade = mixed(amber, 0.6)
		}
		p.rect(from, y, max(to-from-1, 0.3), barHeight, shade)
		if label := fits(plain.Line(u.Label), 9, to-from-8); label != "" {
			text := color.NRGBA(white)
			if i > 1 {
				text = ink
			}
			p.text(from+4, y+barHeight*0.64, 9, false, fromLeft, text, label)
		}
	}
	x := pageWidth - barRight + 14
	p.text(x+36, y+barHeight*0.66, 10, true, fromRight, ink, history.ClockTenths(s.Seconds()))
	p.text(x+46, y+barHeight*0.66, 9, false, fromLeft, fog, wording.Plural(len(s.Tests()), "test"))
}

// secondsAxis draws ticks at round times below the bars.
func secondsAxis(p *page, seconds, scale, bottom float64) {
	for _, tick := range wording.Ticks(seconds, mostTicks) {
		x := barLeft + tick.Seconds*scale
		p.line(x, barTop-8, x, bottom, 0.4, mixed(fog, 0.35))
		p.text(x, bottom+12, 9, false, centred, fog, tick.Label)
	}
	p.text(barLeft, bottom+25, 9, false, fromLeft, fog, "time since the plan begins")
}

const (
	curveTop    = 84.0
	curveHeight = 240.0
)

// curve draws the finish against the number of shards, with what the machines cost
// together, the knee, and the number chosen, 0 for none.
func curve(title string, points []split.Point, chosen int) Drawing {
	bottom := curveTop + curveHeight
	return Drawing{Width: pageWidth, Height: bottom + 84, paint: func(p *page) {
		knee := split.Knee(points)
		p.text(margin, 36, 15, true, fromLeft, ink, fits(plain.Line(title), 15, pageWidth-2*margin))
		p.text(margin, 56, 10, false, fromLeft, fog, fmt.Sprintf("finish by number of shards; beyond %d machines cost more than they save", knee))
		most, machines := points[0].Finish, 0.0
		for _, point := range points {
			most, machines = max(most, point.Finish), max(machines, point.Machines())
		}
		height := func(seconds float64) float64 { return curveHeight * seconds / max(most, 1e-9) }
		for _, tick := range wording.Ticks(most, mostTicks) {
			y := bottom - height(tick.Seconds)
			p.line(barLeft, y, pageWidth-margin-40, y, 0.4, mixed(fog, 0.35))
			p.text(barLeft-8, y+3, 9, false, fromRight, fog, tick.Label)
		}
		pitch := (pageWidth - barLeft - margin - 40) / float64(len(points))
		for i, point := range points {
			x := barLeft + (float64(i)+0.15)*pitch
			c, amount, bold := leaf, 0.45, point.Shards == chosen
			if bold {
				amount = 1
			}
			p.rect(x, bottom-height(point.Finish), pitch*0.7, height(point.Finish), mixed(c, amount))
			floor := bottom - height(point.Floor)
			p.line(x-pitch*0.1, floor, x+pitch*0.8, floor, 1, amber)
			p.disc(x+pitch*0.35, bottom-curveHeight*point.Machines()/max(machines, 1e-9), 2.2, water)
			if every := 1 + len(points)/40; i%every == 0 || bold {
				p.text(x+pitch*0.35, bottom+13, 9, bold, centred, ink, fmt.Sprint(point.Shards))
			}
			if point.Shards == knee {
				p.text(x+pitch*0.35, bottom-6, 9, true, centred, ink, "knee")
			}
		}
		p.text(pageWidth-margin-34, bottom-curveHeight+3, 9, false, fromLeft, water, history.Clock(machines))
		p.text(pageWidth-margin-34, bottom+3, 9, false, fromLeft, water, "0")
		p.text(barLeft, bottom+27, 9, false, fromLeft, fog, "shards; the time of the finish on the left and of all machines together on the right")
		x := barLeft
		for _, entry := range []struct {
			c    color.NRGBA
			text string
		}{{mixed(leaf, 0.45), "finish"}, {amber, "floor"}, {water, "machine time"}} {
			p.rect(x, bottom+44, 8, 8, entry.c)
			p.text(x+12, bottom+52, 9, false, fromLeft, fog, entry.text)
			x += 90
		}
	}}
}
