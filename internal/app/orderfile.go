package app

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"fernrelay/core/order"
	"fernrelay/core/run"
	"fernrelay/internal/format"
)

// OrderFile reads an order from a file: a list, whose lines are unambiguous endings of IDs, or a report, whose tests
// run in the order in which they began. gone counts tests of a report that the project does not have.
func (a *App) OrderFile(path string) (o order.Order, gone int, err error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return o, 0, err
	}
	ran, _, err := format.ReadRun(bytes.NewReader(data))
	if errors.Is(err, format.ErrNoReport) {
		o, err = a.orderList(path, string(data))
		return o, 0, err
	}
	if err != nil {
		return o, 0, fmt.Errorf("%s: %w", path, err)
	}
	var ids []string
	for _, r := range ran.Results {
		if t, ok := a.Catalog.Lookup(r.ID); ok {
			ids = append(ids, t.ID)
		}
	}
	if len(ids) == 0 {
		return o, 0, fmt.Errorf("%s: the report has no test that the project has", path)
	}
	return order.Recorded(path, ids), a.Gone(ran), nil
}

// orderList reads an order from lines.
func (a *App) orderList(path, text string) (order.Order, error) {
	var ids []string
	for n, line := range strings.Split(text, "\n") {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		t, err := a.Catalog.Find(line)
		if err != nil {
			return order.Order{}, fmt.Errorf("%s:%d: %w", path, n+1, err)
		}
		ids = append(ids, t.ID)
	}
	return order.Listed(path, ids), nil
}

// Gone counts the tests of a run that the project does not have.
func (a *App) Gone(ran *run.Run) (gone int) {
	for _, r := range ran.Results {
		if _, ok := a.Catalog.Lookup(r.ID); !ok {
			gone++
		}
	}
	return gone
}
