package split

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/split"
	"fernrelay/internal/draw"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
	"fernrelay/internal/wording"
)

// View shows the plan for a number of shards: a bar per shard, made of its units to scale, the floor as a
// line through all; below it the finish for other numbers, and in words whether another shard is worth it.
type View struct {
	leg.Base
	session *leg.Session
	keyMap  keyMap
	Planner planner
	height  int    // of the view
	top     int    // the first shard shown
	Shard   int    // of the cursor, from 0
	unit    string // under the cursor; the first of the shard if it is none of them
	queue   bool   // a shared queue is shown and run, not fixed shards
	longest longestTests
}

// longestTests are the longest tests of a unit of a plan, kept while both stay the same.
type longestTests struct {
	plan  int
	unit  string
	tests []catalog.Test
}

// keyMap has the keys of the view.
type keyMap struct{ fewer, more, machines, together, limit, unlimit, late, queue, pin, carryUp, carryDown, up, down, left, right, run key.Binding }

func newKeyMap() keyMap {
	return keyMap{
		fewer:     key.NewBinding(key.WithKeys("["), key.WithHelp("[ ]", "shards")),
		more:      key.NewBinding(key.WithKeys("]")),
		machines:  key.NewBinding(key.WithKeys("m"), key.WithHelp("m", "workers or machines")),
		together:  key.NewBinding(key.WithKeys("t"), key.WithHelp("t", "together")),
		limit:     key.NewBinding(key.WithKeys("l"), key.WithHelp("l L", "limit")),
		unlimit:   key.NewBinding(key.WithKeys("L")),
		late:      key.NewBinding(key.WithKeys("w"), key.WithHelp("w", "late start")),
		queue:     key.NewBinding(key.WithKeys("u"), key.WithHelp("u", "fixed or queue")),
		pin:       key.NewBinding(key.WithKeys("p"), key.WithHelp("p", "pin")),
		carryUp:   key.NewBinding(key.WithKeys("K", "shift+up"), key.WithHelp("J K", "carry")),
		carryDown: key.NewBinding(key.WithKeys("J", "shift+down")),
		up:        key.NewBinding(key.WithKeys("up", "k"), key.WithHelp("↑↓←→", "units")),
		down:      key.NewBinding(key.WithKeys("down", "j")),
		left:      key.NewBinding(key.WithKeys("left", "h")),
		right:     key.NewBinding(key.WithKeys("right")),
		run:       key.NewBinding(key.WithKeys("enter", "r"), key.WithHelp("enter", "run it")),
	}
}

// New returns the leg.
func New(s *leg.Session) *View {
	v := &View{session: s, keyMap: newKeyMap()}
	v.Planner.Want = Splitting{Shards: min(s.App.Workers(), MaxShards)}
	first := v.Planner.Ask(s, false)().(PlannedMsg)
	v.Planner.answered, v.Planner.Have = first.asked, first.planning
	return v
}

// Plan returns the plan that is shown.
func (v *View) Plan() *split.Plan { return &v.Planner.Have.plan }

// Workers returns the number of workers of a run or a hunt.
func (v *View) Workers() int { return v.Planner.Want.Shards }

// replan asks for another plan of the same tests.
func (v *View) replan() tea.Msg { return leg.Background(v.Planner.Ask(v.session, true)) }

func (v *View) See(s *leg.Session) tea.Cmd {
	old := v.session
	v.session = s
	if n := s.App.Workers(); n != old.App.Workers() { // fern.toml has another count
		v.Planner.Want.Shards = min(n, MaxShards)
		return v.Planner.Ask(s, false)
	}
	if s.Picked.Weave != old.Picked.Weave {
		return v.Planner.Ask(s, false)
	}
	return nil
}

func (v *View) Update(msg tea.Msg) (cmd tea.Cmd) {
	switch msg := msg.(type) {
	case PlannedMsg:
		cmd = v.Planner.Take(msg)
	case AdvisedMsg:
		cmd = v.Planner.Advised(msg)
	default:
		return nil
	}
	v.planned()
	return cmd
}

// Fit keeps the shard of the cursor in sight, and finds the longest tests under it.
func (v *View) Fit(_, height int) tea.Cmd {
	v.height = height
	rows, shards := v.rows(height), len(v.Plan().Shards)
	v.top = max(0, min(v.top, shards-rows, v.Shard), v.Shard-rows+1)
	if unit := v.Under(); unit != nil {
		v.findLongest(unit)
	}
	return nil
}

func (v *View) Name() string { return "Split" }

func (v *View) Figure() (string, bool) {
	plan := v.Plan()
	return fmt.Sprintf("%d × %s", len(plan.Shards), history.Clock(plan.Finish)), false
}

func (v *View) Keys() []key.Binding {
	k := v.keyMap
	return []key.Binding{k.fewer, k.run, k.machines, k.together, k.pin, k.limit, k.late, k.queue, k.carryUp, k.up, leg.KeyDraw}
}

func (v *View) Press(msg tea.KeyPressMsg) tea.Msg {
	k := v.keyMap
	switch {
	case key.Matches(msg, k.fewer):
		return v.shards(-1)
	case key.Matches(msg, k.more):
		return v.shards(1)
	case key.Matches(msg, k.machines):
		v.Planner.Want.machines = !v.Planner.Want.machines
		return v.replan()
	case key.Matches(msg, k.together):
		return v.stay()
	case key.Matches(msg, k.limit):
		return v.limit(-1)
	case key.Matches(msg, k.unlimit):
		return v.limit(1)
	case key.Matches(msg, k.late):
		return v.late()
	case key.Matches(msg, k.queue):
		v.queue = !v.queue
	case key.Matches(msg, k.pin):
		return v.pin()
	case key.Matches(msg, k.carryUp):
		return v.carry(-1)
	case key.Matches(msg, k.carryDown):
		return v.carry(1)
	case key.Matches(msg, k.up):
		v.toShard(v.Shard - 1)
	case key.Matches(msg, k.down):
		v.toShard(v.Shard + 1)
	case key.Matches(msg, k.left):
		v.toUnit(-1)
	case key.Matches(msg, k.right):
		v.toUnit(1)
	case key.Matches(msg, k.run):
		return v.run()
	case key.Matches(msg, leg.KeyDraw):
		return v.draws()
	}
	return nil
}

func (v *View) shards(change int) tea.Msg {
	want := &v.Planner.Want
	want.Shards = min(max(1, want.Shards+change), MaxShards)
	return v.replan()
}

// stay goes to the next finer of what stays together, and behind the finest to
// the coarsest. What was pinned is no unit then.
func (v *View) stay() tea.Msg {
	want := &v.Planner.Want
	next := map[catalog.Level]catalog.Level{catalog.GroupLevel: catalog.FileLevel, catalog.FileLevel: catalog.TestLevel, catalog.TestLevel: catalog.GroupLevel, catalog.SuiteLevel: catalog.GroupLevel}
	have := want.Together
	if have == "" && v.Planner.Have.study != nil {
		have = v.Planner.Have.study.Together
	}
	want.Together, want.Pins, v.unit = cmp.Or(next[have], catalog.GroupLevel), nil, ""
	return v.replan()
}

// limit changes how many shards run at once, from all of them down to one.
func (v *View) limit(change int) tea.Msg {
	want := &v.Planner.Want
	at := want.Limit
	if at == 0 || at > want.Shards {
		at = want.Shards
	}
	if at += change; at < 1 || at >= want.Shards {
		at = 0
	}
	want.Limit = at
	return v.replan()
}

// lateStarts are those that a shard can be given, in seconds.
var lateStarts = []float64{0, 15, 30, 60, 120}

// late lets the shard under the cursor start later.
func (v *View) late() tea.Msg {
	want := &v.Planner.Want
	if want.Late == nil {
		want.Late = map[int]float64{}
	}
	at := slices.Index(lateStarts, want.Late[v.Shard+1])
	if want.Late[v.Shard+1] = lateStarts[(at+1)%len(lateStarts)]; want.Late[v.Shard+1] == 0 {
		delete(want.Late, v.Shard+1)
	}
	v.unit = "" // the cursor stays with the shard, not with a unit that leaves it
	return v.replan()
}

// pin keeps the unit under the cursor on its shard, or lets it go again.
func (v *View) pin() tea.Msg {
	unit, want := v.Under(), &v.Planner.Want
	if unit == nil {
		return nil
	}
	if want.Pins[unit.Name] > 0 {
		delete(want.Pins, unit.Name)
		return v.replan()
	}
	return v.pinTo(unit.Name, v.Shard+1)
}

// carry takes the unit under the cursor to another shard and pins it there.
func (v *View) carry(change int) tea.Msg {
	unit, want := v.Under(), &v.Planner.Want
	if unit == nil {
		return nil
	}
	number := v.Shard + 1
	if pinned := want.Pins[unit.Name]; pinned > 0 {
		number = pinned // which the plan that is shown may not know yet
	}
	if number += change; number < 1 || number > want.Shards {
		return nil
	}
	return v.pinTo(unit.Name, number)
}

func (v *View) pinTo(name string, number int) tea.Msg {
	want := &v.Planner.Want
	if want.Pins == nil {
		want.Pins = map[string]int{}
	}
	want.Pins[name] = number
	v.unit = name
	return v.replan()
}

// run runs the plan that is shown: each shard on a worker of its own, or all of it
// from one queue.
func (v *View) run() tea.Msg {
	have := v.Planner.Have // which may change before the run begins
	if have.study == nil || len(have.study.Tests) == 0 {
		return v.session.RunPick()
	}
	start := leg.StartRunMsg{Tests: have.study.Tests, Picked: true}
	if !v.queue {
		start.Plan = &leg.RunPlan{Plan: have.plan, Fleet: have.study.Fleet}
	}
	return start
}

// draws asks for a drawing of the plan or of the curve.
func (v *View) draws() tea.Msg {
	have := v.Planner.Have
	if have.Advice == nil || len(have.study.Tests) == 0 {
		return leg.SayMsg("there is no plan yet: there is nothing to draw")
	}
	title := fmt.Sprintf("%s, on %s", cmp.Or(v.session.Picked.Text, "all tests"), wording.Plural(len(have.plan.Shards), "shard"))
	return leg.DrawTo("Draw the plan", draw.Data{Title: title, Plan: have.plan, Points: have.Advice.Points, Shards: have.Shards}, draw.OfPlan, draw.OfCurve)
}

// Click moves the cursor to a shard.
func (v *View) Click(_, y int) {
	if step := v.step(v.height); y >= barsTop && y < barsTop+step*v.rows(v.height) {
		v.toShard(v.top + (y-barsTop)/step)
	}
}

func (v *View) toShard(at int) {
	v.Shard, v.unit = max(0, min(at, len(v.Plan().Shards)-1)), ""
}

// toUnit moves the cursor along the shard.
func (v *View) toUnit(change int) {
	units := v.Plan().Shards[v.Shard].Units
	if len(units) == 0 {
		return
	}
	at := max(0, min(v.place(units)+change, len(units)-1))
	v.unit = units[at].Name
}

// place is the index of the unit under the cursor among those of its shard.
func (v *View) place(units []split.Placed) int {
	return max(0, slices.IndexFunc(units, func(u split.Placed) bool { return u.Name == v.unit }))
}

// Under returns the unit under the cursor, nil if there is none.
func (v *View) Under() *split.Placed {
	plan := v.Plan()
	if v.Shard >= len(plan.Shards) || len(plan.Shards[v.Shard].Units) == 0 {
		return nil
	}
	units := plan.Shards[v.Shard].Units
	return &units[v.place(units)]
}

// planned lets the cursor follow its unit to its place in a new plan.
func (v *View) planned() {
	plan := v.Plan()
	v.Shard = min(v.Shard, len(plan.Shards)-1)
	if v.unit == "" {
		return
	}
	for i, s := range plan.Shards {
		if slices.ContainsFunc(s.Units, func(u split.Placed) bool { return u.Name == v.unit }) {
			v.Shard = i
			return
		}
	}
	v.unit = ""
}

// The rows of the view: the heading is in row 1, the bars begin below it.
const barsTop = 3

// leastCurve returns the rows that are kept for the curve and the sentences.
func leastCurve(height int) int { return max(8, min(15, height*2/5)) }

// step returns how many rows a shard takes.
func (v *View) step(height int) int {
	if height < barsTop+2*len(v.Plan().Shards)+3+leastCurve(height) {
		return 1
	}
	return 2
}

// rows returns how many shards are shown.
func (v *View) rows(height int) int {
	return max(1, min(len(v.Plan().Shards), (height-barsTop-3-leastCurve(height))/v.step(height)))
}

func (v View) Draw(c screen.Canvas) {
	plan := v.Plan()
	if len(v.session.Picked.Selected) == 0 {
		c.Text(2, 1, screen.Style{Colour: c.Theme.Fog}, "the pick selects no test: there is nothing to split")
		return
	}
	if err := v.Planner.Have.Err; err != nil {
		for i, line := range strings.Split(ansi.Wrap(plain.Line(err.Error()), c.Width-4, " "), "\n") {
			c.Text(2, 1+i, screen.Style{Colour: c.Theme.Amber}, line)
		}
		return
	}
	v.drawHeading(c, plan)
	step, rows := v.step(c.Height), v.rows(c.Height)
	y := barsTop + rows*step + 1
	if v.queue {
		v.drawSpread(c.Sub(0, barsTop, c.Width, rows*step+1))
	} else {
		v.drawBars(c.Sub(0, barsTop, c.Width, rows*step+1), plan, rows, step)
		v.drawUnder(c, y)
	}
	y += 2
	half := c.Width
	if c.Width >= screen.WideScreen {
		half = c.Width * 11 / 20
	}
	v.drawCurve(c.Sub(0, y, half, c.Height-y))
	if half < c.Width {
		v.drawAdvice(c.Sub(half+4, y, c.Width-half-5, c.Height-y))
	}
}
