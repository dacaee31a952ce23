package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"fernrelay/core/quarantine"
	"fernrelay/internal/testfiles"
)

// TestQuarantine follows a polluted test: a hunt puts it into quarantine, runs owe its failures, those after the date are
// errors, and 20 passes in the order that used to break it make it mended.
func TestQuarantine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const source = `package pumps

import "testing"

var limit = 40

func TestRation(t *testing.T) { limit = 5 }

func TestCount(t *testing.T) {}

func TestFlow(t *testing.T) {
	if limit != 40 {
		t.Error("the limit is ", limit)
	}
}
`
	testfiles.Write(t, dir, map[string]string{"go.mod": "module pumps\n\ngo 1.24\n", "pumps_test.go": source})
	git(t, dir, "init", "-q")
	git(t, dir, "add", ".")
	git(t, dir, "commit", "-qm", "pumps")
	if got := fern(t, dir, "run"); got.status != 1 {
		t.Fatalf("the pair is not there: %d\n%s", got.status, got.stdout)
	}
	if got := fern(t, dir, "hunt", "--quarantine", "known.toml"); got.status != 0 || !strings.Contains(got.stderr, "known.toml: 1 test added until ") {
		t.Fatalf("%d\n%s%s", got.status, got.stdout, got.stderr)
	}
	if got := fern(t, dir, "hunt", "TestFlow", "--quarantine", "known.toml"); !strings.Contains(got.stderr, "0 tests added until ") || !strings.Contains(got.stderr, "; 1 in it already, unchanged") {
		t.Errorf("added twice:\n%s", got.stderr)
	}
	got := fern(t, dir, "run", "--quarantine", "known.toml", "--events", "events.jsonl")
	if got.status != 0 || !strings.Contains(got.stdout, "2 passed, 1 owed") || !strings.Contains(got.stdout, "1 test in quarantine: 1 owed") {
		t.Errorf("owed: %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	events, err := os.ReadFile(filepath.Join(dir, "events.jsonl"))
	if err != nil || !strings.Contains(string(events), "in quarantine until ") {
		t.Errorf("%v, the reason is not in\n%s", err, events)
	}
	if got := fern(t, dir, "run", "--shard", "1/1", "--order", "backwards", "--quarantine", "known.toml"); !strings.Contains(got.stdout, "1 owed") {
		t.Errorf("reversed, as a shard: it does not run after its culprit:\n%s%s", got.stdout, got.stderr)
	}

	file := filepath.Join(dir, "known.toml")
	entries, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	today := time.Now()
	ended := strings.NewReplacer(today.AddDate(0, 0, quarantine.DaysOwed).Format(quarantine.Day), today.AddDate(0, 0, -1).Format(quarantine.Day),
		today.Format(quarantine.Day), today.AddDate(0, 0, -15).Format(quarantine.Day)).Replace(string(entries))
	testfiles.Write(t, dir, map[string]string{"ended.toml": ended})
	if got := fern(t, dir, "run", "--quarantine", "ended.toml"); got.status != 1 || !strings.Contains(got.stdout, "1 errored") || !strings.Contains(got.stdout, "its quarantine ended on ") {
		t.Errorf("after the date: %d\n%s", got.status, got.stdout)
	}

	if got := fern(t, dir, "hunt", "--verify"); !strings.Contains(got.stdout, "  polluted\n") {
		t.Errorf("TestRation is as it was, but\n%s%s", got.stdout, got.stderr)
	}
	testfiles.Write(t, dir, map[string]string{"pumps_test.go": strings.Replace(source, "limit = 5 }", "t.Cleanup(func() { limit = 40 }); limit = 5 }", 1)})
	again := fern(t, dir, "run", "--quarantine", "known.toml", "--repeat", strconv.Itoa(quarantine.Mended))
	if again.status != 0 || strings.Count(again.stdout, "mended: go:.#TestFlow passed 20 times in a row") != 1 {
		t.Errorf("mended: %d\n%s%s", again.status, again.stdout, again.stderr)
	}
	var line quarantinedLine
	if got := fern(t, dir, "ledger", "quarantine", "ended.toml", "--json"); json.Unmarshal([]byte(got.stdout), &line) != nil || !line.Mended || line.Days != 15 || !line.Ended || line.Hunt == 0 {
		t.Errorf("%+v\n%s%s", line, got.stdout, got.stderr)
	}
	git(t, dir, "commit", "-qam", "Restore the limit after the ration")
	git(t, dir, "commit", "--allow-empty", "-qm", "nothing")
	repaired := "TestFlow is mended: it no longer depends on TestRation. Repaired by " + git(t, dir, "rev-parse", "--short", "HEAD~1") + ` "Restore the limit after the ration"`
	if got := fern(t, dir, "hunt", "--verify"); !strings.Contains(got.stdout, repaired) {
		t.Errorf("%s%s; want %s", got.stdout, got.stderr, repaired)
	}
	for _, bad := range []struct{ file, want string }{
		{"", "there is no file bad.toml: fern-relay hunt --quarantine bad.toml writes it"},
		{"[[test]]\nid = \"go:.#TestFlow\"\nuntil = 2026-01-01\n", "bad.toml:1:1: go:.#TestFlow has no reason"},
		{"[[test]]\nid = \"go:.#TestFlow\"\nreason = \"r\"\n", "has no date: say until when"},
		{"[[test]]\nid = \"go:.#TestFlow\"\nreason = \"r\"\nuntil = \"soon\"\n", "bad.toml:4"},
		{"[[test]]\nname = \"x\"\n", "bad.toml:2"},
	} {
		if bad.file != "" {
			testfiles.Write(t, dir, map[string]string{"bad.toml": bad.file})
		}
		if got := fern(t, dir, "run", "--quarantine", "bad.toml"); got.status != 2 || !strings.Contains(got.stderr, bad.want) {
			t.Errorf("%q: %d %s; want %q", bad.file, got.status, got.stderr, bad.want)
		}
	}
}
