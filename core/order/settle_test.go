package order

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/catalog"
)

// TestSettle holds, on random dependencies, that every test stands behind those
// that it depends on, that nothing moves that need not, and that circles are reported.
func TestSettle(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	for range 500 {
		n := 1 + random.IntN(9)
		tests := make([]catalog.Test, n)
		for i := range tests {
			tests[i].ID = fmt.Sprint(i)
		}
		for range random.IntN(8) {
			t := &tests[random.IntN(n)]
			t.AddRules(catalog.Rules{Needs: []string{fmt.Sprint(random.IntN(n + 1))}}, "") // the last is of none
			t.AddRules(catalog.Rules{After: []string{fmt.Sprint(random.IntN(n + 1))}}, "")
		}
		settled, err := Settle(tests)
		want, circle := plainly(tests)
		if circle != (err != nil) || err == nil && ids(settled) != want {
			t.Fatalf("settled %v, %v; want %v", ids(settled), err, want)
		}
		if err == nil {
			continue
		}
		way := strings.Split(strings.Fields(strings.ReplaceAll(err.Error(), " → ", ">"))[7], ">")
		way[len(way)-1] = strings.TrimSuffix(way[len(way)-1], ":")
		if way[0] != way[len(way)-1] {
			t.Fatalf("%v names no circle: %v", err, way)
		}
	}
}

// plainly takes again and again the foremost test that waits for none.
func plainly(tests []catalog.Test) (order string, circle bool) {
	var left, out []string
	byID := map[string]*catalog.Test{}
	for i := range tests {
		byID[tests[i].ID] = &tests[i]
		left = append(left, tests[i].ID)
	}
	for len(left) > 0 {
		at := slices.IndexFunc(left, func(id string) bool {
			return !slices.ContainsFunc(Dependencies(byID[id]), func(d string) bool { return slices.Contains(left, d) })
		})
		if at < 0 {
			return "", true
		}
		out = append(out, left[at])
		left = slices.Delete(left, at, at+1)
	}
	return strings.Join(out, " "), false
}
