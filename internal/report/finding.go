package report

import (
	"bytes"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/order"
	"fernrelay/core/plain"
	"fernrelay/internal/wording"
)

// Finding prints what a hunt found in the project in a folder.
func Finding(w io.Writer, dir string, f hunt.Finding) {
	fmt.Fprintf(w, "%s  %s\n    %s\n", plain.Line(f.ID), Verdict(f), Sentence(f))
	if words := Remedy(f); words != "" {
		fmt.Fprintf(w, "    %s\n", words)
	}
	evidence := Evidence(f)
	if f.Reported == nil {
		evidence = append(evidence, fmt.Sprintf("%s in %s", wording.Plural(f.Trials, "trial"), history.ClockTenths(f.Seconds)))
	}
	fmt.Fprintf(w, "    %s\n", strings.Join(evidence, "; "))
	for _, c := range f.Changed {
		fmt.Fprintf(w, "    %s\n", Changed(c))
	}
	if len(f.Order) > 1 || f.Overlap {
		fmt.Fprintf(w, "    to see it: %s\n", Command(dir, f))
	}
}

// Verdict returns the verdict of a hunt in words.
func Verdict(f hunt.Finding) string {
	if len(f.Mended) > 0 {
		return "mended"
	}
	return string(f.Verdict)
}

// Sentence says in words what a hunt concluded.
func Sentence(f hunt.Finding) string {
	victim := Name(f.ID)
	if f.Reported != nil && len(f.Mended) == 0 {
		return plain.Line(f.Reported.Words)
	}
	if len(f.Mended) > 0 {
		return fmt.Sprintf("%s is mended: it no longer depends on %s%s", victim, sets(f.Mended), repairs(f.Repairs))
	}
	switch f.Verdict {
	case hunt.Polluted:
		if f.Overlap {
			return beside(f)
		}
		return depends(f, "fail", f.With.Failed, f.Without.Failed)
	case hunt.Brittle:
		return depends(f, "pass", f.With.Runs-f.With.Failed, f.Without.Runs-f.Without.Failed)
	case hunt.Faulty:
		return victim + " fails alone and in company: no other test is to blame"
	case hunt.Flaky:
		if len(f.Fails) > 0 {
			return fmt.Sprintf("%s depends on the machine: in the same order it always fails on %s and never on %s", victim, plain.Line(strings.Join(f.Fails, ", ")), plain.Line(strings.Join(f.Passes, ", ")))
		}
		if f.Outlived != nil {
			return outlived(f)
		}
		return victim + " differs on identical trials: the order is not to blame"
	}
	return stable(f)
}

// depends says how often a victim has an outcome, fail or pass, after its culprits and alone. It says "only" if that is always and
// never.
func depends(f hunt.Finding, outcome string, with, without int) string {
	s := "s"
	if strings.HasSuffix(outcome, "s") {
		s = "es"
	}
	if with == f.With.Runs && without == 0 {
		return fmt.Sprintf("%s %s%s only after %s%s", Name(f.ID), outcome, s, sets(f.Culprits), cleaned(f))
	}
	return fmt.Sprintf("%s %s%s in %d of %d after %s, in %d of %d alone%s", Name(f.ID), outcome, s, with, f.With.Runs, sets(f.Culprits), without, f.Without.Runs, cleaned(f))
}

// outlived says that a victim fails although it passed before at the same revision.
func outlived(f hunt.Finding) string {
	o := f.Outlived
	words := fmt.Sprintf("%s fails alone and in company, and passed in run %d at this revision: state outlives what the hunt reset (%s)", Name(f.ID), o.Run, strings.Join(o.Reset, ", "))
	if len(o.Differs) > 0 {
		words += ", or it is in what differs from the commit (" + plain.Line(strings.Join(o.Differs, ", ")) + ")"
	}
	return words + ". Not looked at: " + strings.Join(o.Unlooked, ", ")
}

// repairsNamed bounds the changes that are named of which one repaired a test.
const repairsNamed = 3

// repairs says which change repaired a test.
func repairs(all []hunt.Repair) string {
	var words []string
	for i, r := range all {
		if i == repairsNamed {
			words = append(words, fmt.Sprintf("%d more", len(all)-i))
			break
		}
		if r.Revision == "" {
			words = append(words, "the uncommitted changes of "+plain.Line(r.Subject))
		} else {
			words = append(words, fmt.Sprintf("%s %q", plain.Line(r.Revision), plain.Line(r.Subject)))
		}
	}
	switch len(words) {
	case 0:
		return ""
	case 1:
		return ". Repaired by " + words[0]
	}
	return ". Repaired by one of " + strings.Join(words, ", ")
}

// stable says what was tried with a test that was always well.
func stable(f hunt.Finding) string {
	ways := []string{"alone", "in every order tried"}
	switch each := f.Each; each.Tests {
	case 0:
	case each.Of:
		ways = append(ways, "right after each other test")
	default:
		ways = append(ways, fmt.Sprintf("right after %d of %d other tests", each.Tests, each.Of))
	}
	if f.Met > 0 {
		ways = append(ways, fmt.Sprintf("%d times beside what ran at the same time when it failed", f.Met))
	}
	last := len(ways) - 1
	if last == 1 {
		return Name(f.ID) + " passed alone and in every order tried"
	}
	return Name(f.ID) + " passed " + strings.Join(ways[:last], ", ") + ", and " + ways[last]
}

// beside says that a victim and its culprits clash while they run at the same time. Where they are of several groups, it
// names those.
func beside(f hunt.Finding) string {
	group := func(id string) string {
		_, group, _ := catalog.Parts(id)
		return group
	}
	named := Name
	if ids := slices.Concat(f.Culprits...); slices.ContainsFunc(ids, func(id string) bool { return group(id) != group(f.ID) }) {
		named = func(id string) string { return Name(id) + " of " + plain.Line(group(id)) }
	}
	var clashes []string
	for _, set := range f.Culprits {
		words := make([]string, len(set))
		for i, id := range set {
			words[i] = named(id)
		}
		clashes = append(clashes, strings.Join(words, " and "))
	}
	if f.With.Failed < f.With.Runs || f.Without.Failed > 0 {
		return fmt.Sprintf("%s fails in %d of %d while it runs beside %s, in %d of %d alone", named(f.ID), f.With.Failed, f.With.Runs, strings.Join(clashes, ", or beside "), f.Without.Failed, f.Without.Runs)
	}
	return named(f.ID) + " fails only while it runs beside " + strings.Join(clashes, ", or beside ")
}

// sets names every set of culprits.
func sets(culprits [][]string) string {
	words := make([]string, len(culprits))
	for i, set := range culprits {
		if words[i] = names(set); len(set) > 1 {
			words[i] += " together"
		}
	}
	return strings.Join(words, ", or after ")
}

func names(ids []string) string {
	words := make([]string, len(ids))
	for i, id := range ids {
		words[i] = Name(id)
	}
	return strings.Join(words, " and ")
}

// cleaned says which tests hide the culprits' effect.
func cleaned(f hunt.Finding) string {
	if len(f.Cleaners) == 0 {
		return ""
	}
	return ", unless " + names(f.Cleaners) + " runs between"
}

// Remedy says what to do about a finding, "" if nothing is known.
func Remedy(f hunt.Finding) string {
	if f.Reported != nil {
		return plain.Line(f.Reported.Remedy)
	}
	if f.Overlap {
		return "Let both hold the resource that they share (the rule holds), or have each worker use a name of its own for it ({space}, {port}, {tmp})."
	}
	if len(f.Culprits) > 0 && len(f.Changed) == 0 && f.Looked != "" {
		return strings.ToUpper(f.Looked[:1]) + f.Looked[1:] + "."
	}
	if len(f.Culprits) == 0 || len(f.Changed) == 0 {
		return ""
	}
	culprits, victim, c := names(f.Culprits[0]), Name(f.ID), f.Changed[0]
	leave := "leaves"
	if len(f.Culprits[0]) > 1 {
		leave = "leave"
	}
	left := fmt.Sprintf("%s %s %s", culprits, leave, leftBehind(c))
	if c.File != "" {
		left += fmt.Sprintf(" (%s:%d)", path.Base(plain.Line(c.File)), c.Line)
	}
	switch {
	case f.Verdict == hunt.Brittle && c.Proved:
		return fmt.Sprintf("%s; %s depends on it. Set it up in %s itself, or give %s the rule needs with %s.", left, victim, victim, victim, culprits)
	case f.Verdict == hunt.Brittle:
		return fmt.Sprintf("%s; give %s the rule needs with %s, or set up in it what it needs.", left, victim, culprits)
	case c.Proved:
		return fmt.Sprintf("%s; %s depends on it: restoring only this makes it pass. Restore it at the end of %s, or at the start of %s.", left, victim, Name(f.Culprits[0][len(f.Culprits[0])-1]), victim)
	}
	if left += "; that this is to blame is not proved."; f.Looked != "" {
		left += " " + strings.ToUpper(f.Looked[:1]) + f.Looked[1:] + "."
	}
	return left
}

// leftBehind says what culprits leave: the object of the verb leave.
func leftBehind(c hunt.Change) string {
	name := plain.Line(c.Full())
	_, after := Differing(c)
	switch by, began := strings.CutPrefix(name, "begun by "); {
	case c.Kind == hunt.Goroutine && began && c.After != hunt.Absent:
		return "a goroutine running, begun by " + by
	case c.Kind == hunt.Port && c.Before == hunt.Absent:
		return "a listener at " + name + strings.TrimPrefix(after, "a listener")
	case c.Kind == hunt.Signal && c.Before == hunt.Absent:
		return "the signal " + name + " ignored"
	case c.Kind == hunt.File && c.Before == hunt.Absent:
		return "the file " + name
	case c.After == hunt.Absent:
		return fmt.Sprintf("the %s %s absent", c.Kind, name)
	case c.Part != nil && c.Part.More > 0:
		return fmt.Sprintf("%s changed in %d parts, the first %s at %s", plain.Line(c.Name), c.Part.More+1, plain.Line(strings.TrimPrefix(c.Part.Way, ".")), after)
	}
	return name + " at " + after
}

// Evidence says how sure a finding is.
func Evidence(f hunt.Finding) []string {
	if f.Reported != nil {
		return []string{"found elsewhere, as " + plain.Line(f.Reported.In) + " says: hunt --verify tries it here"}
	}
	var words []string
	if f.With.Runs > 0 {
		words = append(words, fmt.Sprintf("%s %d of %d failed", Company(f), f.With.Failed, f.With.Runs))
	}
	words = append(words, fmt.Sprintf("alone %d of %d failed", f.Without.Failed, f.Without.Runs))
	if len(f.Culprits) > 0 && f.Chance > 0 {
		words = append(words, Doubt(f))
	}
	return words
}

// Company says what the victim ran with, if it was not alone.
func Company(f hunt.Finding) string {
	switch {
	case len(f.Culprits) == 0:
		return "in company"
	case len(f.Culprits[0]) == 1:
		return "with it"
	}
	return "with them"
}

// Doubt says how likely the verdict is wrong.
func Doubt(f hunt.Finding) string {
	return "the chance that this is an accident is " + chance(f.Chance)
}

func chance(p float64) string {
	if p < 0.0001 {
		return "under 0.01 %"
	}
	return fmt.Sprintf("%.2g %%", 100*p)
}

// Changed says how one piece of state differs.
func Changed(c hunt.Change) string {
	before, after := Differing(c)
	words := fmt.Sprintf("%s %s: %s in a fresh run, %s after%s", c.Kind, plain.Line(c.Full()), before, after, moreParts(c))
	if c.File != "" {
		words += fmt.Sprintf(" (%s:%d)", plain.Line(c.File), c.Line)
	}
	if c.Proved {
		words += "; proved"
	}
	return words
}

// moreParts says how many more parts of a variable differ; empty for none.
func moreParts(c hunt.Change) string {
	if c.Part == nil || c.Part.More == 0 {
		return ""
	}
	return ", and " + wording.Plural(c.Part.More, "more part")
}

// The runes of a value that are shown, and of those the ones with which both sides begin.
const (
	valueRunes = 80
	sameRunes  = 12
)

// Differing returns both values of a piece of state, of long ones the part from where they differ.
func Differing(c hunt.Change) (before, after string) {
	before, after = c.Before, c.After
	if c.Part != nil {
		before, after = c.Part.Before, c.Part.After
	}
	a, b := []rune(plain.Line(before)), []rune(plain.Line(after))
	same := 0
	for same < len(a) && same < len(b) && a[same] == b[same] {
		same++
	}
	if same <= sameRunes || len(a) <= valueRunes && len(b) <= valueRunes {
		same = 0
	}
	part := func(text []rune) string {
		words := ""
		if same > 0 {
			words, text = "…", text[same-sameRunes:]
		}
		if len(text) > valueRunes {
			return words + string(text[:valueRunes]) + "…"
		}
		return words + string(text)
	}
	return part(a), part(b)
}

// Command returns the command line that shows a finding in a project, from any folder, or if dir is empty from the project's: it runs
// the shortest order, or tests side by side so often that they are likely to meet.
func Command(dir string, f hunt.Finding) string {
	relay := "fern-relay "
	if dir != "" {
		relay += "-C " + Quote(dir) + " "
	}
	quoted := func(ids []string) []string {
		words := make([]string, len(ids))
		for i, id := range ids {
			words[i] = Quote(id)
		}
		return words
	}
	words := quoted(f.Order)
	if f.Overlap && len(words) == 1 { // in processes of their own
		tests := quoted(append(slices.Clip(f.Culprits[0]), f.ID))
		return fmt.Sprintf("%srun --no-record --workers %d --together test --repeat 20 %s", relay, len(tests), strings.Join(tests, " "))
	}
	return `printf '%s\n' ` + strings.Join(words, " ") + " | " + relay + "run --no-record --workers 1 --order-from /dev/stdin"
}

// Coverage says how many of all orders of two tests have run.
func Coverage(g order.Gauge) string {
	if g.Pairs == 0 {
		return "order coverage: no group has two tests"
	}
	share := func(n int) int { return 100 * n / g.Pairs } // 100 only if all have
	return fmt.Sprintf("order coverage: %d %% of neighbour pairs, %d %% of before/after pairs", share(g.Neighbours), share(g.Before))
}

// Markdown writes a finding in the project in a folder for a bug report.
func Markdown(to io.Writer, dir string, f hunt.Finding, records []hunt.Record) error {
	w := &bytes.Buffer{}
	fmt.Fprintf(w, "# %s is %s\n\n%s.\n", Code(f.ID), Verdict(f), Prose(Sentence(f)))
	if words := Remedy(f); words != "" {
		fmt.Fprintf(w, "\n%s\n", Prose(words))
	}
	fmt.Fprintf(w, "\n## Evidence\n\n")
	for _, words := range Evidence(f) {
		fmt.Fprintf(w, "- %s\n", words)
	}
	fmt.Fprintf(w, "- %s in %s\n", wording.Plural(f.Trials, "trial"), history.ClockTenths(f.Seconds))
	if len(f.Order) > 1 || f.Overlap {
		fmt.Fprintf(w, "\n## To see it\n\n%s\n", Block("sh", Command(dir, f)))
	}
	if len(f.Changed) > 0 {
		fmt.Fprintf(w, "\n## State left behind\n\n| what | in a fresh run | after | where | |\n| --- | --- | --- | --- | --- |\n")
		for _, c := range f.Changed {
			where, proved := "", ""
			if c.File != "" {
				where = Code(fmt.Sprintf("%s:%d", c.File, c.Line))
			}
			if c.Proved {
				proved = "proved: restoring only this changes the outcome"
			}
			before, after := Differing(c)
			fmt.Fprintf(w, "| %s %s%s | %s | %s | %s | %s |\n", c.Kind, Code(c.Full()), moreParts(c), Code(before), Code(after), where, proved)
		}
	}
	if len(records) > 0 {
		fmt.Fprintf(w, "\n<details><summary>%s</summary>\n\n| trial | why | tried | left out | %s |\n| ---: | --- | ---: | ---: | --- |\n", wording.Plural(len(records), "trial"), Code(Name(f.ID)))
	}
	for _, r := range records {
		fmt.Fprintf(w, "| %d | %s | %d | %d | %s |\n", r.Number, r.Purpose, r.Ran, r.LeftOut, r.Outcome)
	}
	if len(records) > 0 {
		fmt.Fprint(w, "\n</details>\n")
	}
	_, err := to.Write(w.Bytes())
	return err
}

// Name is the name of a test in its ID, safe to show.
func Name(id string) string {
	_, _, name := catalog.Parts(id)
	return plain.Line(name)
}
