package history

import (
	"fmt"
	"strings"
	"testing"

	"fernrelay/core/run"
)

// TestOrdersOfThePast sorts tests by trouble, time, change of time and name.
func TestOrdersOfThePast(t *testing.T) {
	ids := []string{"u:g#now", "u:g#once", "u:g#slow", "u:g#slower", "u:g#well"}
	h := NewHistory(ids, 30)
	var runs []*run.Record
	for r := range 30 {
		runs = append(runs, &run.Record{Number: r + 1})
		for test, id := range ids {
			o, seconds := run.Passed, 0.1
			switch {
			case id == "u:g#now" && r > 27, id == "u:g#once" && r < 5:
				o = run.Failed
			case id == "u:g#slow":
				seconds = 9
			case id == "u:g#slower" && r > 20:
				seconds = 0.3
			}
			h.Set(test, r, NewCell(o, seconds+0.0001*float64((7*r+test)%5)))
		}
	}
	p := NewPast(runs, h).WithChanges()
	for by, want := range map[string]string{ByTrouble: "now once slow slower well", ByTime: "slow slower", ByChange: "slower", ByName: "now once slow slower well"} {
		var got []string
		for _, test := range p.Order(by, func(string) bool { return true }) {
			got = append(got, strings.TrimPrefix(ids[test], "u:g#"))
		}
		if !strings.HasPrefix(strings.Join(got, " "), want) || len(got) != 5 {
			t.Errorf("by %s they stand %v, want %s", by, got, want)
		}
	}
	if got := p.Order(ByName, func(id string) bool { return id == "u:g#slow" }); len(got) != 1 || got[0] != 2 {
		t.Errorf("of those that are held there are %v", got)
	}
	if s := p.SlowestTests(); len(s) != 5 || s[0] != 2 || s[1] != 3 {
		t.Errorf("the slowest are %v", s)
	}
	if test, err := p.Find("slower"); err != nil || test != 3 {
		t.Errorf("slower is found as %d, %v", test, err)
	}
	if _, err := p.Find("g#"); err == nil {
		t.Error("an ending that is none is found")
	}
	if f := p.Figures[3]; f.Changed != 21 || fmt.Sprintf("%.1f %.1f", f.Before, f.Seconds) != "0.1 0.3" {
		t.Errorf("the slower one is %+v", f)
	}
}
