package ledger

import (
	"database/sql"
	"errors"
	"fmt"
	"runtime"
	"slices"

	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/ledger/packs"
)

// History returns at most n of the latest runs, the oldest first, and the outcomes of every test in them; up to
// and including upTo unless that is nil. It leaves trials out.
func (l *Ledger) History(most int, upTo *run.Record) ([]*run.Record, *history.History, error) {
	clause, args := " ", []any{most}
	if upTo != nil {
		clause, args = " AND (placed, number) <= (?, ?) ", []any{upTo.Placed.UnixMilli(), upTo.Number, most}
	}
	runs, err := l.list(l.db, "WHERE "+l.counted()+clause+"ORDER BY placed DESC, number DESC LIMIT ?", args...)
	if err != nil {
		return nil, nil, err
	}
	slices.Reverse(runs)
	briefs, err := l.briefs(runs)
	if err != nil {
		return nil, nil, err
	}
	names, err := l.names()
	if err != nil {
		return nil, nil, err
	}
	h, err := historyOf(runs, briefs, names)
	return runs, h, err
}

// briefs reads the packs of runs.
func (l *Ledger) briefs(runs []*run.Record) ([][]byte, error) {
	read, err := l.db.Prepare("SELECT brief FROM packs WHERE run = ?")
	if err != nil {
		return nil, err
	}
	defer read.Close()
	briefs := make([][]byte, len(runs))
	for i, k := range runs {
		if err := scan(read.QueryRow(k.Number), &briefs[i]); err != nil {
			return nil, fmt.Errorf("run %d: %w", k.Number, err)
		}
	}
	return briefs, nil
}

// historyOf unpacks runs, each twice, as all runs of a large suite take too much memory at once. The tests are in the order in
// which they were first kept.
func historyOf(runs []*run.Record, briefs [][]byte, names map[int64]string) (*history.History, error) {
	var greatest int64
	for key := range names {
		greatest = max(greatest, key)
	}
	unpack := func(at int) (*packs.Brief, error) {
		b, err := packs.UnpackBrief(briefs[at])
		if err == nil && slices.ContainsFunc(b.Keys, func(key int64) bool { return key > greatest }) {
			err = packs.ErrDamaged
		}
		if err != nil {
			return nil, fmt.Errorf("run %d: %w", runs[at].Number, err)
		}
		return b, nil
	}
	place := make([]int, greatest+1) // by key, from 1
	err := inOrder(runtime.GOMAXPROCS(0), below(len(briefs)), unpack, func(b *packs.Brief) error {
		for _, key := range b.Keys {
			place[key] = 1
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	var ids []string
	for key, used := range place {
		if used > 0 {
			ids = append(ids, names[int64(key)])
			place[key] = len(ids)
		}
	}
	h := history.NewHistory(ids, len(runs))
	set := func(at int) (struct{}, error) {
		b, err := unpack(at)
		if err != nil {
			return struct{}{}, err
		}
		for i, key := range b.Keys {
			h.Set(place[key]-1, at, b.Cell(i))
		}
		return struct{}{}, nil
	}
	return h, inOrder(runtime.GOMAXPROCS(0), below(len(briefs)), set, func(struct{}) error { return nil })
}

// readBrief reads the brief part of one run.
func readBrief(from querier, k *run.Record) (*packs.Brief, error) {
	var pack []byte
	err := scan(from.QueryRow("SELECT brief FROM packs WHERE run = ?", k.Number), &pack)
	var b *packs.Brief
	if err == nil {
		b, err = packs.UnpackBrief(pack)
	}
	if err != nil {
		return nil, fmt.Errorf("run %d: %w", k.Number, err)
	}
	return b, nil
}

// FirstBad returns the earliest run in which a test was bad, or run.ErrNoRecord.
func (l *Ledger) FirstBad(id string) (*run.Record, error) {
	return l.find("WHERE "+l.only+" AND number IN (SELECT run FROM bad WHERE test = (SELECT key FROM tests WHERE id = ?)) ORDER BY placed, number LIMIT 1", id)
}

// Since returns the earliest run in which a cause was known, by the signs of its failures, or run.ErrNoRecord.
func (l *Ledger) Since(signs []string) (*run.Record, error) {
	var earliest *run.Record
	for _, sign := range signs {
		k, err := l.find("WHERE number IN (SELECT run FROM bad WHERE sign = ?) ORDER BY placed, number LIMIT 1", sign)
		if errors.Is(err, run.ErrNoRecord) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if earliest == nil || k.Placed.Before(earliest.Placed) {
			earliest = k
		}
	}
	if earliest == nil {
		return nil, run.ErrNoRecord
	}
	return earliest, nil
}

// LastWell returns the latest run before another in which a test was well, or run.ErrNoRecord. It reads one run
// after the other.
func (l *Ledger) LastWell(id string, before *run.Record) (*run.Record, error) {
	var key int64
	if err := scan(l.db.QueryRow("SELECT key FROM tests WHERE id = ?", id), &key); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			err = run.ErrNoRecord
		}
		return nil, err
	}
	runs, err := l.list(l.db, "WHERE "+l.counted()+" AND (placed, number) < (?, ?) ORDER BY placed DESC, number DESC", before.Placed.UnixMilli(), before.Number)
	if err != nil {
		return nil, err
	}
	for _, k := range runs {
		b, err := readBrief(l.db, k)
		if err != nil {
			return nil, err
		}
		if at := slices.Index(b.Keys, key); at >= 0 && history.Figure([]history.Cell{b.Cell(at)}).LastWell == 0 {
			return k, nil
		}
	}
	return nil, run.ErrNoRecord
}
