package timing

import (
	"strings"
	"testing"

	"fernrelay/core/catalog"
)

func TestExpect(t *testing.T) {
	tests := []catalog.Test{
		{ID: "u:a#1", Suite: "u", Group: "a"}, {ID: "u:a#2", Suite: "u", Group: "a"}, {ID: "u:a#new", Suite: "u", Group: "a"},
		{ID: "u:b#new", Suite: "u", Group: "b"}, {ID: "v:c#new", Suite: "v", Group: "c"},
		{ID: "u:a#out", Suite: "u", Group: "a", PutOut: "broken pump"},
	}
	Expect(tests, map[string][]float64{"u:a#1": {1, 50, 1.2}, "u:a#2": {3, 4}})
	for i, want := range []struct {
		seconds float64
		known   bool
	}{{1.2, true}, {3.5, true}, {2.35, false}, {2.35, false}, {2.35, false}, {0, true}} {
		if tests[i].Expected != want.seconds || tests[i].Known != want.known {
			t.Errorf("%s: %g s, known %t; want %g, %t", tests[i].ID, tests[i].Expected, tests[i].Known, want.seconds, want.known)
		}
	}
	Expect(tests[:1], nil)
	if tests[0].Expected != Default || tests[0].Known {
		t.Errorf("of a test of which nothing is known %g s are expected", tests[0].Expected)
	}
}

func TestReadCSV(t *testing.T) {
	tests, err := ReadCSV(strings.NewReader("note,seconds,id\nx,1.5,u:a/b#c:d#e\n,0,plain\n,2,g#n\n"))
	if err != nil || len(tests) != 3 {
		t.Fatalf("%v, %v", tests, err)
	}
	first := tests[0]
	if first.Suite != "u" || first.Group != "a/b" || first.Name != "c:d#e" || first.Expected != 1.5 || tests[1].Group != "plain" || tests[2].Group != "g" {
		t.Errorf("read %+v", tests)
	}
	for text, words := range map[string]string{
		"":                            "columns id and seconds",
		"id,time\n":                   "columns id and seconds",
		"id,seconds\na,-1\n":          "line 2",
		"id,seconds\na,NaN\n":         "line 2",
		"id,seconds\na,Inf\n":         "line 2",
		"id,seconds\na,1e99\n":        "line 2",
		"id,seconds\na,soon\n":        `"soon"`,
		"id,seconds\na,1\nb,2\na,3\n": "line 4: the id \"a\" stands already in line 2",
		"id,seconds\n,1\n":            "empty",
		"id,seconds\na\n":             "line 2",
	} {
		if _, err := ReadCSV(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v, want %s", text, err, words)
		}
	}
}

func TestFormats(t *testing.T) {
	for _, c := range []struct{ got, want string }{
		{Clock(0), "0:00"}, {Clock(59.6), "1:00"}, {Clock(192), "3:12"}, {Clock(3753), "1:02:33"},
		{ClockTenths(33.07), "0:33.1"}, {ClockTenths(119.96), "2:00.0"},
		{Short(0.0004), "0 ms"}, {Short(0.012), "12 ms"}, {Short(0.84), "0.84 s"}, {Short(14.8), "14.8 s"}, {Short(700), "11:40"},
	} {
		if c.got != c.want {
			t.Errorf("got %s, want %s", c.got, c.want)
		}
	}
}
