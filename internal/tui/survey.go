package tui

import (
	"fmt"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/internal/draw"
)

// survey shows the project's tests: the weave of groups and tags, the tests of the cell under the cursor, how the
// pick narrows, and the card of one test.
type survey struct {
	session  *session
	keyMap   surveyKeyMap
	row      int // of layout.rows; after them comes the margin of all
	column   int // of layout.columns; after them comes the margin of tests
	top      int // the first row shown
	left     int // the first column shown
	test     int // of the list beside the weave
	testTop  int
	focus    panel
	why      bool            // show why the test is in the pick or out
	folded   map[string]bool // by foldKey; nil before the first layout
	folds    int             // changes of folded
	byRow    catalog.Order
	byColumn catalog.Order
	arranged layout
	listed   cellList
	source   source // of the test whose card is open
	steps    unfoldedSteps

	names    int // the width of the groups' names
	columns  int // of tags that are shown
	rows     int // of groups that are shown
	listLeft int // the first column of the list; 0 if it is not shown
}

// panel is a part of the survey that has the keys.
type panel int

const (
	onWeave panel = iota
	onList
	onCard
)

// surveyKeyMap has the keys of the view.
type surveyKeyMap struct{ panel, narrow, takeOut, only, undo, fold, rows, columns, rule, why, save, look, run, edit, hunt key.Binding }

func newSurveyKeyMap() surveyKeyMap {
	return surveyKeyMap{
		panel:   keyPanel,
		narrow:  key.NewBinding(key.WithKeys("+"), key.WithHelp("+", "narrow")),
		takeOut: key.NewBinding(key.WithKeys("-"), key.WithHelp("-", "take out")),
		only:    key.NewBinding(key.WithKeys("="), key.WithHelp("=", "only")),
		undo:    key.NewBinding(key.WithKeys("backspace"), key.WithHelp("⌫", "undo")),
		fold:    key.NewBinding(key.WithKeys("space"), key.WithHelp("space", "fold")),
		rows:    key.NewBinding(key.WithKeys("o"), key.WithHelp("o", "order rows")),
		columns: key.NewBinding(key.WithKeys("O"), key.WithHelp("O", "order columns")),
		rule:    key.NewBinding(key.WithKeys("R"), key.WithHelp("R", "rule")),
		why:     key.NewBinding(key.WithKeys("y"), key.WithHelp("y", "why")),
		save:    key.NewBinding(key.WithKeys("s"), key.WithHelp("s", "save pick")),
		look:    key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "look into")),
		run:     key.NewBinding(key.WithKeys("r"), key.WithHelp("r", "run")),
		edit:    key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "editor")),
		hunt:    key.NewBinding(key.WithKeys("H"), key.WithHelp("H", "hunt")),
	}
}

func (v *survey) see(s *session) tea.Cmd {
	v.session = s
	return nil
}

func (v *survey) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case sourceReadMsg:
		v.source.take(msg)
	case stepsReadMsg:
		return v.takeSteps(msg)
	}
	return nil
}

// fit lays out the weave and the list, and reads the source of the test whose card is open.
func (v *survey) fit(width, height int) tea.Cmd {
	list := v.list()
	v.listLeft = 0
	switch wide := width >= wideScreen; {
	case v.focus == onCard:
		return v.readSource()
	case wide:
		v.listLeft = v.weaveWidth(width) + 3
		v.testTop = follow(v.testTop, v.test, height-3, list.sum.Tests)
		v.fitSteps(height - 3)
	case v.focus == onList:
		v.listLeft = 1
		v.testTop = follow(v.testTop, v.test, height-11, list.sum.Tests)
		v.fitSteps(height - 11)
	}
	v.fitWeave(v.weaveWidth(width), height-1-v.below(height))
	return nil
}

// readSource reads the lines of the test under the cursor.
func (v *survey) readSource() tea.Cmd {
	t := v.current()
	if t == nil {
		return nil
	}
	return v.source.read(v.session.app.Project, place{t.File, t.Line}, t.Line, v.lastLine(t))
}

func (v *survey) name() string { return "Survey" }

func (v *survey) figure() (string, bool) {
	return fmt.Sprintf("%d of %d", len(v.session.picked.tests), v.session.picked.total()), false
}

func (v *survey) keys() []key.Binding {
	k := v.keyMap
	return []key.Binding{k.narrow, k.takeOut, k.only, k.undo, k.fold, k.rule, k.why, k.save, k.run, k.panel, k.look, k.hunt, k.edit, k.rows, k.columns, keyDraw}
}

func (v *survey) press(msg tea.KeyPressMsg) tea.Msg {
	v.list()
	t := v.current()
	switch {
	case key.Matches(msg, v.keyMap.panel):
		v.focus = [...]panel{onList, onWeave, onWeave}[v.focus]
	case key.Matches(msg, v.keyMap.look):
		v.look(t)
	case msg.String() == "esc":
		v.focus, v.why = max(onWeave, v.focus-1), false
	case key.Matches(msg, v.keyMap.narrow):
		return v.rewrite(pick.Join)
	case key.Matches(msg, v.keyMap.takeOut):
		return v.rewrite(pick.Without)
	case key.Matches(msg, v.keyMap.only) && v.step() != "":
		return setPickMsg(pickStep(t, v.step()))
	case key.Matches(msg, v.keyMap.only):
		return v.rewrite(func(_, cell string) string { return cell })
	case key.Matches(msg, v.keyMap.undo):
		return undoPickMsg{}
	case key.Matches(msg, v.keyMap.fold) && v.focus == onList:
		return v.unfold()
	case key.Matches(msg, v.keyMap.fold):
		return v.fold()
	case key.Matches(msg, v.keyMap.rows):
		v.byRow = following(v.byRow)
		return sayMsg("rows in the order of " + string(v.byRow))
	case key.Matches(msg, v.keyMap.columns):
		v.byColumn = following(v.byColumn)
		return sayMsg("columns in the order of " + string(v.byColumn))
	case key.Matches(msg, v.keyMap.why):
		v.why = !v.why
	case key.Matches(msg, v.keyMap.rule):
		return v.rule(t)
	case key.Matches(msg, v.keyMap.save):
		if v.session.picked.text == "" {
			return sayMsg("the pick selects all tests: narrow it before you save it")
		}
		return openSheetMsg{saveSheet(v.session)}
	case key.Matches(msg, v.keyMap.run):
		return v.session.runPick()
	case key.Matches(msg, keyDraw):
		return v.draws()
	case t == nil && key.Matches(msg, v.keyMap.edit, v.keyMap.hunt):
		return sayMsg("no test is under the cursor: Tab goes to the list")
	case key.Matches(msg, v.keyMap.edit):
		return editFileMsg{t.File, t.Line}
	case key.Matches(msg, v.keyMap.hunt):
		return startHuntMsg{victims: []catalog.Test{*t}}
	default:
		v.move(msg.String())
	}
	return nil
}

// draws asks for a drawing of the weave.
func (v *survey) draws() tea.Msg {
	name, picked := v.session.app.Project.Name, v.session.picked
	return drawTo("Draw the weave", chart{"weave", "groups against tags", func() (draw.Drawing, error) {
		return draw.Weave(name, picked.text, picked.weave), nil
	}})
}

// look goes one panel further in, from the weave over the list to the card.
func (v *survey) look(t *catalog.Test) {
	switch {
	case t == nil:
	case v.focus == onCard:
		v.focus = onList
	default:
		v.focus++
	}
}

// following returns the order after one.
func following(order catalog.Order) catalog.Order {
	return catalog.Orders[(slices.Index(catalog.Orders, order)+1)%len(catalog.Orders)]
}

func (v *survey) move(pressed string) {
	if v.focus == onCard {
		return
	}
	if v.focus == onList {
		v.moveInList(pressed)
		return
	}
	row, column := v.row, v.column
	v.row = moved(v.row, pressed, len(v.arranged.rows)+1)
	switch pressed {
	case "left", "h":
		v.column = max(0, v.column-1)
	case "right", "l":
		v.column = min(len(v.arranged.columns), v.column+1)
	}
	if row != v.row || column != v.column {
		v.test, v.testTop = 0, 0
	}
}

func newSurvey(s *session) *survey {
	return &survey{session: s, keyMap: newSurveyKeyMap(), byRow: catalog.ByName, byColumn: catalog.ByTests}
}

// layout is which rows and columns the weave has, worked out when the figures,
// the folds or the orders change.
type layout struct {
	weave           *catalog.Weave
	byRow, byColumn catalog.Order
	folds           int
	rows            []int // nodes
	columns         []int // indexes of tags
	names           int   // the width of the widest group's name, with its air
	folding         bool  // some row folds
	suites          bool  // there is more than one suite
}

// foldBeyond is the number of rows beyond which folders are folded at first.
const foldBeyond = 36

// arrange brings the layout up to date. The cursor stays on its group and tag.
func (v *survey) arrange() {
	w, old := v.session.picked.weave, v.arranged
	if old.weave == w && old.byRow == v.byRow && old.byColumn == v.byColumn && old.folds == v.folds {
		return
	}
	if v.folded == nil {
		v.foldAtFirst(w)
	}
	l := layout{weave: w, byRow: v.byRow, byColumn: v.byColumn, folds: v.folds,
		rows: w.Rows(func(n int) bool { return v.folded[foldKey(&w.Nodes[n])] }, v.byRow), columns: w.Columns(v.byColumn)}
	for i := range w.Nodes {
		l.folding = l.folding || w.Nodes[i].Folds()
		l.suites = l.suites || w.Nodes[i].Suite != w.Nodes[0].Suite
	}
	for _, n := range l.rows {
		l.names = max(l.names, width(w.Nodes[n].Label)+2*w.Nodes[n].Depth)
	}
	if l.folding {
		l.names += 2
	}
	l.names = max(l.names, 10) + 2
	v.arranged = l
	v.row, v.column = min(v.row, len(l.rows)), min(v.column, len(l.columns))
	if old.weave == nil {
		return
	}
	if node := old.node(v.row); node != nil {
		if at := slices.IndexFunc(l.rows, func(n int) bool { return foldKey(&w.Nodes[n]) == foldKey(node) }); at >= 0 {
			v.row = at
		}
	}
	if tag := old.tag(v.column); tag != "" {
		if at := slices.IndexFunc(l.columns, func(k int) bool { return w.Tags[k] == tag }); at >= 0 {
			v.column = at
		}
	}
}

// node returns the node of a row; nil for the margin of all.
func (l *layout) node(row int) *catalog.Node {
	if row >= len(l.rows) {
		return nil
	}
	return &l.weave.Nodes[l.rows[row]]
}

// tag returns the tag of a column; "" for the margin of tests.
func (l *layout) tag(column int) string {
	if column >= len(l.columns) {
		return ""
	}
	return l.weave.Tags[l.columns[column]]
}

// cell returns the figures at a crossing, a margin included.
func (l *layout) cell(row, column int) catalog.Cell {
	w := l.weave
	switch inside := column < len(l.columns); {
	case row < len(l.rows) && inside:
		return w.Cells[l.rows[row]][l.columns[column]]
	case row < len(l.rows):
		return w.Margin[l.rows[row]]
	case inside:
		return w.Cols[l.columns[column]]
	}
	return w.Total
}

// foldKey names a node over changes of the tree.
func foldKey(n *catalog.Node) string { return n.Suite + ":" + n.Place() }

func (v *survey) foldAtFirst(w *catalog.Weave) {
	v.folded = map[string]bool{}
	for i := range w.Nodes {
		if n := &w.Nodes[i]; len(w.Nodes) > foldBeyond && n.Folds() {
			v.folded[foldKey(n)] = true
		}
	}
}

// fold folds or unfolds the row under the cursor; a row without anything below it folds its parent.
func (v *survey) fold() tea.Msg {
	n := v.arranged.node(v.row)
	if n == nil {
		return sayMsg("on the row of a folder, space folds it")
	}
	if !n.Folds() {
		if n.Parent < 0 {
			return sayMsg("there is nothing below this group to fold")
		}
		v.row = slices.Index(v.arranged.rows, n.Parent)
		n = &v.arranged.weave.Nodes[n.Parent]
	}
	v.folded[foldKey(n)] = !v.folded[foldKey(n)]
	v.folds++
	v.arrange()
	return nil
}

// rewrite makes a new pick from the present one and that of the cell under the cursor.
func (v *survey) rewrite(combine func(old, cell string) string) tea.Msg {
	cell := v.cellPick()
	if cell == "" {
		return sayMsg("this cell is the whole project: go to a group or a tag")
	}
	return setPickMsg(combine(v.session.picked.text, cell))
}

// cellPick is the pick that holds the tests of the cell under the cursor.
func (v *survey) cellPick() string {
	text := ""
	if n := v.arranged.node(v.row); n != nil {
		if v.arranged.suites {
			text = pick.Field("suite", n.Suite)
		}
		if place := n.Place(); place != "" {
			text = pick.Join(text, pick.Field("in", place))
		}
	}
	if tag := v.arranged.tag(v.column); tag != "" {
		text = pick.Join(text, pick.Tag(tag))
	}
	return text
}

// rule asks for a rule on the test, the cell or the pick.
func (v *survey) rule(t *catalog.Test) tea.Msg {
	var scopes []scope
	if t != nil {
		scopes = append(scopes, scope{"the test", pick.Field("id", t.ID), 1})
	}
	if cell := v.cellPick(); cell != "" {
		scopes = append(scopes, scope{"the cell", cell, v.list().sum.Tests})
	}
	if s := v.session.picked; s.text != "" {
		scopes = append(scopes, scope{"the pick", s.text, len(s.tests)})
	}
	if scopes == nil {
		return sayMsg("there is nothing here to rule")
	}
	if v.focus == onWeave && t != nil && len(scopes) > 1 {
		scopes[0], scopes[1] = scopes[1], scopes[0]
	}
	return openSheetMsg{ruleSheet(scopes)}
}

// cellList is the tests of one cell, found once for as long as the cursor stays.
type cellList struct {
	weave       *catalog.Weave
	node, tag   int
	members     catalog.Set
	sum, picked catalog.Sum
}

// list returns the tests of the cell under the cursor.
func (v *survey) list() *cellList {
	v.arrange()
	l, w := &v.arranged, v.session.picked.weave
	node, tag := -1, -1
	var carriers catalog.Set
	if v.row < len(l.rows) {
		node = l.rows[v.row]
	}
	if v.column < len(l.columns) {
		tag = l.columns[v.column]
		carriers = v.session.picked.Index.Tagged(w.Tags[tag])
	}
	if v.listed.weave != w || v.listed.node != node || v.listed.tag != tag {
		cell := l.cell(v.row, v.column)
		v.listed = cellList{w, node, tag, w.Members(v.session.picked.Catalog, node, l.tag(v.column), carriers), cell.All, cell.Picked}
		v.test = max(0, min(v.test, cell.All.Tests-1))
	}
	return &v.listed
}

// current returns the test under the cursor, or nil.
func (v *survey) current() *catalog.Test {
	at := v.listed.members.From(v.test, 1)
	if len(at) == 0 {
		return nil
	}
	return &v.session.picked.Catalog.Tests[at[0]]
}

func (v *survey) click(x, y int) {
	v.arrange()
	if x >= v.listLeft && v.listLeft > 0 {
		if n := v.list().sum.Tests; n > 0 {
			v.clickInList(y-3, n)
		}
		return
	}
	row, names := v.top+y-2, v.names
	if y < 2 || y-2 >= v.rows+2 {
		return
	}
	if y-2 >= v.rows {
		row = len(v.arranged.rows) // the rule and the sums below the rows
	}
	v.focus, v.row, v.test = onWeave, min(row, len(v.arranged.rows)), 0
	switch {
	case x >= 2+names:
		v.column = min(v.left+(x-2-names)/cellWidth, len(v.arranged.columns))
	case x < 4:
		v.fold()
	}
}
