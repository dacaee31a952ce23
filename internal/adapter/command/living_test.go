package command

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
	"fernrelay/internal/testfiles"
)

// loop is a program that runs tests as their names come. It counts them, so that a later one can fail because of the earlier.
const loop = `n=0
echo '{"event":"run","format":"fern-events/1"}'
end() { printf '{"event":"finished","id":"%s","outcome":"%s","message":"%s","seconds":0.001}\n' "$1" "$2" "$3"; }
while IFS= read -r name; do
	n=$((n+1))
	printf '{"event":"started","id":"%s"}\n' "$name"
	case $name in
	spoils) spoiled=1; end "$name" passed;;
	victim*) if [ "$spoiled" ]; then end "$name" failed spoiled; else end "$name" passed; fi;;
	counts) end "$name" failed "test $n";;
	kills) kill -9 $$;;
	twice) end "$name" passed; end "$name" failed again;;
	speaks) echo "words of its own" >&2; end "$name" passed;;
	late) end "$name" passed; sleep 0.2; end before failed "too late";;
	hangs) sleep 60;;
	once) end "$name" passed; break;;
	last) end "$name" passed; trap 'exit 3' EXIT;;
	rubbish) echo 'no event line'; sleep 60;;
	*) end "$name" passed;;
	esac
done
echo '{"event":"end"}'
`

// livingSuite opens a session of the program, and returns a function that runs a batch of its tests: the outcomes and messages in order,
// and then the entries.
func livingSuite(t *testing.T) (s adapter.Session, batch func(names ...string) string) {
	t.Helper()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{"loop": loop})
	names := []string{"spoils", "victim", "victim2", "counts", "kills", "twice", "speaks", "late", "hangs", "once", "last", "before", "plain", "rubbish"}
	a, err := New(Config{Suite: "c", Dir: dir, List: []string{"printf", strings.Join(names, "\\n")}, Run: []string{"sh", filepath.Join(dir, "loop")}, Results: "events", Stdin: true,
		Isolate: catalog.SuiteLevel, Limits: process.Limits{Test: 2 * time.Second, Idle: 5 * time.Second}})
	if err != nil {
		t.Fatal(err)
	}
	found, err := a.Discover(t.Context())
	if err != nil || len(found.Tests) != len(names) {
		t.Fatalf("%d tests, %v", len(found.Tests), err)
	}
	if s, err = a.Open(t.Context(), process.Slot{Number: 1, Temp: t.TempDir()}); err != nil {
		t.Fatal(err)
	}
	return s, func(names ...string) string {
		var tests []catalog.Test
		for _, name := range names {
			for _, test := range found.Tests {
				if test.Name == name {
					tests = append(tests, test)
				}
			}
		}
		ran := run.New()
		if err := s.Run(t.Context(), tests, ran.Apply); err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, r := range ran.Results {
			got = append(got, strings.TrimSuffix(fmt.Sprintf("%s %s %s", r.ID[len("c:.#"):], r.Outcome, r.Message), " "))
		}
		return strings.Join(got, "; ")
	}
}

// TestLivingProcess holds that a process runs batch after batch, with the state that tests leave, and that what ends it does not touch
// the outcomes of others.
func TestLivingProcess(t *testing.T) {
	t.Parallel()
	for _, steps := range [][][2]string{
		{{"plain spoils", "plain passed; spoils passed"}, {"victim counts", "victim failed spoiled; counts failed test 4"}, {"reset", ""}, {"counts victim", "counts failed test 1; victim passed"}, {"close", ""}},
		{{"spoils", "spoils passed"}, {"plain kills victim", "plain passed; kills errored the process ended while it ran: signal 9, killed; victim passed"}, {"counts", "counts failed test 2"}, {"close", ""}},
		{{"hangs plain", "hangs timed-out timed out at 2s; its processes were killed; plain passed"}, {"close", ""}},
		{{"once", "once passed"}, {"plain once", "plain passed; once passed"}, {"plain", "plain passed"}, {"close", ""}},
		{{"twice plain", "twice failed its process reported several outcomes, passed, failed, and the worst counts: again; plain passed"}, {"close", ""}},
		{{"plain rubbish", "plain passed; rubbish errored the process ended while it ran: killed, as its results cannot be read: line 5 is no event: invalid character 'o' in literal null (expecting 'u')"}, {"plain", "plain passed"}, {"close", ""}},
		{{"plain last", "plain passed; last passed"}, {"close", "after its last test the process of suite c ended with exit status 3"}},
		{{"late", "late passed"}, {"close", "after its last test the process of suite c reported before as failed: too late"}},
	} {
		t.Run(steps[0][0], func(t *testing.T) {
			t.Parallel()
			s, batch := livingSuite(t)
			for _, step := range steps {
				switch step[0] {
				case "reset":
					if err := s.Reset(t.Context()); err != nil {
						t.Error(err)
					}
				case "close":
					if err := s.Close(); fmt.Sprint(err) != fmt.Sprint(step[1]) && (err != nil || step[1] != "") {
						t.Errorf("it closes with %v, want %q", err, step[1])
					}
				default:
					if got := batch(strings.Fields(step[0])...); got != step[1] {
						t.Errorf("%s: %s\nwant %s", step[0], got, step[1])
					}
				}
			}
		})
	}
}

// TestLivingNeeds holds which commands can run batch after batch.
func TestLivingNeeds(t *testing.T) {
	for _, c := range []struct {
		config Config
		want   string
	}{
		{Config{Run: []string{"x"}, Results: "events", Stdin: true}, ""},
		{Config{Run: []string{"x", "{names-file}"}, Results: "events"}, `needs names = "stdin"`},
		{Config{Run: []string{"x"}, Results: "tap", Stdin: true}, "at once how a test ended"},
		{Config{Run: []string{"x", "{files}"}, Results: "gojson", Stdin: true}, "names or files among the arguments"},
	} {
		c.config.Isolate = catalog.SuiteLevel
		if _, err := New(c.config); (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %q", c.config, err, c.want)
		}
	}
}
