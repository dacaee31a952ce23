package report

import (
	"fmt"
	"strings"

	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/wording"
)

// FindingWords says what a hunt in a run found about a test, and what to do.
func FindingWords(f *run.Finding) string {
	return plain.Line(f.Verdict) + ": " + plain.Line(f.Headline())
}

// InRun returns what a report of a run says of a finding.
func InRun(f hunt.Finding) *run.Finding {
	found := &run.Finding{Verdict: string(f.Verdict), Words: Sentence(f), Culprits: f.Culprits, Order: f.Order, Remedy: Remedy(f)}
	if len(f.Order) > 1 || f.Overlap {
		found.See = Command("", f)
	}
	return found
}

// Hunted sums up what hunts in a run found about the tests that failed, as in 3 failed: 1 order-dependent (after TestUsage,
// proved), 1 flaky, 1 faulty; "" if none was hunted.
func Hunted(ran *run.Run) string {
	var dependent, culprits []string
	counts := map[string]int{}
	bad, unfinished := 0, 0
	for _, r := range ran.Results {
		if !r.Outcome.Bad() {
			continue
		}
		bad++
		switch {
		case r.Finding == nil:
			unfinished++
		case len(r.Finding.Culprits) > 0:
			dependent = append(dependent, r.ID)
			when := "after "
			if r.Finding.Verdict == string(hunt.Brittle) {
				when = "without "
			}
			culprits = append(culprits, when+names(r.Finding.Culprits[0]))
		default:
			counts[plain.Line(r.Finding.Verdict)]++
		}
	}
	if bad == 0 || unfinished == bad {
		return ""
	}
	var parts []string
	if n := len(dependent); n > 0 {
		parts = append(parts, fmt.Sprintf("%d order-dependent (%s, proved)", n, strings.Join(culprits[:min(n, testsNamed)], "; ")))
	}
	for _, verdict := range []string{string(hunt.Flaky), string(hunt.Faulty), string(hunt.Stable)} {
		if counts[verdict] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[verdict], verdict))
		}
	}
	if unfinished > 0 {
		parts = append(parts, wording.Plural(unfinished, "hunt")+" not finished: raise --hunt")
	}
	return fmt.Sprintf("%d failed: %s", bad, strings.Join(parts, ", "))
}
