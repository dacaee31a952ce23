package ledger

import (
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"time"

	"fernrelay/core/order"
	"fernrelay/core/run"
)

// column is a column of the table of runs, with the field of a record that it has.
type column struct {
	name  string
	field func(k *run.Record) any // a pointer, or a [sql.Scanner] that is a [driver.Valuer], too
	later bool                    // not known when the row is made
}

// columns lists the columns of a record. A new one is a line here, its migration, and a field of run.Record or run.Meta.
var columns = []column{
	{"number", func(k *run.Record) any { return &k.Number }, true},
	{"pick", func(k *run.Record) any { return &k.Pick }, false},
	{"workers", func(k *run.Record) any { return &k.Workers }, false},
	{"ordering", func(k *run.Record) any { return (*orderWords)(&k.Order) }, false},
	{"revision", func(k *run.Record) any { return &k.Revision }, false},
	{"dirty", func(k *run.Record) any { return &k.Dirty }, false},
	{"machine", func(k *run.Record) any { return &k.Machine }, false},
	{"source", func(k *run.Record) any { return &k.Imported }, false},
	{"note", func(k *run.Record) any { return &k.Note }, true},
	{"began", func(k *run.Record) any { return (*moment)(&k.Began) }, false},
	{"placed", func(k *run.Record) any { return (*moment)(&k.Placed) }, false},
	{"ended", func(k *run.Record) any { return (*moment)(&k.Ended) }, false},
	{"prepared", func(k *run.Record) any { return (*duration)(&k.Prepared) }, false},
	{"counts", func(k *run.Record) any { return inJSON{&k.Counts} }, true},
	{"work", func(k *run.Record) any { return &k.Work }, true},
	{"trial", func(k *run.Record) any { return &k.Trial }, false},
	{"places", func(k *run.Record) any { return inJSON{&k.Places} }, false},
	{"crossing", func(k *run.Record) any { return &k.Crossing }, false},
	{"services", func(k *run.Record) any { return inJSON{&k.Services} }, false},
}

// runColumns begins a query for records, which [scanRecord] reads.
var runColumns = "SELECT " + columnNames(func(column) bool { return true }) + " FROM runs "

func columnNames(some func(column) bool) string {
	var names []string
	for _, c := range columns {
		if some(c) {
			names = append(names, c.name)
		}
	}
	return strings.Join(names, ", ")
}

func scanRecord(row scanner) (*run.Record, error) {
	k := &run.Record{}
	fields := make([]any, len(columns))
	for i, c := range columns {
		fields[i] = c.field(k)
	}
	return k, scan(row, fields...)
}

// insertRecord adds the row of a record, without what is not known yet, and returns its number.
func insertRecord(tx *sql.Tx, k *run.Record) (int64, error) {
	names, marks := "journal", "?"
	values := []any{sql.NullString{String: k.Journal, Valid: k.Journal != ""}}
	for _, c := range columns {
		if !c.later {
			names, marks, values = names+", "+c.name, marks+", ?", append(values, c.field(k))
		}
	}
	added, err := tx.Exec("INSERT INTO runs ("+names+") VALUES ("+marks+")", values...)
	if err != nil {
		return 0, err
	}
	return added.LastInsertId()
}

// moment is a time in milliseconds since 1970.
type moment time.Time

func (m *moment) Scan(value any) error {
	n, ok := value.(int64)
	if !ok {
		return fmt.Errorf("a time is %v", value)
	}
	*m = moment(time.UnixMilli(n))
	return nil
}

func (m *moment) Value() (driver.Value, error) { return time.Time(*m).UnixMilli(), nil }

// duration is seconds, in milliseconds.
type duration float64

func (d *duration) Scan(value any) error {
	n, ok := value.(int64)
	if !ok {
		return fmt.Errorf("a duration is %v", value)
	}
	*d = duration(float64(n) / 1000)
	return nil
}

func (d *duration) Value() (driver.Value, error) { return int64(math.Round(1000 * float64(*d))), nil }

// orderWords is an order, which earlier versions wrote in other words.
type orderWords string

func (o *orderWords) Scan(value any) error {
	text, ok := value.(string)
	if !ok {
		return fmt.Errorf("an order is %v", value)
	}
	*o = orderWords(order.Words(text))
	return nil
}

func (o *orderWords) Value() (driver.Value, error) { return string(*o), nil }

// inJSON is what a pointer points to, as JSON.
type inJSON struct{ to any }

func (j inJSON) Scan(value any) error {
	text, ok := value.(string)
	if !ok {
		return unreadable(fmt.Errorf("a column is %v", value))
	}
	return unreadable(json.Unmarshal([]byte(text), j.to))
}

func (j inJSON) Value() (driver.Value, error) {
	text, err := json.Marshal(j.to)
	if string(text) == "null" { // a list of nothing
		text = []byte("[]")
	}
	return string(text), err
}
