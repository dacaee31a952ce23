package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"fernrelay/core/history"
	"fernrelay/core/pick"
	"fernrelay/core/run"
	"fernrelay/internal/app"
)

// What the view reads and works out beside the interface.
type (
	pastReadMsg struct {
		number int           // of the request
		all    []*run.Record // the oldest first
		chosen *run.Record   // at the time of the request; nil for the latest
		past   *history.Past
		list   listing
		err    error
	}
	changesFoundMsg struct{ in, past *history.Past } // past is in, with the changes of times
	testsListedMsg  struct {
		number int // of the request
		of     *history.Past
		list   listing
	}
	runReadMsg struct {
		of     chosenRun
		report *runReport // to show; nil for none
		err    error      // why there is no report
	}
	ledgerFailedMsg struct{ err error }
	cardReadMsg     struct{ card *history.Card }
)

// update takes the results of reading.
func (v *ledgerView) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case pastReadMsg:
		return v.takePast(msg)
	case changesFoundMsg:
		if v.past != msg.in {
			return nil
		}
		if v.past = msg.past; v.by == history.ByChange {
			return v.arrange()
		}
	case testsListedMsg:
		if msg.number != v.sorts || v.past.History != msg.of.History {
			return nil
		}
		v.listing, v.at, v.top = msg.list, 0, 0
		return v.know()
	case runReadMsg:
		return v.takeRun(msg)
	case ledgerFailedMsg:
		v.wrong = msg.err
	case cardReadMsg:
		if v.currentID() == msg.card.ID {
			v.card = msg.card
		}
	}
	return nil
}

// takePast takes a past, unless there was another request since.
func (v *ledgerView) takePast(msg pastReadMsg) tea.Cmd {
	if msg.number != v.reads {
		return nil
	}
	if v.wrong = msg.err; msg.err != nil {
		return nil
	}
	v.all, v.run = msg.all, len(msg.all)-1
	if msg.chosen != nil {
		v.run = max(0, slices.IndexFunc(msg.all, func(k *run.Record) bool { return k.Number == msg.chosen.Number }))
	}
	return v.take(msg.past, msg.list)
}

// takeRun takes a run, unless another is chosen since.
func (v *ledgerView) takeRun(msg runReadMsg) tea.Cmd {
	if v.run >= len(v.all) || v.all[v.run].Number != msg.of.record.Number {
		return nil
	}
	v.chosen = msg.of
	if msg.report != nil {
		v.report = msg.report
	}
	if msg.err != nil {
		return func() tea.Msg { return sayMsg(msg.err.Error()) }
	}
	return nil
}

// read reads the runs around the chosen one, or the latest if that is chosen.
func (v *ledgerView) read() tea.Cmd {
	v.reads++
	number, r, picked, by := v.reads, v.session.app, v.session.picked, v.by
	var upTo, chosen *run.Record
	if len(v.all) > 0 && v.run < len(v.all)-1 {
		chosen, upTo = v.all[v.run], v.all[min(len(v.all)-1, v.run+history.PastRuns/2)]
	}
	return func() tea.Msg {
		msg := pastReadMsg{number: number, chosen: chosen}
		l := r.Ledger()
		if of := pick.CrossingOf(picked.expr); of != nil {
			l = l.In(of)
		}
		if msg.all, msg.err = l.List(); msg.err != nil {
			return msg
		}
		if msg.past, msg.err = l.Past(history.PastRuns, upTo); msg.err == nil {
			msg.list = newListing(msg.past, by, picked)
		}
		return msg
	}
}

// readAgain reads the past again, as after a run.
func (v *ledgerView) readAgain() tea.Cmd {
	if v.reads == 0 {
		return nil
	}
	return v.read()
}

// take takes a past with its tests, keeps the cursor on its test, and asks for what follows.
func (v *ledgerView) take(past *history.Past, list listing) tea.Cmd {
	under := v.currentID()
	v.past, v.listing, v.card = past, list, nil
	v.at = max(0, slices.IndexFunc(list.order, func(test int) bool { return past.History.IDs[test] == under }))
	changes := func() tea.Msg { return changesFoundMsg{past, past.WithChanges()} }
	var arranged tea.Cmd
	if list.orderedBy != v.by || list.picked != v.session.picked.text {
		arranged = v.arrange() // others are wanted by now
	}
	return tea.Batch(arranged, v.choose(nil), v.know(), changes)
}

// listing is which tests of a past are listed, in their order.
type listing struct {
	orderedBy, picked string
	order             []int // by their places in the past
	troubled          int   // how many were ever bad, if those come first

	groupWidth, nameWidth int // of the widest
}

// newListing lists the tests that a pick selects. Without a pick it also lists tests that the project no longer
// has.
func newListing(past *history.Past, by string, picked figures) listing {
	var held func(id string) bool
	if picked.text != "" {
		held = func(id string) bool {
			i, ok := picked.Catalog.Index(id)
			return ok && picked.held.Has(i)
		}
	}
	l := listing{orderedBy: by, picked: picked.text, order: past.Order(by, held)}
	for _, test := range l.order {
		group, name := groupAndName(past.History.IDs[test])
		l.groupWidth, l.nameWidth = widest(l.groupWidth, group), widest(l.nameWidth, name)
	}
	for by == history.ByTrouble && l.troubled < len(l.order) && past.Figures[l.order[l.troubled]].Bad > 0 {
		l.troubled++
	}
	return l
}

// widest is the greater of a width and that of a text, which is never more than its bytes.
func widest(cells int, text string) int {
	if len(text) <= cells {
		return cells
	}
	return max(cells, width(text))
}

// arrange lists the tests that are picked by now, in the order that is wanted by now.
func (v *ledgerView) arrange() tea.Cmd {
	if v.past == nil {
		return nil
	}
	v.sorts++
	number, past, by, picked := v.sorts, v.past, v.by, v.session.picked
	return func() tea.Msg { return testsListedMsg{number, past, newListing(past, by, picked)} }
}

// choose reads the chosen run, and if report is not nil shows its result in place of the tests.
func (v *ledgerView) choose(report func(of chosenRun) (*runReport, error)) tea.Cmd {
	if len(v.all) == 0 {
		return nil
	}
	record, of, r := v.all[v.run], v.chosen, v.session.app
	return func() tea.Msg {
		var err error
		if of.record == nil || of.record.Number != record.Number {
			of, err = readRun(r, record)
		}
		if err != nil {
			return ledgerFailedMsg{err}
		}
		msg := runReadMsg{of: of}
		if report != nil {
			msg.report, msg.err = report(of)
		}
		return msg
	}
}

func readRun(r *app.App, record *run.Record) (of chosenRun, err error) {
	of.record = record
	if of.run, err = r.Ledger().Results(record); err == nil {
		of.causes, err = r.Ledger().Causes(of.run)
	}
	return of, err
}

// know reads the card of the test under the cursor.
func (v *ledgerView) know() tea.Cmd {
	test, ok := v.current()
	if !ok || v.card != nil && v.card.ID == v.past.History.IDs[test] {
		return nil
	}
	past, r := v.past, v.session.app
	return func() tea.Msg {
		card, err := r.Ledger().Card(past, test)
		if err != nil {
			return sayMsg(err.Error())
		}
		return cardReadMsg{card}
	}
}
