// Package stores keeps words and numbers by key, in memory, in Redis or in PostgreSQL.
//
//	s, err := stores.Open()
//	err = s.Apply(stores.Set("plant", "bracken"), stores.Add("trays", 2))
package stores

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
)

// Store keeps values by key. Each worker of a run has a space of its own in it.
type Store interface {
	// Get returns a value, "" if there is none.
	Get(key string) (string, error)
	// Keys returns the keys that begin with a text, in order.
	Keys(prefix string) ([]string, error)
	// Apply makes changes one after the other, each by itself.
	Apply(changes ...Change) error
	// Batch makes changes in one transaction of the store.
	Batch(changes ...Change) error
	// Clear removes everything in the space.
	Clear() error
	Close() error
}

// Change sets a key to a value, or adds a number to it.
type Change struct {
	Key   string
	Value string
	Adds  bool
	By    int64
}

// Set sets a key to a value.
func Set(key, value string) Change { return Change{Key: key, Value: value} }

// Add adds a number to the one at a key, 0 if there is none.
func Add(key string, by int64) Change { return Change{Key: key, Adds: true, By: by} }

// Open opens the store that STORES_KIND names, memory by default, at STORES_AT, with the space STORES_SPACE.
func Open() (Store, error) {
	at, space := os.Getenv("STORES_AT"), os.Getenv("STORES_SPACE")
	switch kind := os.Getenv("STORES_KIND"); kind {
	case "", "memory":
		return memory{}, nil
	case "redis":
		return openRedis(at, space)
	case "postgres":
		return openPostgres(at, space)
	default:
		return nil, fmt.Errorf("STORES_KIND is %q: memory, redis or postgres is expected", kind)
	}
}

// memory is a store in a map.
type memory map[string]string

func (m memory) Get(key string) (string, error) { return m[key], nil }

func (m memory) Keys(prefix string) (keys []string, err error) {
	for key := range m {
		if strings.HasPrefix(key, prefix) {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys, nil
}

func (m memory) Apply(changes ...Change) error {
	for _, c := range changes {
		if !c.Adds {
			m[c.Key] = c.Value
			continue
		}
		n, err := strconv.ParseInt(cmp.Or(m[c.Key], "0"), 10, 64)
		if err != nil {
			return fmt.Errorf("%s holds no number: %w", c.Key, err)
		}
		m[c.Key] = strconv.FormatInt(n+c.By, 10)
	}
	return nil
}

func (m memory) Batch(changes ...Change) error {
	trial := memory{}
	for key, value := range m {
		trial[key] = value
	}
	if err := trial.Apply(changes...); err != nil {
		return err
	}
	for key, value := range trial {
		m[key] = value
	}
	return nil
}

func (m memory) Clear() error { clear(m); return nil }
func (m memory) Close() error { return nil }
