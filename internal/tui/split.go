package tui

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
	"fernrelay/internal/wording"
)

// splitView shows the plan for a number of shards: a bar per shard, made of its units to scale, the floor as a
// line through all; below it the finish for other numbers, and in words whether another shard is worth it.
type splitView struct {
	session *session
	keyMap  splitKeyMap
	planner planner
	height  int    // of the view
	top     int    // the first shard shown
	shard   int    // of the cursor, from 0
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

// splitKeyMap has the keys of the view.
type splitKeyMap struct{ fewer, more, machines, together, limit, unlimit, late, queue, pin, carryUp, carryDown, up, down, left, right, run key.Binding }

func newSplitKeyMap() splitKeyMap {
	return splitKeyMap{
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

func newSplitView(s *session) *splitView {
	v := &splitView{session: s, keyMap: newSplitKeyMap()}
	v.planner.want = splitting{shards: min(s.app.Workers(), maxShards)}
	first := v.planner.ask(s, false)().(plannedMsg)
	v.planner.answered, v.planner.have = first.asked, first.planning
	return v
}

// plan returns the plan that is shown.
func (v *splitView) plan() *split.Plan { return &v.planner.have.plan }

// workers returns the number of workers of a run or a hunt.
func (v *splitView) workers() int { return v.planner.want.shards }

// replan asks for another plan of the same tests.
func (v *splitView) replan() tea.Msg { return background(v.planner.ask(v.session, true)) }

func (v *splitView) see(s *session) tea.Cmd {
	old := v.session
	if v.session = s; s.picked.weave != old.picked.weave {
		return v.planner.ask(s, false)
	}
	return nil
}

func (v *splitView) update(msg tea.Msg) (cmd tea.Cmd) {
	switch msg := msg.(type) {
	case plannedMsg:
		cmd = v.planner.take(msg)
	case advisedMsg:
		cmd = v.planner.advised(msg)
	default:
		return nil
	}
	v.planned()
	return cmd
}

// fit keeps the shard of the cursor in sight, and finds the longest tests under it.
func (v *splitView) fit(_, height int) tea.Cmd {
	v.height = height
	rows, shards := v.rows(height), len(v.plan().Shards)
	v.top = max(0, min(v.top, shards-rows, v.shard), v.shard-rows+1)
	if unit := v.under(); unit != nil {
		v.findLongest(unit)
	}
	return nil
}

func (v *splitView) name() string { return "Split" }

func (v *splitView) figure() (string, bool) {
	plan := v.plan()
	return fmt.Sprintf("%d × %s", len(plan.Shards), history.Clock(plan.Finish)), false
}

func (v *splitView) keys() []key.Binding {
	k := v.keyMap
	return []key.Binding{k.fewer, k.run, k.machines, k.together, k.pin, k.limit, k.late, k.queue, k.carryUp, k.up, keyDraw}
}

func (v *splitView) press(msg tea.KeyPressMsg) tea.Msg {
	k := v.keyMap
	switch {
	case key.Matches(msg, k.fewer):
		return v.shards(-1)
	case key.Matches(msg, k.more):
		return v.shards(1)
	case key.Matches(msg, k.machines):
		v.planner.want.machines = !v.planner.want.machines
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
		v.toShard(v.shard - 1)
	case key.Matches(msg, k.down):
		v.toShard(v.shard + 1)
	case key.Matches(msg, k.left):
		v.toUnit(-1)
	case key.Matches(msg, k.right):
		v.toUnit(1)
	case key.Matches(msg, k.run):
		return v.run()
	case key.Matches(msg, keyDraw):
		return v.draws()
	}
	return nil
}

func (v *splitView) shards(change int) tea.Msg {
	want := &v.planner.want
	want.shards = min(max(1, want.shards+change), maxShards)
	return v.replan()
}

// stay goes to the next finer of what stays together, and behind the finest to
// the coarsest. What was pinned is no unit then.
func (v *splitView) stay() tea.Msg {
	want := &v.planner.want
	next := map[catalog.Level]catalog.Level{catalog.GroupLevel: catalog.FileLevel, catalog.FileLevel: catalog.TestLevel, catalog.TestLevel: catalog.GroupLevel, catalog.SuiteLevel: catalog.GroupLevel}
	have := want.together
	if have == "" && v.planner.have.study != nil {
		have = v.planner.have.study.Together
	}
	want.together, want.pins, v.unit = cmp.Or(next[have], catalog.GroupLevel), nil, ""
	return v.replan()
}

// limit changes how many shards run at once, from all of them down to one.
func (v *splitView) limit(change int) tea.Msg {
	want := &v.planner.want
	at := want.limit
	if at == 0 || at > want.shards {
		at = want.shards
	}
	if at += change; at < 1 || at >= want.shards {
		at = 0
	}
	want.limit = at
	return v.replan()
}

// lateStarts are those that a shard can be given, in seconds.
var lateStarts = []float64{0, 15, 30, 60, 120}

// late gives the shard under the cursor its next later start.
func (v *splitView) late() tea.Msg {
	want := &v.planner.want
	if want.late == nil {
		want.late = map[int]float64{}
	}
	at := slices.Index(lateStarts, want.late[v.shard+1])
	if want.late[v.shard+1] = lateStarts[(at+1)%len(lateStarts)]; want.late[v.shard+1] == 0 {
		delete(want.late, v.shard+1)
	}
	v.unit = "" // the cursor stays with the shard, not with a unit that leaves it
	return v.replan()
}

// pin keeps the unit under the cursor on its shard, or lets it go again.
func (v *splitView) pin() tea.Msg {
	unit, want := v.under(), &v.planner.want
	if unit == nil {
		return nil
	}
	if want.pins[unit.Name] > 0 {
		delete(want.pins, unit.Name)
		return v.replan()
	}
	return v.pinTo(unit.Name, v.shard+1)
}

// carry takes the unit under the cursor to another shard and pins it there.
func (v *splitView) carry(change int) tea.Msg {
	unit, want := v.under(), &v.planner.want
	if unit == nil {
		return nil
	}
	number := v.shard + 1
	if pinned := want.pins[unit.Name]; pinned > 0 {
		number = pinned // which the plan that is shown may not know yet
	}
	if number += change; number < 1 || number > want.shards {
		return nil
	}
	return v.pinTo(unit.Name, number)
}

func (v *splitView) pinTo(name string, number int) tea.Msg {
	want := &v.planner.want
	if want.pins == nil {
		want.pins = map[string]int{}
	}
	want.pins[name] = number
	v.unit = name
	return v.replan()
}

// run runs the plan that is shown: each shard on a worker of its own, or all of it
// from one queue.
func (v *splitView) run() tea.Msg {
	have := v.planner.have // which may change before the run begins
	if have.study == nil || len(have.study.Tests) == 0 {
		return v.session.runPick()
	}
	start := startRunMsg{tests: have.study.Tests, picked: true}
	if !v.queue {
		start.plan = &runPlan{have.plan, have.study.Fleet}
	}
	return start
}

// draws asks for a drawing of the plan or of the curve.
func (v *splitView) draws() tea.Msg {
	have := v.planner.have
	if have.advice == nil || len(have.study.Tests) == 0 {
		return sayMsg("there is no plan yet: there is nothing to draw")
	}
	title := fmt.Sprintf("%s, on %s", cmp.Or(v.session.picked.text, "all tests"), wording.Plural(len(have.plan.Shards), "shard"))
	return drawTo("Draw the plan",
		chart{"shards", "a bar per shard", func() (draw.Drawing, error) { return draw.Shards(title, have.plan), nil }},
		chart{"curve", "the finish by number of shards", func() (draw.Drawing, error) { return draw.Curve(title, have.advice.Points, have.shards), nil }})
}

// click moves the cursor to a shard.
func (v *splitView) click(_, y int) {
	if step := v.step(v.height); y >= barsTop && y < barsTop+step*v.rows(v.height) {
		v.toShard(v.top + (y-barsTop)/step)
	}
}

func (v *splitView) toShard(at int) {
	v.shard, v.unit = max(0, min(at, len(v.plan().Shards)-1)), ""
}

// toUnit moves the cursor along the shard.
func (v *splitView) toUnit(change int) {
	units := v.plan().Shards[v.shard].Units
	if len(units) == 0 {
		return
	}
	at := max(0, min(v.place(units)+change, len(units)-1))
	v.unit = units[at].Name
}

// place is the index of the unit under the cursor among those of its shard.
func (v *splitView) place(units []split.Placed) int {
	return max(0, slices.IndexFunc(units, func(u split.Placed) bool { return u.Name == v.unit }))
}

// under returns the unit under the cursor, nil if there is none.
func (v *splitView) under() *split.Placed {
	plan := v.plan()
	if v.shard >= len(plan.Shards) || len(plan.Shards[v.shard].Units) == 0 {
		return nil
	}
	units := plan.Shards[v.shard].Units
	return &units[v.place(units)]
}

// planned lets the cursor follow its unit to its place in a new plan.
func (v *splitView) planned() {
	plan := v.plan()
	v.shard = min(v.shard, len(plan.Shards)-1)
	if v.unit == "" {
		return
	}
	for i, s := range plan.Shards {
		if slices.ContainsFunc(s.Units, func(u split.Placed) bool { return u.Name == v.unit }) {
			v.shard = i
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
func (v *splitView) step(height int) int {
	if height < barsTop+2*len(v.plan().Shards)+3+leastCurve(height) {
		return 1
	}
	return 2
}

// rows returns how many shards are shown.
func (v *splitView) rows(height int) int {
	return max(1, min(len(v.plan().Shards), (height-barsTop-3-leastCurve(height))/v.step(height)))
}

func (v splitView) draw(c canvas) {
	plan := v.plan()
	if len(v.session.picked.tests) == 0 {
		c.text(2, 1, style{colour: c.theme.fog}, "the pick selects no test: there is nothing to split")
		return
	}
	if err := v.planner.have.err; err != nil {
		for i, line := range strings.Split(ansi.Wrap(plain.Line(err.Error()), c.width-4, " "), "\n") {
			c.text(2, 1+i, style{colour: c.theme.amber}, line)
		}
		return
	}
	v.drawHeading(c, plan)
	step, rows := v.step(c.height), v.rows(c.height)
	y := barsTop + rows*step + 1
	if v.queue {
		v.drawSpread(c.sub(0, barsTop, c.width, rows*step+1))
	} else {
		v.drawBars(c.sub(0, barsTop, c.width, rows*step+1), plan, rows, step)
		v.drawUnder(c, y)
	}
	y += 2
	half := c.width
	if c.width >= wideScreen {
		half = c.width * 11 / 20
	}
	v.drawCurve(c.sub(0, y, half, c.height-y))
	if half < c.width {
		v.drawAdvice(c.sub(half+4, y, c.width-half-5, c.height-y))
	}
}
