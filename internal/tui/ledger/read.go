package ledger

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/history"
	"fernrelay/core/pick"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/tui/leg"
	"fernrelay/internal/tui/screen"
)

// What the view reads and works out beside the interface.
type (
	PastReadMsg struct {
		number int           // of the request
		all    []*run.Record // the oldest first
		chosen *run.Record   // at the time of the request; nil for the latest
		past   *history.Past
		list   Listing
		err    error
	}
	ChangesFoundMsg struct{ in, past *history.Past } // past is in, with the changes of times
	TestsListedMsg  struct {
		number int // of the request
		of     *history.Past
		list   Listing
	}
	RunReadMsg struct {
		of     ChosenRun
		report *runReport // to show; nil for none
		err    error      // why there is no report
	}
	ledgerFailedMsg struct{ err error }
	CardReadMsg     struct{ card *history.Card }
)

// Update takes the results of reading.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case PastReadMsg:
		return v.takePast(msg)
	case ChangesFoundMsg:
		if v.Past != msg.in {
			return nil
		}
		if v.Past = msg.past; v.By == history.ByChange {
			return v.arrange()
		}
	case TestsListedMsg:
		if msg.number != v.sorts || v.Past.History != msg.of.History {
			return nil
		}
		v.Listing, v.At, v.top = msg.list, 0, 0
		return v.know()
	case RunReadMsg:
		return v.takeRun(msg)
	case ledgerFailedMsg:
		v.wrong = msg.err
	case CardReadMsg:
		if v.CurrentID() == msg.card.ID {
			v.Card = msg.card
		}
	}
	return nil
}

// takePast takes a past, unless there was another request since.
func (v *View) takePast(msg PastReadMsg) tea.Cmd {
	if msg.number != v.reads {
		return nil
	}
	if v.wrong = msg.err; msg.err != nil {
		return nil
	}
	v.All, v.Run = msg.all, len(msg.all)-1
	if msg.chosen != nil {
		v.Run = max(0, slices.IndexFunc(msg.all, func(k *run.Record) bool { return k.Number == msg.chosen.Number }))
	}
	return v.take(msg.past, msg.list)
}

// takeRun takes a run, unless another is chosen since.
func (v *View) takeRun(msg RunReadMsg) tea.Cmd {
	if v.Run >= len(v.All) || v.All[v.Run].Number != msg.of.Record.Number {
		return nil
	}
	v.Chosen = msg.of
	if msg.report != nil {
		v.Report = msg.report
	}
	if msg.err != nil {
		return func() tea.Msg { return leg.SayMsg(msg.err.Error()) }
	}
	return nil
}

// read reads the runs around the chosen one, or the latest if that is chosen.
func (v *View) read() tea.Cmd {
	v.reads++
	number, r, picked, by := v.reads, v.session.App, v.session.Picked, v.By
	var upTo, chosen *run.Record
	if len(v.All) > 0 && v.Run < len(v.All)-1 {
		chosen, upTo = v.All[v.Run], v.All[min(len(v.All)-1, v.Run+history.PastRuns/2)]
	}
	return func() tea.Msg {
		msg := PastReadMsg{number: number, chosen: chosen}
		l := r.Ledger()
		if of := pick.CrossingOf(picked.Expr); of != nil {
			l = l.In(of)
		}
		if msg.all, msg.err = l.List(); msg.err != nil {
			return msg
		}
		if msg.past, msg.err = l.Past(history.PastRuns, upTo); msg.err == nil {
			msg.list = NewListing(msg.past, by, picked)
		}
		return msg
	}
}

// ReadAgain reads the past again, as after a run.
func (v *View) ReadAgain() tea.Cmd {
	if v.reads == 0 {
		return nil
	}
	return v.read()
}

// take takes a past with its tests, keeps the cursor on its test, and asks for what follows.
func (v *View) take(past *history.Past, list Listing) tea.Cmd {
	under := v.CurrentID()
	v.Past, v.Listing, v.Card = past, list, nil
	v.At = max(0, slices.IndexFunc(list.Order, func(test int) bool { return past.History.IDs[test] == under }))
	changes := func() tea.Msg { return ChangesFoundMsg{past, past.WithChanges()} }
	var arranged tea.Cmd
	if list.orderedBy != v.By || list.picked != v.session.Picked.Text {
		arranged = v.arrange() // others are wanted by now
	}
	return tea.Batch(arranged, v.choose(nil), v.know(), changes)
}

// Listing is which tests of a past are listed, in their order.
type Listing struct {
	orderedBy, picked string
	Order             []int // by their places in the past
	troubled          int   // how many were ever bad, if those come first

	groupWidth, nameWidth int // of the widest
}

// NewListing lists the tests that a pick selects. Without a pick it also lists tests that the project no longer
// has.
func NewListing(past *history.Past, by string, picked leg.Figures) Listing {
	var held func(id string) bool
	if picked.Text != "" {
		held = func(id string) bool {
			i, ok := picked.Catalog.Index(id)
			return ok && picked.Held.Has(i)
		}
	}
	l := Listing{orderedBy: by, picked: picked.Text, Order: past.Order(by, held)}
	for _, test := range l.Order {
		group, name := leg.GroupAndName(past.History.IDs[test])
		l.groupWidth, l.nameWidth = widest(l.groupWidth, group), widest(l.nameWidth, name)
	}
	for by == history.ByTrouble && l.troubled < len(l.Order) && past.Figures[l.Order[l.troubled]].Bad > 0 {
		l.troubled++
	}
	return l
}

// widest is the greater of a width and that of a text, which is never more than its bytes.
func widest(cells int, text string) int {
	if len(text) <= cells {
		return cells
	}
	return max(cells, screen.Width(text))
}

// arrange lists the tests that are picked by now, in the order that is wanted by now.
func (v *View) arrange() tea.Cmd {
	if v.Past == nil {
		return nil
	}
	v.sorts++
	number, past, by, picked := v.sorts, v.Past, v.By, v.session.Picked
	return func() tea.Msg { return TestsListedMsg{number, past, NewListing(past, by, picked)} }
}

// choose reads the chosen run, and if report is not nil shows its result in place of the tests.
func (v *View) choose(report func(of ChosenRun) (*runReport, error)) tea.Cmd {
	if len(v.All) == 0 {
		return nil
	}
	record, of, r := v.All[v.Run], v.Chosen, v.session.App
	return func() tea.Msg {
		var err error
		if of.Record == nil || of.Record.Number != record.Number {
			of, err = readRun(r, record)
		}
		if err != nil {
			return ledgerFailedMsg{err}
		}
		msg := RunReadMsg{of: of}
		if report != nil {
			msg.report, msg.err = report(of)
		}
		return msg
	}
}

func readRun(r *app.App, record *run.Record) (of ChosenRun, err error) {
	of.Record = record
	if of.Run, err = r.Ledger().Results(record); err == nil {
		of.Causes, err = r.Ledger().Causes(of.Run)
	}
	return of, err
}

// know reads the card of the test under the cursor.
func (v *View) know() tea.Cmd {
	test, ok := v.current()
	if !ok || v.Card != nil && v.Card.ID == v.Past.History.IDs[test] {
		return nil
	}
	past, r := v.Past, v.session.App
	return func() tea.Msg {
		card, err := r.Ledger().Card(past, test)
		if err != nil {
			return leg.SayMsg(err.Error())
		}
		return CardReadMsg{card}
	}
}
