package main

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/hunt"
	"fernrelay/internal/testfiles"
)

// TestDemoCulprits runs the demo's culprits before their victims in one process,
// with bystanders between, and holds that the hunt catches each of them and
// names what it left: through the protocol, in a real second process.
func TestDemoCulprits(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testfiles.Write(t, dir, map[string]string{
		"fern.toml": fmt.Sprintf("[[suite]]\nname = \"g\"\nkind = \"host\"\nrun = \"'%s' demo-host\"\n", program),
		"order.txt": strings.Join([]string{
			"misting#fog_night", "misting#starts_below_60_percent", "irrigation/drip#reopens_after_fault", "vents#frost_keeps_them_shut",
			"import#reads_old_units", "ledger-book#exports_the_year", "shade#motor_service", "alarms/flood#level_at_0_mm", "shade#summer_plan",
			"alarms/frost#frost_at_dawn", "irrigation/drip#counts_litres", "irrigation/sprinkle#rests_with_all_valves_shut",
			"sensors#rain_fills_the_cistern", "import#reads_new_units", "ledger-book#sums_by_quarter", "shade#closes_at_noon",
		}, "\n"),
	})
	if got := fern(t, dir, "run", "--workers", "1", "--order-from", "order.txt"); got.status != 1 {
		t.Fatalf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	got := fern(t, dir, "hunt", "--json", "--workers", "14")
	var report hunt.Report
	if err := json.Unmarshal([]byte(got.stdout), &report); err != nil || got.status != 0 {
		t.Fatalf("status %d, %v\n%s", got.status, err, got.stderr)
	}
	want := map[string]struct {
		culprits []string
		state    string
	}{
		"alarms/frost#frost_at_dawn":                     {[]string{"misting#fog_night"}, "variable clock.offset: 0s → 3h0m0s"},
		"irrigation/drip#counts_litres":                  {[]string{"irrigation/drip#reopens_after_fault"}, "variable valves.open: [] → [4]"},
		"irrigation/sprinkle#rests_with_all_valves_shut": {[]string{"irrigation/drip#reopens_after_fault"}, "variable valves.open: [] → [4]"},
		"sensors#rain_fills_the_cistern":                 {[]string{"import#reads_old_units"}, "variable units.fallback: millimetres → inches"},
		"import#reads_new_units":                         {[]string{"import#reads_old_units"}, "variable units.fallback: millimetres → inches"},
		"ledger-book#sums_by_quarter":                    {[]string{"ledger-book#exports_the_year"}, "file export.lock: (absent) → the year"},
		"shade#closes_at_noon":                           {[]string{"shade#motor_service", "shade#summer_plan"}, "variable shade.season: winter → summer"},
	}
	for _, f := range report.Victims {
		w, ok := want[strings.TrimPrefix(f.ID, "g:")]
		if !ok {
			t.Errorf("%s is no victim, but found %s", f.ID, f.Verdict)
			continue
		}
		delete(want, strings.TrimPrefix(f.ID, "g:"))
		var culprits []string
		for _, set := range f.Culprits {
			for _, id := range set {
				culprits = append(culprits, strings.TrimPrefix(id, "g:"))
			}
		}
		if f.Verdict != hunt.Polluted || !slices.Equal(culprits, w.culprits) {
			t.Errorf("%s: %s by %v, want polluted by %v", f.ID, f.Verdict, culprits, w.culprits)
		}
		if len(f.Changed) == 0 {
			t.Errorf("%s: no state is named", f.ID)
			continue
		}
		if c := f.Changed[0]; fmt.Sprintf("%s %s: %s → %s", c.Kind, c.Name, c.Before, c.After) != w.state {
			t.Errorf("%s: %+v, want %s", f.ID, c, w.state)
		}
	}
	if len(want) > 0 {
		t.Errorf("not caught: %v", want)
	}
}
