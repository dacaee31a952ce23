package golang

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
)

// TestShares names the pairs of tests of which one may change what the other reads: variables of the package, directly, in
// helpers, methods and other packages, and what the process has set.
func TestShares(t *testing.T) {
	a, found := module(t, Config{}, map[string]string{
		"store/store.go": "package store\n\nvar Default = New()\n\ntype Store struct{ n int }\n\nfunc New() *Store { return &Store{} }\n\n" +
			"func (s *Store) Put() { s.grow() }\n\nfunc (s *Store) grow() { s.n++ }\n\nfunc (s *Store) Len() int { return s.n }\n\nfunc Count() int { return Default.Len() }\n",
		"p/p.go": "package p\n\nvar limit, mode = 1, 2\n\nvar cells = map[string]int{}\n\nfunc reset() { limit = 1 }\n\nfunc check() int { return limit }\n",
		"p/p_test.go": `package p

import (
	"net/http"
	"os"
	"testing"

	"example.org/made/store"
)

func TestSetsLimit(t *testing.T)   { limit = 5 }
func TestResets(t *testing.T)      { reset() }
func TestReadsLimit(t *testing.T)  { t.Log(check()) }
func TestFills(t *testing.T)       { cells["a"]++ }
func TestEmpties(t *testing.T)     { delete(cells, "a") }
func TestPuts(t *testing.T)        { store.Default.Put() }
func TestLooks(t *testing.T)       { store.Default.Len() }
func TestCounts(t *testing.T)      { store.Count() }
func TestLocal(t *testing.T)       { mode := 3; mode++; t.Log(mode) }
func TestSetsEnv(t *testing.T)     { os.Setenv("A", "b") }
func TestReadsEnv(t *testing.T)    { os.Getenv("A") }
func TestSetsClient(t *testing.T)  { http.DefaultClient = nil }
func TestReadsClient(t *testing.T) { t.Log(http.DefaultClient) }
func TestNothing(t *testing.T)     {}
`})
	var group []catalog.Test
	for _, test := range found {
		group = append(group, test)
	}
	slices.SortFunc(group, func(x, y catalog.Test) int { return x.Line - y.Line })
	var pairs []string
	for i, others := range a.Shares(group) {
		for j := range others.All {
			if i == j {
				continue
			}
			pairs = append(pairs, fmt.Sprintf("%s→%s", strings.TrimPrefix(group[i].Name, "Test"), strings.TrimPrefix(group[j].Name, "Test")))
		}
	}
	want := "SetsLimit→Resets SetsLimit→ReadsLimit Resets→SetsLimit Resets→ReadsLimit Fills→Empties Empties→Fills Puts→Looks Puts→Counts SetsEnv→ReadsEnv SetsClient→ReadsClient"
	if got := strings.Join(pairs, " "); got != want {
		t.Errorf("these share state:\n%s\nwant\n%s", got, want)
	}
}
