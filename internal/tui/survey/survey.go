package survey

import (
	"fmt"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"fernrelay/core/catalog"
	"fernrelay/core/pick"
	"fernrelay/internal/draw"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// View shows the project's tests: the weave of groups and tags, the tests of the cell under the cursor, how the
// pick narrows, and the card of one test.
type View struct {
	leg.Base
	session    *leg.Session
	keyMap     keyMap
	Row        int // of layout.rows; after them comes the margin of all
	DrawColumn int // of layout.columns; after them comes the margin of tests
	top        int // the first row shown
	left       int // the first column shown
	Test       int // of the list beside the weave
	testTop    int
	Focus      panel
	why        bool            // show why the test is in the pick or out
	folded     map[string]bool // by foldKey; nil before the first layout
	folds      int             // changes of folded
	byRow      catalog.Order
	byColumn   catalog.Order
	Arranged   layout
	listed     cellList
	source     leg.Source // of the test whose card is open
	Steps      unfoldedSteps

	Names    int // the width of the groups' names
	columns  int // of tags that are shown
	rows     int // of groups that are shown
	ListLeft int // the first column of the list; 0 if it is not shown
}

// panel is a part of the survey that has the keys.
type panel int

const (
	OnWeave panel = iota
	OnList
	onCard
)

// keyMap has the keys of the view.
type keyMap struct{ panel, narrow, takeOut, only, undo, fold, rows, columns, rule, why, save, look, run, edit, hunt key.Binding }

func newKeyMap() keyMap {
	return keyMap{
		panel:   leg.KeyPanel,
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

func (v *View) See(s *leg.Session) tea.Cmd {
	v.session = s
	return nil
}

func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case leg.SourceReadMsg:
		v.source.Take(msg)
	case StepsReadMsg:
		return v.takeSteps(msg)
	}
	return nil
}

// Fit lays out the weave and the list, and reads the source of the test whose card is open.
func (v *View) Fit(width, height int) tea.Cmd {
	list := v.list()
	v.ListLeft = 0
	switch wide := width >= screen.WideScreen; {
	case v.Focus == onCard:
		return v.readSource()
	case wide:
		v.ListLeft = v.weaveWidth(width) + 3
		v.testTop = screen.Follow(v.testTop, v.Test, height-3, list.sum.Tests)
		v.fitSteps(height - 3)
	case v.Focus == OnList:
		v.ListLeft = 1
		v.testTop = screen.Follow(v.testTop, v.Test, height-11, list.sum.Tests)
		v.fitSteps(height - 11)
	}
	v.fitWeave(v.weaveWidth(width), height-1-v.below(height))
	return nil
}

// readSource reads the lines of the test under the cursor.
func (v *View) readSource() tea.Cmd {
	t := v.Current()
	if t == nil {
		return nil
	}
	return v.source.Read(v.session.App.Project, leg.Place{File: t.File, Line: t.Line}, t.Line, v.lastLine(t))
}

func (v *View) Name() string { return "Survey" }

func (v *View) Figure() (string, bool) {
	return fmt.Sprintf("%d of %d", len(v.session.Picked.Selected), v.session.Picked.Total()), false
}

func (v *View) Keys() []key.Binding {
	k := v.keyMap
	return []key.Binding{k.narrow, k.takeOut, k.only, k.undo, k.fold, k.rule, k.why, k.save, k.run, k.panel, k.look, k.hunt, k.edit, k.rows, k.columns, leg.KeyDraw}
}

func (v *View) Press(msg tea.KeyPressMsg) tea.Msg {
	v.list()
	t := v.Current()
	switch {
	case key.Matches(msg, v.keyMap.panel):
		v.Focus = [...]panel{OnList, OnWeave, OnWeave}[v.Focus]
	case key.Matches(msg, v.keyMap.look):
		v.look(t)
	case msg.String() == "esc":
		v.Focus, v.why = max(OnWeave, v.Focus-1), false
	case key.Matches(msg, v.keyMap.narrow):
		return v.rewrite(pick.Join)
	case key.Matches(msg, v.keyMap.takeOut):
		return v.rewrite(pick.Without)
	case key.Matches(msg, v.keyMap.only) && v.Step() != "":
		return leg.SetPickMsg(pickStep(t, v.Step()))
	case key.Matches(msg, v.keyMap.only):
		return v.rewrite(func(_, cell string) string { return cell })
	case key.Matches(msg, v.keyMap.undo):
		return leg.UndoPickMsg{}
	case key.Matches(msg, v.keyMap.fold) && v.Focus == OnList:
		return v.unfold()
	case key.Matches(msg, v.keyMap.fold):
		return v.fold()
	case key.Matches(msg, v.keyMap.rows):
		v.byRow = following(v.byRow)
		return leg.SayMsg("rows in the order of " + string(v.byRow))
	case key.Matches(msg, v.keyMap.columns):
		v.byColumn = following(v.byColumn)
		return leg.SayMsg("columns in the order of " + string(v.byColumn))
	case key.Matches(msg, v.keyMap.why):
		v.why = !v.why
	case key.Matches(msg, v.keyMap.rule):
		return v.rule(t)
	case key.Matches(msg, v.keyMap.save):
		if v.session.Picked.Text == "" {
			return leg.SayMsg("the pick selects all tests: narrow it before you save it")
		}
		return leg.OpenSheetMsg{Sheet: saveSheet(v.session)}
	case key.Matches(msg, v.keyMap.run):
		return v.session.RunPick()
	case key.Matches(msg, leg.KeyDraw):
		return v.draws()
	case t == nil && key.Matches(msg, v.keyMap.edit, v.keyMap.hunt):
		return leg.SayMsg("no test is under the cursor: Tab goes to the list")
	case key.Matches(msg, v.keyMap.edit):
		return leg.EditFileMsg{File: t.File, Line: t.Line}
	case key.Matches(msg, v.keyMap.hunt):
		return leg.StartHuntMsg{Victims: []catalog.Test{*t}}
	default:
		v.move(msg.String())
	}
	return nil
}

// draws asks for a drawing of the weave.
func (v *View) draws() tea.Msg {
	picked := v.session.Picked
	return leg.DrawTo("Draw the weave", draw.Data{Title: v.session.App.Project.Name, Pick: picked.Text, Weave: picked.Weave}, draw.OfPick)
}

// look goes one panel further in, from the weave over the list to the card.
func (v *View) look(t *catalog.Test) {
	switch {
	case t == nil:
	case v.Focus == onCard:
		v.Focus = OnList
	default:
		v.Focus++
	}
}

// following returns the order after one.
func following(order catalog.Order) catalog.Order {
	return catalog.Orders[(slices.Index(catalog.Orders, order)+1)%len(catalog.Orders)]
}

func (v *View) move(pressed string) {
	if v.Focus == onCard {
		return
	}
	if v.Focus == OnList {
		v.moveInList(pressed)
		return
	}
	row, column := v.Row, v.DrawColumn
	v.Row = screen.Moved(v.Row, pressed, len(v.Arranged.Rows)+1)
	switch pressed {
	case "left", "h":
		v.DrawColumn = max(0, v.DrawColumn-1)
	case "right", "l":
		v.DrawColumn = min(len(v.Arranged.Columns), v.DrawColumn+1)
	}
	if row != v.Row || column != v.DrawColumn {
		v.Test, v.testTop = 0, 0
	}
}

// New returns the leg.
func New(s *leg.Session) *View {
	return &View{session: s, keyMap: newKeyMap(), byRow: catalog.ByName, byColumn: catalog.ByTests}
}

// fold folds or unfolds the row under the cursor; a row without anything below it folds its parent.
func (v *View) fold() tea.Msg {
	n := v.Arranged.Node(v.Row)
	if n == nil {
		return leg.SayMsg("on the row of a folder, space folds it")
	}
	if !n.Folds() {
		if n.Parent < 0 {
			return leg.SayMsg("there is nothing below this group to fold")
		}
		v.Row = slices.Index(v.Arranged.Rows, n.Parent)
		n = &v.Arranged.weave.Nodes[n.Parent]
	}
	v.folded[foldKey(n)] = !v.folded[foldKey(n)]
	v.folds++
	v.Arrange()
	return nil
}

// rewrite makes a new pick from the present one and that of the cell under the cursor.
func (v *View) rewrite(combine func(old, cell string) string) tea.Msg {
	cell := v.cellPick()
	if cell == "" {
		return leg.SayMsg("this cell is the whole project: go to a group or a tag")
	}
	return leg.SetPickMsg(combine(v.session.Picked.Text, cell))
}

// cellPick is the pick that holds the tests of the cell under the cursor.
func (v *View) cellPick() string {
	text := ""
	if n := v.Arranged.Node(v.Row); n != nil {
		if v.Arranged.suites {
			text = pick.Field("suite", n.Suite)
		}
		if place := n.Place(); place != "" {
			text = pick.Join(text, pick.Field("in", place))
		}
	}
	if tag := v.Arranged.Tag(v.DrawColumn); tag != "" {
		text = pick.Join(text, pick.Tag(tag))
	}
	return text
}

// rule asks for a rule on the test, the cell or the pick.
func (v *View) rule(t *catalog.Test) tea.Msg {
	var scopes []scope
	if t != nil {
		scopes = append(scopes, scope{"the test", pick.Field("id", t.ID), 1})
	}
	if cell := v.cellPick(); cell != "" {
		scopes = append(scopes, scope{"the cell", cell, v.list().sum.Tests})
	}
	if s := v.session.Picked; s.Text != "" {
		scopes = append(scopes, scope{"the pick", s.Text, len(s.Selected)})
	}
	if scopes == nil {
		return leg.SayMsg("there is nothing here to rule")
	}
	if v.Focus == OnWeave && t != nil && len(scopes) > 1 {
		scopes[0], scopes[1] = scopes[1], scopes[0]
	}
	return leg.OpenSheetMsg{Sheet: ruleSheet(scopes)}
}

// cellList is the tests of one cell, found once for as long as the cursor stays.
type cellList struct {
	weave       *catalog.Weave
	node, tag   int
	members     catalog.Set
	sum, picked catalog.Sum
}

// list returns the tests of the cell under the cursor.
func (v *View) list() *cellList {
	v.Arrange()
	l, w := &v.Arranged, v.session.Picked.Weave
	node, tag := -1, -1
	var carriers catalog.Set
	if v.Row < len(l.Rows) {
		node = l.Rows[v.Row]
	}
	if v.DrawColumn < len(l.Columns) {
		tag = l.Columns[v.DrawColumn]
		carriers = v.session.Picked.Index.Tagged(w.Tags[tag])
	}
	if v.listed.weave != w || v.listed.node != node || v.listed.tag != tag {
		cell := l.cell(v.Row, v.DrawColumn)
		v.listed = cellList{w, node, tag, w.Members(v.session.Picked.Catalog, node, l.Tag(v.DrawColumn), carriers), cell.All, cell.Picked}
		v.Test = max(0, min(v.Test, cell.All.Tests-1))
	}
	return &v.listed
}

// Current returns the test under the cursor, or nil.
func (v *View) Current() *catalog.Test {
	at := v.listed.members.From(v.Test, 1)
	if len(at) == 0 {
		return nil
	}
	return &v.session.Picked.Catalog.Tests[at[0]]
}

func (v *View) Click(x, y int) {
	v.Arrange()
	if x >= v.ListLeft && v.ListLeft > 0 {
		if n := v.list().sum.Tests; n > 0 {
			v.clickInList(y-3, n)
		}
		return
	}
	row, names := v.top+y-2, v.Names
	if y < 2 || y-2 >= v.rows+2 {
		return
	}
	if y-2 >= v.rows {
		row = len(v.Arranged.Rows) // the rule and the sums below the rows
	}
	v.Focus, v.Row, v.Test = OnWeave, min(row, len(v.Arranged.Rows)), 0
	switch {
	case x >= 2+names:
		v.DrawColumn = min(v.left+(x-2-names)/CellWidth, len(v.Arranged.Columns))
	case x < 4:
		v.fold()
	}
}
