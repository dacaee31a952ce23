package ledger

import (
	"database/sql"
	"fmt"
	"time"

	"fernrelay/core/run"
)

// Redate moves each run to another time, with all that happened in it: begins returns the new time at which a run
// begins. It is for a recorded past that is shown with made-up dates.
func (l *Ledger) Redate(begins func(k *run.Record) time.Time) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	runs, err := l.list(tx, "ORDER BY number")
	if err != nil {
		return err
	}
	for _, k := range runs {
		if err := redate(tx, k.Number, begins(k).Sub(k.Began).Milliseconds()); err != nil {
			return fmt.Errorf("run %d: %w", k.Number, err)
		}
	}
	return tx.Commit()
}

// redate moves a run by a number of milliseconds.
func redate(tx *sql.Tx, number int, by int64) error {
	results, err := packedIn(tx, number)
	if err != nil {
		return err
	}
	for i := range results {
		results[i].Began += by
	}
	if err := replacePack(tx, number, results); err != nil {
		return err
	}
	_, err = tx.Exec("UPDATE runs SET began = began + ?1, placed = placed + ?1, ended = ended + ?1 WHERE number = ?2", by, number)
	return err
}
