package ledger

import (
	"database/sql"
	"strings"
)

// querier is a database or a transaction.
type querier interface {
	Query(query string, args ...any) (*sql.Rows, error)
	QueryRow(query string, args ...any) *sql.Row
}

// table inserts rows, many in a statement.
type table struct {
	tx      *sql.Tx
	name    string // with its columns
	columns int
	behind  string // behind the values
	values  []any
	full    *sql.Stmt // of rowsAtOnce rows
}

const rowsAtOnce = 50

func (t *table) add(values ...any) error {
	t.values = append(t.values, values...)
	if len(t.values) < rowsAtOnce*t.columns {
		return nil
	}
	if t.full == nil {
		var err error
		if t.full, err = t.tx.Prepare(t.statement()); err != nil {
			return err
		}
	}
	_, err := t.full.Exec(t.values...)
	t.values = t.values[:0]
	return err
}

// flush inserts the rows that are left.
func (t *table) flush() error {
	if len(t.values) == 0 {
		return nil
	}
	_, err := t.tx.Exec(t.statement(), t.values...)
	return err
}

func (t *table) statement() string {
	row := "(" + strings.Repeat("?, ", t.columns-1) + "?)"
	rows := strings.Repeat(row+", ", len(t.values)/t.columns-1) + row
	return "INSERT INTO " + t.name + " VALUES " + rows + " " + t.behind
}
