package demo

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"fernrelay/core/run"
	"fernrelay/internal/adapter/host"
	"fernrelay/internal/demo/testhost"
	"fernrelay/internal/ledger"
)

// TestLayOut lays the project out from several programs at once, keeps what its
// user has changed in the ledger, and mends its sources.
func TestLayOut(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			if _, err := LayOut(); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	dir, err := LayOut()
	if err != nil {
		t.Fatal(err)
	}
	source := filepath.Join(dir, "clock", "clock.go")
	if data, err := os.ReadFile(source); err != nil || !strings.Contains(string(data), "var offset = testhost.Variable(") {
		t.Errorf("the sources are not laid out: %v", err)
	}
	store := filepath.Join(dir, ".fern")
	l, err := ledger.Open(store)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := l.Runs(); n != 30 || err != nil {
		t.Errorf("the past has %d runs, %v", n, err)
	}
	checkDates(t, l)
	if _, err := l.Keep(run.Record{Meta: run.Meta{Workers: 1}}, run.New()); err != nil {
		t.Fatal(err)
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(source, []byte("spoiled"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := LayOut(); err != nil {
		t.Fatal(err)
	}
	if data, _ := os.ReadFile(source); string(data) == "spoiled" {
		t.Errorf("the sources are not mended")
	}
	if l, err = ledger.Open(store); err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if n, err := l.Runs(); n != 31 || err != nil {
		t.Errorf("of 31 runs %d are kept, %v", n, err)
	}
}

// checkDates holds that the made-up dates of the past span weeks that end yesterday, in the order of the runs, and
// that tests began while their runs went on.
func checkDates(t *testing.T, l *ledger.Ledger) {
	t.Helper()
	var before time.Time
	runs, err := l.List()
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range runs {
		ran, err := l.Results(k)
		if err != nil {
			t.Fatal(err)
		}
		if !k.Began.After(before) || time.Since(k.Began) < 0 || time.Since(k.Began) > 40*24*time.Hour {
			t.Errorf("run %d began %s, after %s", k.Number, k.Began, before)
		}
		for _, r := range ran.Results {
			if !r.Started.IsZero() && (r.Started.Before(k.Began) || r.Started.After(k.Ended)) {
				t.Fatalf("run %d: %s began %s, not between %s and %s", k.Number, r.ID, r.Started, k.Began, k.Ended)
			}
		}
		before = k.Began
	}
	if time.Since(before) > 48*time.Hour {
		t.Errorf("the latest run began %s", before)
	}
}

// converse sends requests to the demo's host and gives all that it sends.
func converse(t *testing.T, requests ...host.Message) []host.Message {
	t.Helper()
	var in, out bytes.Buffer
	encoder := json.NewEncoder(&in)
	for i, m := range requests {
		id := i + 1
		m.Version, m.ID = "2.0", &id
		if err := encoder.Encode(m); err != nil {
			t.Fatal(err)
		}
	}
	if err := testhost.Serve(&in, &out); err != nil {
		t.Fatal(err)
	}
	var sent []host.Message
	for decoder := json.NewDecoder(&out); ; {
		var m host.Message
		err := decoder.Decode(&m)
		if err == io.EOF {
			return sent
		}
		if err != nil {
			t.Fatal(err)
		}
		sent = append(sent, m)
	}
}

func params(t *testing.T, of any) json.RawMessage {
	t.Helper()
	raw, err := json.Marshal(of)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// TestProtocol holds a conversation as docs/test-host.md has it: every request
// is answered, notifications come in order, state is reported and set back.
func TestProtocol(t *testing.T) {
	run := host.RunParams{Tests: []host.RunTest{{TestName: host.TestName{Group: "misting", Name: "starts_below_60_percent"}}, {TestName: host.TestName{Group: "import", Name: "reads_old_units"}}}}
	sent := converse(t,
		host.Message{Method: host.MethodHello, Params: params(t, host.HelloParams{Protocol: host.Protocol, Slot: 1, Temp: t.TempDir()})},
		host.Message{Method: host.MethodDiscover},
		host.Message{Method: host.MethodRun, Params: params(t, run)},
		host.Message{Method: host.MethodState},
		host.Message{Method: host.MethodReset},
		host.Message{Method: host.MethodState},
		host.Message{Method: "sing"},
		host.Message{Method: host.MethodRun, Params: params(t, host.RunParams{Tests: []host.RunTest{{TestName: host.TestName{Group: "no", Name: "body"}}}})},
		host.Message{Method: host.MethodBye},
	)
	var story []string
	for _, m := range sent {
		switch {
		case m.Method != "":
			var n host.Note
			if err := json.Unmarshal(m.Params, &n); err != nil {
				t.Fatal(err)
			}
			story = append(story, strings.TrimSpace(m.Method+" "+n.Name+" "+string(n.Outcome)))
		case m.Error != nil:
			story = append(story, "refused: "+m.Error.Message)
		case bytes.Contains(m.Result, []byte(`"units.fallback","value":"inches"`)):
			story = append(story, "spoiled")
		case bytes.Contains(m.Result, []byte(`"units.fallback","value":"millimetres"`)):
			story = append(story, "as at first")
		default:
			story = append(story, "answered")
		}
	}
	want := []string{"answered", "answered", "started starts_below_60_percent", "finished starts_below_60_percent passed",
		"started reads_old_units", "finished reads_old_units passed", "answered", "spoiled", "answered", "as at first",
		`refused: there is no method "sing"`, "refused: there is no test body of group no", "answered"}
	if strings.Join(story, "\n") != strings.Join(want, "\n") {
		t.Errorf("heard\n%s\nwant\n%s", strings.Join(story, "\n"), strings.Join(want, "\n"))
	}
	var found host.DiscoverResult
	if err := json.Unmarshal(sent[1].Result, &found); err != nil || len(found.Tests) != 252 {
		t.Errorf("%d tests are found, %v", len(found.Tests), err)
	}
	kinds := map[string]int{}
	for _, test := range found.Tests {
		for _, tag := range test.Tags {
			kinds[tag]++
		}
		if test.File == "" || test.Line == 0 {
			t.Errorf("%s has no place", test.Name)
		}
	}
	for _, tag := range []string{"quick", "valve", "frost", "store", "clock", "bus", "nightly"} {
		if kinds[tag] == 0 {
			t.Errorf("no test carries %s", tag)
		}
	}
}
