package ledger

import (
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"fernrelay/core/hunt"
	"fernrelay/core/run"
)

const huntsSchema = `
CREATE TABLE hunts (
	number  INTEGER PRIMARY KEY AUTOINCREMENT,
	victim  TEXT NOT NULL,
	began   INTEGER NOT NULL,
	sources TEXT NOT NULL,            -- the state of the project's files when it began
	finding TEXT NOT NULL DEFAULT '', -- as JSON; empty before the end
	mended  INTEGER NOT NULL DEFAULT 0 -- when its culprits were found to do no harm any more, else 0
);
CREATE INDEX hunts_by_victim ON hunts (victim, number);
CREATE TABLE trials (
	hunt     INTEGER NOT NULL REFERENCES hunts(number),
	number   INTEGER NOT NULL,
	purpose  TEXT NOT NULL,
	sum      TEXT NOT NULL, -- the same for identical trials
	ran      INTEGER NOT NULL,
	left_out INTEGER NOT NULL,
	share    REAL NOT NULL,
	outcome  TEXT NOT NULL,
	seconds  REAL NOT NULL,
	shows    INTEGER NOT NULL,
	PRIMARY KEY (hunt, number)
) WITHOUT ROWID;
`

// BeginHunt begins the hunt of a victim, or continues the latest one if that did not end and the project's files,
// whose state sources identifies, are the same. Then it also returns the trials that were made.
func (l *Ledger) BeginHunt(victim, sources string) (number int, made []hunt.Record, err error) {
	var before, finding string
	err = scan(l.db.QueryRow("SELECT number, sources, finding FROM hunts WHERE victim = ? ORDER BY number DESC LIMIT 1", victim), &number, &before, &finding)
	if err == nil && before == sources && finding == "" {
		made, err = l.Trials(number)
		return number, made, err
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, nil, err
	}
	began, err := l.db.Exec("INSERT INTO hunts (victim, began, sources) VALUES (?, ?, ?)", victim, time.Now().UnixMilli(), sources)
	if err != nil {
		return 0, nil, err
	}
	last, err := began.LastInsertId()
	return int(last), nil, err
}

// KeepTrial keeps the outcome of a trial of a hunt.
func (l *Ledger) KeepTrial(number int, r hunt.Record) error {
	_, err := l.db.Exec("INSERT OR REPLACE INTO trials (hunt, number, purpose, sum, ran, left_out, share, outcome, seconds, shows) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		number, r.Number, r.Purpose, r.Sum, r.Ran, r.LeftOut, r.Share, r.Outcome, r.Seconds, r.Shows)
	return err
}

// Trials returns the trials of a hunt, without the tests that they ran.
func (l *Ledger) Trials(number int) ([]hunt.Record, error) {
	rows, err := l.db.Query("SELECT number, purpose, sum, ran, left_out, share, outcome, seconds, shows FROM trials WHERE hunt = ? ORDER BY number", number)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var made []hunt.Record
	for rows.Next() {
		r := hunt.Record{Done: true}
		var o string
		if err := scan(rows, &r.Number, &r.Purpose, &r.Sum, &r.Ran, &r.LeftOut, &r.Share, &o, &r.Seconds, &r.Shows); err != nil {
			return nil, err
		}
		r.Outcome = run.OutcomeNamed(o)
		made = append(made, r)
	}
	return made, rows.Err()
}

// EndHunt keeps what a hunt found.
func (l *Ledger) EndHunt(number int, f hunt.Finding) error {
	finding, err := json.Marshal(f)
	if err != nil {
		return err
	}
	_, err = l.db.Exec("UPDATE hunts SET finding = ? WHERE number = ?", string(finding), number)
	return err
}

// KeepFindings keeps findings of reports, each with the moment from which it is, unless the victim was hunted later than that.
func (l *Ledger) KeepFindings(findings []Dated) (kept int, err error) {
	tx, err := l.db.Begin()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	for _, d := range findings {
		finding, err := json.Marshal(d.Finding)
		if err != nil {
			return 0, err
		}
		at := d.At.UnixMilli()
		added, err := tx.Exec("INSERT INTO hunts (victim, began, sources, finding) SELECT ?, ?, '', ? WHERE NOT EXISTS (SELECT 1 FROM hunts WHERE victim = ? AND began >= ?)", d.Finding.ID, at, string(finding), d.Finding.ID, at)
		if err != nil {
			return 0, err
		}
		n, err := added.RowsAffected()
		if err != nil {
			return 0, err
		}
		kept += int(n)
	}
	return kept, tx.Commit()
}

// Dated is a finding of a certain moment.
type Dated struct {
	At      time.Time
	Finding hunt.Finding
}

// Mend records that the culprits of a hunt do no more harm.
func (l *Ledger) Mend(number int) error {
	_, err := l.db.Exec("UPDATE hunts SET mended = ? WHERE number = ?", time.Now().UnixMilli(), number)
	return err
}

// Hunts returns the latest hunt of every victim, the latest first.
func (l *Ledger) Hunts() ([]hunt.Saved, error) {
	rows, err := l.db.Query("SELECT number, victim, began, mended, finding FROM hunts WHERE number IN (SELECT max(number) FROM hunts GROUP BY victim) ORDER BY number DESC")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []hunt.Saved
	for rows.Next() {
		h, err := readHunt(rows)
		if err != nil {
			return nil, err
		}
		all = append(all, h)
	}
	return all, rows.Err()
}

func readHunt(rows *sql.Rows) (h hunt.Saved, err error) {
	var began, mended int64
	var finding string
	if err := scan(rows, &h.Number, &h.Victim, &began, &mended, &finding); err != nil {
		return h, err
	}
	h.Began = time.UnixMilli(began)
	if mended > 0 {
		h.Mended = time.UnixMilli(mended)
	}
	if finding != "" {
		h.Finding = &hunt.Finding{}
		err = unreadable(json.Unmarshal(run.NewWords([]byte(finding)), h.Finding))
	}
	return h, err
}
