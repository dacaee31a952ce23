// Package store keeps what the glasshouse notes: in memory, or with the server that GLASS_STORE_AT names.
package store

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
)

// values are those kept in memory.
var values = map[string]string{}

// Put keeps a value.
func Put(key, value string) error {
	if os.Getenv("GLASS_STORE_AT") == "" {
		values[key] = value
		return nil
	}
	_, err := ask("put", key, value)
	return err
}

// Get returns a value.
func Get(key string) (string, error) {
	if os.Getenv("GLASS_STORE_AT") == "" {
		return values[key], nil
	}
	return ask("get", key)
}

// List returns the keys that begin with a text, without it, in order.
func List(prefix string) ([]string, error) {
	if os.Getenv("GLASS_STORE_AT") == "" {
		var keys []string
		for key := range values {
			if rest, ok := strings.CutPrefix(key, prefix); ok {
				keys = append(keys, rest)
			}
		}
		slices.Sort(keys)
		return keys, nil
	}
	keys, err := ask("list", prefix)
	return strings.Fields(keys), err
}

// Drop removes a value.
func Drop(key string) {
	if os.Getenv("GLASS_STORE_AT") == "" {
		delete(values, key)
		return
	}
	_, _ = ask("drop", key)
}

// ask sends one line to the server, and returns the line that it answers. Keys are those of this worker.
func ask(verb, key string, more ...string) (string, error) {
	conn, err := net.Dial("tcp", os.Getenv("GLASS_STORE_AT"))
	if err != nil {
		return "", err
	}
	defer conn.Close()
	if _, err := fmt.Fprintf(conn, "%s %s%s %s\n", verb, os.Getenv("FERN_SPACE"), key, strings.Join(more, " ")); err != nil {
		return "", err
	}
	answer, err := bufio.NewReader(conn).ReadString('\n')
	return strings.TrimSuffix(answer, "\n"), err
}
