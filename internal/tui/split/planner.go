package split

import (
	"maps"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/schedule"
	"fernrelay/core/split"
	"fernrelay/internal/app"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/workspace"
)

// MaxShards is the greatest number of shards in the split view.
const MaxShards = 64

// Splitting says how to split the picked tests.
type Splitting struct {
	Together catalog.Level
	Shards   int             // also the number of workers of a run
	machines bool            // the shards are machines of their own, not workers of this one
	Limit    int             // how many run at once; 0 for all
	Late     map[int]float64 // by shard: seconds that it begins late
	Pins     map[string]int  // by unit: its shard
}

func (s Splitting) fleet() split.Fleet {
	return split.Fleet{Shards: s.Shards, Limit: s.Limit, Starts: s.Late, Pins: s.Pins}
}

// planning is a plan for a splitting of tests.
type planning struct {
	Splitting
	study  *split.Study
	plan   split.Plan
	Advice *split.Advice           // nil until it is worked out
	fleet  *schedule.FleetForecast // nil if no fleet run is known
	Err    error                   // why there is no plan
}

// planner plans beside the interface: first a quick plan, then a thorough one with advice.
type planner struct {
	app      *app.App
	Want     Splitting
	Have     planning
	asked    int // counts requests
	answered int // the latest request that was answered
	advising bool
}

type (
	PlannedMsg struct {
		asked int
		planning
	}
	AdvisedMsg struct {
		asked  int
		advice split.Advice
		fleet  *schedule.FleetForecast
	}
)

// newStudy makes tests ready to be split here.
func newStudy(r *app.App, tests []catalog.Test, s Splitting) (*split.Study, error) {
	return r.Split(workspace.Lone(tests), s.Together, s.fleet(), !s.machines)
}

// Ask asks for a plan of the picked tests. again says that these are the same tests
// as for the plan before.
func (p *planner) Ask(s *leg.Session, again bool) tea.Cmd {
	p.asked++
	p.app = s.App
	number, want, r, tests := p.asked, p.Want, s.App, s.Picked.Selected
	want.Late, want.Pins = maps.Clone(want.Late), maps.Clone(want.Pins)
	known := p.Have.study
	if !again || p.Have.Together != want.Together || p.Have.machines != want.machines || p.answered != p.asked-1 {
		known = nil
	}
	return func() tea.Msg {
		msg := PlannedMsg{asked: number, planning: planning{Splitting: want}}
		if known != nil {
			study := *known
			here := study.Fleet
			study.Fleet = want.fleet()
			study.Fleet.Resources, study.Fleet.Processors, study.Fleet.Start = here.Resources, here.Processors, here.Start
			msg.study = &study
		} else if msg.study, msg.Err = newStudy(r, tests, want); msg.Err != nil {
			msg.study, _ = newStudy(r, nil, want) // of nothing, which cannot go wrong
		}
		msg.plan = msg.study.Plan(split.Quick)
		return msg
	}
}

// Take takes a plan and asks for advice on it.
func (p *planner) Take(msg PlannedMsg) tea.Cmd {
	if msg.asked < p.answered {
		return nil
	}
	p.answered, p.Have = msg.asked, msg.planning
	return p.Advise()
}

// Advise computes advice for the present plan, unless it is computing some already.
func (p *planner) Advise() tea.Cmd {
	if p.advising {
		return nil
	}
	p.advising = true
	number, study, plan, r := p.answered, p.Have.study, p.Have.plan, p.app
	return func() tea.Msg {
		if !plan.Optimal {
			plan = study.Plan(split.Thorough)
		}
		return AdvisedMsg{number, study.Advise(plan, MaxShards), r.FleetForecast(study.Tests)}
	}
}

// Advised takes advice, or asks for it again if the plan has changed.
func (p *planner) Advised(msg AdvisedMsg) tea.Cmd {
	p.advising = false
	if msg.asked != p.answered {
		return p.Advise()
	}
	p.Have.plan, p.Have.Advice, p.Have.fleet = msg.advice.Plan, &msg.advice, msg.fleet
	return nil
}
