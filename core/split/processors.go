package split

import (
	"math"

	"fernrelay/core/schedule"
)

// unitAt is a unit of a plan, as a piece of what a lane does.
type unitAt struct{ shard, unit int } // unit is -1 while the lane waits

// slowDown stretches a plan whose shards share the processors of one machine.
func slowDown(p *Plan, f Fleet) {
	if f.Processors == 0 || !wantsMore(p, f) {
		return
	}
	lanes, pieces := p.lanes(f)
	schedule.SideBySide(pieces, f.Processors, func(lane, at int, now float64) { p.ended(lanes[lane], at, now) })
	computing, first := 0.0, math.Inf(1)
	for i := range p.Shards {
		for _, u := range p.Shards[i].Units {
			computing += u.Busy
		}
		if first = min(first, p.Shards[i].End); len(p.Shards[i].Units) > 0 {
			p.Finish = max(p.Finish, p.Shards[i].End)
		}
	}
	p.Spread = p.Finish - first
	p.Floor = min(max(p.Floor, computing/float64(f.Processors)), p.Finish)
	p.Optimal = p.Finish-p.Floor <= 1e-3*p.Finish
	p.Full = computing/float64(f.Processors) >= fullShare*p.Finish
	if p.Full {
		p.Setter, p.Held = nil, ""
	}
}

// fullShare is the part of a plan's time in which the processors are busy from which on they are what limits it.
const fullShare = 0.9

// wantsMore reports whether as many shards as run at once can want more processors than there are.
func wantsMore(p *Plan, f Fleet) bool {
	most := 0.0
	for i := range p.Shards {
		for _, u := range p.Shards[i].Units {
			most = max(most, u.Share())
		}
	}
	return most > 0 && max(1, most)*float64(f.AtOnce()) > float64(f.Processors)
}

// lanes returns what each of the workers that run at once does, piece by piece.
func (p *Plan) lanes(f Fleet) (lanes [][]unitAt, pieces [][]schedule.Piece) {
	n, free := f.AtOnce(), make([]float64, f.AtOnce())
	lanes, pieces = make([][]unitAt, n), make([][]schedule.Piece, n)
	add := func(lane int, u unitAt, piece schedule.Piece) {
		lanes[lane], pieces[lane] = append(lanes[lane], u), append(pieces[lane], piece)
	}
	for i := range p.Shards {
		s, lane := &p.Shards[i], i
		if n < f.Shards {
			lane = least(free)
		}
		for k := range s.Units {
			u := &s.Units[k]
			if wait := u.Start - free[lane]; wait > 0 {
				add(lane, unitAt{i, -1}, schedule.Piece{Seconds: wait})
			}
			add(lane, unitAt{i, k}, schedule.Piece{Seconds: s.UnitEnd(k) - u.Start, Share: u.Share()})
			free[lane] = s.UnitEnd(k)
		}
	}
	return lanes, pieces
}

// ended notes in the plan that a piece of a lane has ended, and that the next begins.
func (p *Plan) ended(lane []unitAt, at int, now float64) {
	if own := lane[at]; own.unit >= 0 {
		p.Shards[own.shard].End = now
	}
	if at+1 == len(lane) || lane[at+1].unit < 0 {
		return
	}
	next := lane[at+1]
	if p.Shards[next.shard].Units[next.unit].Start = now; next.unit == 0 {
		p.Shards[next.shard].Start = now
	}
}
