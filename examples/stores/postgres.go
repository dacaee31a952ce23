package stores

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
)

// postgres is a store in a table of a PostgreSQL server, by simple queries of its protocol (version 3.0). Its space is a schema.
type postgres struct {
	conn  net.Conn
	in    *bufio.Reader
	table string
}

func openPostgres(at, space string) (Store, error) {
	conn, err := net.Dial("tcp", at)
	if err != nil {
		return nil, err
	}
	p := &postgres{conn, bufio.NewReader(conn), space + "values.kept"}
	start := append(binary.BigEndian.AppendUint32(nil, 196608), "user\x00postgres\x00database\x00postgres\x00\x00"...)
	if _, err := conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(start)+4)), start...)); err != nil {
		return nil, err
	}
	if _, err := p.answer(); err != nil {
		return nil, err
	}
	_, err = p.query("CREATE SCHEMA IF NOT EXISTS " + space + "values; CREATE TABLE IF NOT EXISTS " + p.table + " (key text PRIMARY KEY, value text NOT NULL)")
	return p, err
}

// query runs statements and returns the rows of the last, with their first column.
func (p *postgres) query(text string) ([]string, error) {
	message := append([]byte{'Q'}, binary.BigEndian.AppendUint32(nil, uint32(len(text)+5))...)
	if _, err := p.conn.Write(append(append(message, text...), 0)); err != nil {
		return nil, err
	}
	return p.answer()
}

// answer reads messages up to that which says that the server is ready.
func (p *postgres) answer() (rows []string, err error) {
	for {
		head := make([]byte, 5)
		if _, failed := io.ReadFull(p.in, head); failed != nil {
			return nil, failed
		}
		body := make([]byte, binary.BigEndian.Uint32(head[1:])-4)
		if _, failed := io.ReadFull(p.in, body); failed != nil {
			return nil, failed
		}
		switch head[0] {
		case 'D': // the count of columns, then the length and the bytes of each
			rows = append(rows, string(body[6:6+binary.BigEndian.Uint32(body[2:])]))
		case 'E':
			err = errors.New(wordsOf(body))
		case 'Z':
			return rows, err
		}
	}
}

// wordsOf returns the message of an error.
func wordsOf(body []byte) string {
	for field := range bytes.SplitSeq(body, []byte{0}) {
		if len(field) > 0 && field[0] == 'M' {
			return string(field[1:])
		}
	}
	return "the server reports an error"
}

// literal writes a text for SQL.
func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

func (p *postgres) Get(key string) (string, error) {
	rows, err := p.query("SELECT value FROM " + p.table + " WHERE key = " + literal(key))
	if len(rows) == 0 {
		return "", err
	}
	return rows[0], err
}

func (p *postgres) Keys(prefix string) ([]string, error) {
	return p.query("SELECT key FROM " + p.table + " WHERE starts_with(key, " + literal(prefix) + ") ORDER BY key")
}

// statement returns the statement of a change.
func (p *postgres) statement(c Change) string {
	value, then := literal(c.Value), "EXCLUDED.value"
	if c.Adds {
		value, then = fmt.Sprintf("'%d'", c.By), fmt.Sprintf("(k.value::bigint + %d)::text", c.By)
	}
	return fmt.Sprintf("INSERT INTO %s AS k VALUES (%s, %s) ON CONFLICT (key) DO UPDATE SET value = %s", p.table, literal(c.Key), value, then)
}

func (p *postgres) Apply(changes ...Change) error {
	for _, c := range changes {
		if _, err := p.query(p.statement(c)); err != nil {
			return err
		}
	}
	return nil
}

func (p *postgres) Batch(changes ...Change) error {
	var all []string
	for _, c := range changes {
		all = append(all, p.statement(c))
	}
	_, err := p.query(strings.Join(all, ";")) // one transaction
	return err
}

func (p *postgres) Clear() error {
	_, err := p.query("DELETE FROM " + p.table)
	return err
}

func (p *postgres) Close() error { return p.conn.Close() }
