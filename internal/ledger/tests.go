package ledger

import (
	"fmt"
	"strconv"
	"strings"

	"fernrelay/core/run"
)

// keptTest is a row of the tests.
type keptTest struct {
	key    int64
	recent string
	last   int64 // the latest run that has it
}

// readTests returns the known tests of some results by ID.
func readTests(from querier, results []*run.Result) (map[string]keptTest, error) {
	ids := make([]any, len(results))
	for i, r := range results {
		ids[i] = r.ID
	}
	tests := make(map[string]keptTest, len(results))
	err := eachTest(from, func(id string, t keptTest) error {
		tests[id] = t
		return nil
	}, " WHERE id IN (?"+strings.Repeat(", ?", len(ids)-1)+")", ids...)
	return tests, err
}

// eachTest calls visit with the tests that a clause selects, until it returns an error.
func eachTest(from querier, visit func(id string, t keptTest) error, clause string, args ...any) error {
	rows, err := from.Query("SELECT key, id, recent, last FROM tests"+clause, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id string
		var t keptTest
		if err := scan(rows, &t.key, &id, &t.recent, &t.last); err != nil {
			return err
		}
		if err := visit(id, t); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Moment is the outcome and the time of a test in one run.
type Moment struct {
	Outcome run.Outcome
	Seconds float64 // that it takes alone
	Share   float64 // processors that it keeps busy then; 0 if that is not known
}

// recentKept is how many of its latest moments are kept with a test itself, so that a large suite opens without
// reading the results of many runs.
const recentKept = 20

// recentChunk is how many tests are prepared at once while the next ones are read, and recentAhead how many such chunks may
// wait for those before them.
const (
	recentChunk = 500
	recentAhead = 8
)

// recent calls prepare with the latest moments of every test that asked selects, oldest first, for some tests side by side,
// and use with what it returned, one after the other in the order of the ledger. The moments are prepare's until it returns.
func recent[T any](l *Ledger, asked func(id string) bool, prepare func(id string, moments []Moment) T, use func(T)) error {
	if l.only != plainRuns {
		return l.recentOfSome(asked, func(id string, moments []Moment) { use(prepare(id, moments)) })
	}
	type read struct{ id, recent string }
	tests := func(emit func([]read) bool) error {
		some := make([]read, 0, recentChunk)
		err := eachTest(l.db, func(id string, t keptTest) error {
			if !asked(id) {
				return nil
			}
			if some = append(some, read{id, t.recent}); len(some) == recentChunk {
				emit(some)
				some = make([]read, 0, recentChunk)
			}
			return nil
		}, "")
		emit(some)
		return err
	}
	prepareAll := func(tests []read) ([]T, error) {
		prepared := make([]T, len(tests))
		var moments []Moment
		for i, t := range tests {
			var err error
			if moments, err = decode(moments[:0], t.recent); err != nil {
				return nil, fmt.Errorf("what is kept of %s: %w", t.id, err)
			}
			prepared[i] = prepare(t.id, moments)
		}
		return prepared, nil
	}
	return inOrder(recentAhead, tests, prepareAll, func(prepared []T) error {
		for _, t := range prepared {
			use(t)
		}
		return nil
	})
}

// recentOfSome calls visit as recent does use, for a ledger of only some runs. It reads the runs.
func (l *Ledger) recentOfSome(asked func(id string) bool, visit func(id string, moments []Moment)) error {
	_, h, err := l.History(recentKept, nil)
	if err != nil {
		return err
	}
	for i, id := range h.IDs {
		if !asked(id) {
			continue
		}
		var moments []Moment
		for _, c := range h.Past(i) {
			if o := c.Outcome(); o != "" {
				moments = append(moments, Moment{Outcome: o, Seconds: float64(c.Seconds)})
			}
		}
		visit(id, moments)
	}
	return nil
}

// encode writes moments as words: outcome, seconds, outcome, seconds, and so on. A known share follows the seconds
// after @.
func encode(moments []Moment) string {
	var buf [1024]byte // for the moments that are kept of a test
	out := buf[:0]
	for i, m := range moments {
		if i > 0 {
			out = append(out, ' ')
		}
		out = append(append(out, m.Outcome...), ' ')
		out = strconv.AppendFloat(out, m.Seconds, 'g', 5, 64)
		if m.Share > 0 {
			out = strconv.AppendFloat(append(out, '@'), m.Share, 'g', 3, 64)
		}
	}
	return string(out)
}

// decode appends the moments that encode wrote.
func decode(moments []Moment, text string) ([]Moment, error) {
	var m Moment
	for word := range strings.FieldsSeq(text) {
		if m.Outcome == "" {
			m.Outcome = run.OutcomeNamed(word)
			continue
		}
		text, behind, measured := strings.Cut(word, "@")
		var err error
		if m.Seconds, err = strconv.ParseFloat(text, 64); err == nil && measured {
			m.Share, err = strconv.ParseFloat(behind, 64)
		}
		if err != nil {
			return nil, unreadable(err)
		}
		moments = append(moments, m)
		m = Moment{}
	}
	return moments, nil
}
