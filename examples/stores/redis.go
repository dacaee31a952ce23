package stores

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
)

// redis is a store in a Redis server, by its protocol RESP. Its space goes before the names of all keys.
type redis struct {
	conn  net.Conn
	in    *bufio.Reader
	space string
}

func openRedis(at, space string) (Store, error) {
	conn, err := net.Dial("tcp", at)
	if err != nil {
		return nil, err
	}
	return &redis{conn, bufio.NewReader(conn), space}, nil
}

// do sends a command and returns its answer: a string, an int64, nil, or a list of these.
func (r *redis) do(words ...string) (any, error) {
	var out strings.Builder
	fmt.Fprintf(&out, "*%d\r\n", len(words))
	for _, w := range words {
		fmt.Fprintf(&out, "$%d\r\n%s\r\n", len(w), w)
	}
	if _, err := io.WriteString(r.conn, out.String()); err != nil {
		return nil, err
	}
	return r.answer()
}

func (r *redis) answer() (any, error) {
	line, err := r.in.ReadString('\n')
	if err != nil {
		return nil, err
	}
	line = strings.TrimSuffix(line, "\r\n")
	kind, rest := line[0], line[1:]
	switch kind {
	case '+':
		return rest, nil
	case '-':
		return nil, errors.New(rest)
	}
	n, err := strconv.ParseInt(rest, 10, 64)
	switch {
	case err != nil || kind == ':':
		return n, err
	case n < 0:
		return nil, nil
	case kind == '$':
		data := make([]byte, n+2)
		_, err := io.ReadFull(r.in, data)
		return string(data[:n]), err
	}
	list := make([]any, n)
	var wrong error // of one part; the others are read all the same
	for i := range list {
		if list[i], err = r.answer(); err != nil {
			wrong = err
		}
	}
	return list, wrong
}

func (r *redis) Get(key string) (string, error) {
	value, err := r.do("GET", r.space+key)
	text, _ := value.(string)
	return text, err
}

func (r *redis) Keys(prefix string) (keys []string, err error) {
	found, err := r.do("KEYS", r.space+prefix+"*")
	list, _ := found.([]any)
	for _, key := range list {
		keys = append(keys, strings.TrimPrefix(key.(string), r.space))
	}
	slices.Sort(keys)
	return keys, err
}

// command returns the command of a change.
func (r *redis) command(c Change) []string {
	if c.Adds {
		return []string{"INCRBY", r.space + c.Key, strconv.FormatInt(c.By, 10)}
	}
	return []string{"SET", r.space + c.Key, c.Value}
}

func (r *redis) Apply(changes ...Change) error {
	for _, c := range changes {
		if _, err := r.do(r.command(c)...); err != nil {
			return err
		}
	}
	return nil
}

func (r *redis) Batch(changes ...Change) error {
	if _, err := r.do("MULTI"); err != nil {
		return err
	}
	for _, c := range changes {
		if _, err := r.do(r.command(c)...); err != nil {
			return err
		}
	}
	_, err := r.do("EXEC")
	return err
}

func (r *redis) Clear() error {
	keys, err := r.Keys("")
	for _, key := range keys {
		_, failed := r.do("DEL", r.space+key)
		err = errors.Join(err, failed)
	}
	return err
}

func (r *redis) Close() error { return r.conn.Close() }
