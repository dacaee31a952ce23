package tui

import (
	"maps"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/split"
	"fernrelay/internal/app"
	"fernrelay/internal/workspace"
)

// maxShards is the greatest number of shards in the split view.
const maxShards = 64

// splitting says how to split the picked tests.
type splitting struct {
	together catalog.Level
	shards   int             // also the number of workers of a run
	machines bool            // the shards are machines of their own, not workers of this one
	limit    int             // how many run at once; 0 for all
	late     map[int]float64 // by shard: seconds that it begins late
	pins     map[string]int  // by unit: its shard
}

func (s splitting) fleet() split.Fleet {
	return split.Fleet{Shards: s.shards, Limit: s.limit, Starts: s.late, Pins: s.pins}
}

// planning is a plan for a splitting of tests.
type planning struct {
	splitting
	study  *split.Study
	plan   split.Plan
	advice *split.Advice        // nil until it is worked out
	fleet  *split.FleetForecast // nil if no fleet run is known
	err    error                // why there is no plan
}

// planner plans beside the interface: first a quick plan, then a thorough one with advice.
type planner struct {
	app      *app.App
	want     splitting
	have     planning
	asked    int // counts requests
	answered int // the latest request that was answered
	advising bool
}

type (
	plannedMsg struct {
		asked int
		planning
	}
	advisedMsg struct {
		asked  int
		advice split.Advice
		fleet  *split.FleetForecast
	}
)

// newStudy makes tests ready to be split here.
func newStudy(r *app.App, tests []catalog.Test, s splitting) (*split.Study, error) {
	return r.Split(workspace.Lone(tests), s.together, s.fleet(), !s.machines)
}

// ask asks for a plan of the picked tests. again says that these are the same tests
// as for the plan before.
func (p *planner) ask(s *session, again bool) tea.Cmd {
	p.asked++
	p.app = s.app
	number, want, r, tests := p.asked, p.want, s.app, s.picked.tests
	want.late, want.pins = maps.Clone(want.late), maps.Clone(want.pins)
	known := p.have.study
	if !again || p.have.together != want.together || p.have.machines != want.machines || p.answered != p.asked-1 {
		known = nil
	}
	return func() tea.Msg {
		msg := plannedMsg{asked: number, planning: planning{splitting: want}}
		if known != nil {
			study := *known
			here := study.Fleet
			study.Fleet = want.fleet()
			study.Fleet.Resources, study.Fleet.Processors, study.Fleet.Start = here.Resources, here.Processors, here.Start
			msg.study = &study
		} else if msg.study, msg.err = newStudy(r, tests, want); msg.err != nil {
			msg.study, _ = newStudy(r, nil, want) // of nothing, which cannot go wrong
		}
		msg.plan = msg.study.Plan(split.Quick)
		return msg
	}
}

// take takes a plan and asks for advice on it.
func (p *planner) take(msg plannedMsg) tea.Cmd {
	if msg.asked < p.answered {
		return nil
	}
	p.answered, p.have = msg.asked, msg.planning
	return p.advise()
}

// advise computes advice for the present plan, unless it is computing some already.
func (p *planner) advise() tea.Cmd {
	if p.advising {
		return nil
	}
	p.advising = true
	number, study, plan, r := p.answered, p.have.study, p.have.plan, p.app
	return func() tea.Msg {
		if !plan.Optimal {
			plan = study.Plan(split.Thorough)
		}
		return advisedMsg{number, study.Advise(plan, maxShards), r.FleetForecast(study.Tests)}
	}
}

// advised takes advice, or asks for it again if the plan has changed.
func (p *planner) advised(msg advisedMsg) tea.Cmd {
	p.advising = false
	if msg.asked != p.answered {
		return p.advise()
	}
	p.have.plan, p.have.advice, p.have.fleet = msg.advice.Plan, &msg.advice, msg.fleet
	return nil
}
