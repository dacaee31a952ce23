package split

import (
	"math"

	"fernrelay/core/schedule"
)

// piece is a part of what a lane does.
type piece struct {
	seconds, share float64
	shard, unit    int // of the plan; unit is -1 while the lane waits
}

// slowDown stretches a plan whose shards share the processors of one machine.
func slowDown(p *Plan, f Fleet) {
	if f.Processors == 0 || !wantsMore(p, f) {
		return
	}
	lanes := p.lanes(f)
	at, left := make([]int, len(lanes)), make([]float64, len(lanes))
	for i := range lanes {
		left[i] = lanes[i][0].seconds
	}
	var active []int
	var shares []float64
	now := 0.0
	for {
		active, shares = active[:0], shares[:0]
		for i := range lanes {
			if at[i] < len(lanes[i]) {
				active, shares = append(active, i), append(shares, lanes[i][at[i]].share)
			}
		}
		if len(active) == 0 {
			break
		}
		pace := schedule.Paces(shares, f.Processors)
		step := math.Inf(1)
		for k, i := range active {
			step = min(step, left[i]*pace[k])
		}
		now += step
		for k, i := range active {
			if left[i] -= step / pace[k]; left[i] > 1e-12 {
				continue
			}
			p.ended(lanes[i], at[i], now)
			if at[i]++; at[i] < len(lanes[i]) {
				left[i] = lanes[i][at[i]].seconds
			}
		}
	}
	computing := 0.0
	for i := range p.Shards {
		for _, u := range p.Shards[i].Units {
			computing += u.Busy
		}
	}
	first := math.Inf(1)
	for i := range p.Shards {
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
func (p *Plan) lanes(f Fleet) [][]piece {
	lanes, free := make([][]piece, f.AtOnce()), make([]float64, f.AtOnce())
	for i := range p.Shards {
		s, lane := &p.Shards[i], i
		if f.AtOnce() < f.Shards {
			lane = least(free)
		}
		for k := range s.Units {
			u := &s.Units[k]
			if wait := u.Start - free[lane]; wait > 0 {
				lanes[lane] = append(lanes[lane], piece{seconds: wait, shard: i, unit: -1})
			}
			lanes[lane] = append(lanes[lane], piece{s.UnitEnd(k) - u.Start, u.Share(), i, k})
			free[lane] = s.UnitEnd(k)
		}
	}
	for i := range lanes {
		if len(lanes[i]) == 0 {
			lanes[i] = []piece{{unit: -1}}
		}
	}
	return lanes
}

// ended notes in the plan that a piece of a lane has ended, and that the next begins.
func (p *Plan) ended(lane []piece, at int, now float64) {
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
