package ledger

import (
	"database/sql"
	"fmt"
	"strconv"
	"strings"

	"fernrelay/core/history"
	"fernrelay/core/run"
)

// setupsKept is how many of its latest setups are kept with a group.
const setupsKept = 9

// keepSetups adds what the batches of a run took to begin.
func keepSetups(tx *sql.Tx, run *run.Run) error {
	kept, err := readSetups(tx)
	if err != nil {
		return err
	}
	for group, seconds := range history.Setups(run) {
		latest := append(kept[group], seconds)
		words := make([]string, 0, setupsKept)
		for _, s := range latest[max(0, len(latest)-setupsKept):] {
			words = append(words, strconv.FormatFloat(s, 'g', 4, 64))
		}
		if _, err := tx.Exec("INSERT INTO groups (name, setups) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET setups = ?2", group, strings.Join(words, " ")); err != nil {
			return err
		}
	}
	return nil
}

// Setups returns the seconds that the latest batches of every group, suite:group, took to begin, the latest last.
func (l *Ledger) Setups() (map[string][]float64, error) { return readSetups(l.db) }

func readSetups(from querier) (map[string][]float64, error) {
	rows, err := from.Query("SELECT name, setups FROM groups")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	setups := map[string][]float64{}
	for rows.Next() {
		var name, text string
		if err := scan(rows, &name, &text); err != nil {
			return nil, err
		}
		for word := range strings.FieldsSeq(text) {
			seconds, err := strconv.ParseFloat(word, 64)
			if err != nil {
				return nil, fmt.Errorf("what is kept of the group %s: %w", name, err)
			}
			setups[name] = append(setups[name], seconds)
		}
	}
	return setups, rows.Err()
}
