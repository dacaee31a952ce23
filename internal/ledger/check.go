package ledger

import (
	"context"
	"database/sql"
	"errors"
	"strings"
)

// Probe reads what is needed most. If that is damaged, Damaged is true for the error.
func (l *Ledger) Probe() error {
	var length sql.NullInt64
	return scan(l.db.QueryRow("SELECT sum(length(id) + length(recent)) FROM tests"), &length)
}

// Check reads the whole file. If it is damaged, Damaged is true for the error.
func (l *Ledger) Check(ctx context.Context) error {
	found, err := version(l.db)
	if err == nil {
		err = checkSchema(l.db, found)
	}
	if err == nil {
		err = l.checkIntegrity(ctx)
	}
	if err != nil || found < len(migrations) {
		return err
	}
	return l.checkContent(ctx)
}

// checkContent reads everything that is kept.
// SQLite finds damaged pages, and not bytes of a pack that were overwritten by others of the same length: only unpacking shows those.
func (l *Ledger) checkContent(ctx context.Context) error {
	runs, err := l.List()
	for _, k := range runs {
		if err == nil {
			err = ctx.Err()
		}
		if err == nil {
			_, err = l.Results(k)
		}
	}
	if err == nil {
		_, err = l.Hunts()
	}
	if err == nil {
		_, err = l.Setups()
	}
	if err != nil {
		return err
	}
	return recent(l, func(string) bool { return true }, func(string, []Moment) struct{} { return struct{}{} }, func(struct{}) {})
}

// checkIntegrity has SQLite look through the pages of the file.
func (l *Ledger) checkIntegrity(ctx context.Context) error {
	rows, err := l.db.QueryContext(ctx, "PRAGMA integrity_check(5)")
	if err != nil {
		return err
	}
	defer rows.Close()
	var wrong []string
	for rows.Next() {
		var words string
		if err := scan(rows, &words); err != nil {
			return err
		}
		wrong = append(wrong, words)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if len(wrong) == 1 && wrong[0] == "ok" {
		return nil
	}
	return unreadable(errors.New(strings.Join(wrong, "; ")))
}
