// Package storehost is the stand-in for a database server that the demo's tests use: it keeps values by key, in one of two
// kinds that differ in honest ways, as real servers do.
//
//	err := storehost.Serve(ctx, storehost.Shelf, "127.0.0.1:4000")
package storehost

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Kind is what a server is like.
type Kind string

const (
	// Shelf keeps numbers without a fraction.
	Shelf Kind = "shelf"
	// Cellar takes long to start, and lists keys from the last to the first.
	Cellar Kind = "cellar"
)

// cellarStart is how long a cellar takes to start.
const cellarStart = 1200 * time.Millisecond

type server struct {
	kind Kind
	mu   sync.Mutex
	kept map[string]string
}

// Serve answers at an address until ctx ends. A request is a line: put KEY VALUE, get KEY, list PREFIX or drop KEY.
func Serve(ctx context.Context, kind Kind, address string) error {
	if kind != Shelf && kind != Cellar {
		return fmt.Errorf("the kind of store is %q: shelf or cellar is expected", kind)
	}
	if kind == Cellar {
		fmt.Fprintln(os.Stderr, "the cellar stairs are long")
		time.Sleep(cellarStart)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	defer context.AfterFunc(ctx, func() { l.Close() })()
	s := &server{kind: kind, kept: map[string]string{}}
	for {
		conn, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		go s.serve(conn)
	}
}

func (s *server) serve(conn net.Conn) {
	defer conn.Close()
	lines := bufio.NewScanner(conn)
	for lines.Scan() {
		words := append(strings.Fields(lines.Text()), "", "", "")
		if _, err := fmt.Fprintln(conn, s.answer(words[0], words[1], words[2])); err != nil {
			return
		}
	}
}

func (s *server) answer(verb, key, value string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch verb {
	case "put":
		if number, err := strconv.ParseFloat(value, 64); err == nil && s.kind == Shelf {
			value = strconv.Itoa(int(number))
		}
		s.kept[key] = value
	case "get":
		return s.kept[key]
	case "list":
		return strings.Join(s.list(key), " ")
	case "drop":
		delete(s.kept, key)
	}
	return ""
}

// list returns the keys with a prefix, without it.
func (s *server) list(prefix string) (keys []string) {
	for key := range s.kept {
		if rest, ok := strings.CutPrefix(key, prefix); ok {
			keys = append(keys, rest)
		}
	}
	if slices.Sort(keys); s.kind == Cellar {
		slices.Reverse(keys)
	}
	return keys
}
