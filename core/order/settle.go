package order

import (
	"container/heap"
	"fmt"
	"slices"
	"strings"

	"fernrelay/core/catalog"
)

// Dependencies returns the IDs of the tests that must have ended before a test begins: those that it needs, and
// those that it comes after.
func Dependencies(t *catalog.Test) []string { return slices.Concat(t.Rules().Needs, t.Rules().After) }

// Settle moves every test behind those that it depends on, and leaves the order
// as it is otherwise (Kahn, "Topological sorting of large networks", 1962, taking
// the foremost that is free). What is depended on and not among the tests does
// not count. An error names tests that wait for each other in a circle.
func Settle(tests []catalog.Test) ([]catalog.Test, error) {
	if !slices.ContainsFunc(tests, func(t catalog.Test) bool { return len(t.Rules().Needs)+len(t.Rules().After) > 0 }) {
		return tests, nil
	}
	index := make(map[string]int, len(tests))
	for i := range tests {
		index[tests[i].ID] = i
	}
	waiting := make([]int, len(tests)) // by how many others
	behind := make([][]int, len(tests))
	free := &indexes{}
	for i := range tests {
		for _, id := range Dependencies(&tests[i]) {
			if at, ok := index[id]; ok {
				waiting[i]++
				behind[at] = append(behind[at], i)
			}
		}
		if waiting[i] == 0 {
			*free = append(*free, i) // in order, which makes it a heap
		}
	}
	settled := make([]catalog.Test, 0, len(tests))
	for free.Len() > 0 {
		i := heap.Pop(free).(int)
		settled = append(settled, tests[i])
		for _, next := range behind[i] {
			if waiting[next]--; waiting[next] == 0 {
				heap.Push(free, next)
			}
		}
	}
	if len(settled) < len(tests) {
		return nil, fmt.Errorf("tests wait for each other in a circle: %s: remove one of their needs or after", circle(tests, index, waiting))
	}
	return settled, nil
}

// circle names the tests of a circle among those that still wait.
func circle(tests []catalog.Test, index map[string]int, waiting []int) string {
	at := slices.IndexFunc(waiting, func(n int) bool { return n > 0 })
	var way []string
	for !slices.Contains(way, tests[at].ID) {
		way = append(way, tests[at].ID)
		for _, id := range Dependencies(&tests[at]) {
			if next, ok := index[id]; ok && waiting[next] > 0 {
				at = next
				break
			}
		}
	}
	from := slices.Index(way, tests[at].ID)
	return strings.Join(append(way[from:], tests[at].ID), " → ")
}

// indexes is a heap with the least on top.
type indexes []int

func (h indexes) Len() int           { return len(h) }
func (h indexes) Less(i, j int) bool { return h[i] < h[j] }
func (h indexes) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *indexes) Push(x any)        { *h = append(*h, x.(int)) }
func (h *indexes) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}
