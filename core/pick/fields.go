package pick

import (
	"fmt"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/run"
)

const (
	fieldTag  = "tag"
	fieldStep = "step"

	fieldCrossing = "crossing"
)

// picks is the language of picks.
var picks *language

func init() { // not a literal, as fields evaluate other picks
	picks = newLanguage([]field{
		{name: fieldTag, bare: true, set: tagged, fact: tagFact},
		{name: "in", hint: "place", example: "irrigation/**", set: placed, fact: placeFact},
		{name: "at", hint: "file:line", example: "drip_test.go:42", check: checkAt, set: atLine, fact: placeFact},
		{name: "name", hint: "part of it, or /…/", regexp: true, example: "valve", check: checkName, set: named, fact: nameFact},
		{name: fieldStep, hint: "a step of it", regexp: true, example: "case_3", check: checkName, set: stepped, fact: stepFact},
		{name: "suite", hint: "one suite", example: "unit", set: ofSuite,
			fact: func(x *Index, _ *Term, i int) string { return "its suite is " + x.Catalog.Tests[i].Suite }},
		{name: "kind", hint: "kind of test", example: "example", set: ofKind,
			fact: func(x *Index, _ *Term, i int) string { return "its kind is " + string(x.Catalog.Tests[i].Kind) }},
		{name: "id", hint: "one test", example: `"unit:drip#TestX"`, set: ofID,
			fact: func(x *Index, _ *Term, i int) string { return "its ID is " + x.Catalog.Tests[i].ID }},
		{name: "took", hint: "expected time", compares: true, example: "2s", check: checkTook, set: took, fact: tookFact},
		{name: "was", hint: "latest outcome", past: true, example: "failed", check: checkLast, set: last, fact: lastFact},
		{name: "rate", hint: "pass rate", past: true, compares: true, example: "95%", check: checkRate, set: rated, fact: rateFact},
		{name: "flips", hint: "changes of outcome", past: true, compares: true, example: "2", check: checkFlips, set: flipped, fact: flipsFact},
		{name: "new", hint: "never run", bare: true, past: true, set: unrun, fact: runsFact},
		{name: "rule", hint: "has a rule", example: "skip", check: checkRule, set: hasRule, fact: rulesFact},
		{name: "saved", hint: "a saved pick", example: "quick", set: saved, fact: savedFact},
		{name: "touched", hint: "since a git revision", example: "main", set: touched, fact: touchedFact},
		{name: fieldCrossing, hint: "a crossing of the matrix", example: "store=redis", check: checkCrossing, set: ranThere, fact: crossingFact},
	})
}

// tagged selects the tests with a tag. Without a wildcard the index has the set already.
func tagged(v *evaluation, t *Term) (catalog.Set, error) {
	if !strings.ContainsAny(t.Value, "*?") {
		return v.index.Tagged(t.Value), nil
	}
	set, glob := catalog.NewSet(len(v.index.Catalog.Tests)), globRegexp(t.Value, ".*")
	for tag, members := range v.index.tags {
		if glob.MatchString(tag) {
			set.Or(members)
		}
	}
	return set, nil
}

func tagFact(x *Index, t *Term, i int) string {
	test := &x.Catalog.Tests[i]
	glob := globRegexp(t.Value, ".*")
	for _, tag := range test.Tags {
		if !glob.MatchString(tag) {
			continue
		}
		if from := test.TagFrom(tag); from != "" {
			return fmt.Sprintf("it carries the tag %s from %s", tag, from)
		}
		return "it carries the tag " + tag
	}
	if len(test.Tags) == 0 {
		return "it carries no tag"
	}
	return "its tags are " + strings.Join(test.Tags, " ")
}

func unrun(v *evaluation, _ *Term) (catalog.Set, error) {
	return v.index.where(func(i int) bool { return v.index.last(i) == "" }), nil
}

func runsFact(x *Index, _ *Term, i int) string {
	if x.last(i) != "" {
		return "it has run here"
	}
	return "it never ran here"
}

// placed selects by group, folder or file. A place without wildcards at its end means what is below it, too, and
// one that ends in /. only the folder itself.
// placed selects the tests of a group, folder or file.
//
//	in:beds          the group beds, and what is in the folder beds
//	in:beds/.        the folder itself, without those in it
//	in:beds/row*     groups, folders and files with such a name, one level down
//	in:row_test.go   each file of that name, as the pattern has no folder
func placed(v *evaluation, t *Term) (catalog.Set, error) {
	pattern := strings.TrimSuffix(strings.TrimPrefix(t.Value, "./"), "/")
	base := !strings.Contains(pattern, "/")
	folder, itself := strings.CutSuffix(pattern, "/.")
	switch {
	case itself:
		pattern = folder
	case pattern != "." && !strings.ContainsAny(path.Base(pattern), "*?"):
		pattern += "/**"
	}
	glob := globRegexp(pattern, "[^/]*")
	inFile := func(file string) bool {
		dir, name := path.Split(file)
		return glob.MatchString(file) || dir != "" && glob.MatchString(strings.TrimSuffix(dir, "/")) || base && glob.MatchString(name)
	}
	set := v.index.whereGroup(func(g catalog.Group) bool { return glob.MatchString(g.Name) })
	for _, run := range v.index.files {
		if inFile(run.file) {
			set.AddRange(run.first, run.len)
		}
	}
	if set.Len() == 0 && strings.ContainsAny(t.Value, "[]{}") {
		return nil, fmt.Errorf("no group, folder or file is named %s: the wildcards are * ** and ?, other characters mean themselves", t.Value)
	}
	return set, nil
}

func placeFact(x *Index, _ *Term, i int) string {
	t := &x.Catalog.Tests[i]
	if t.Line == 0 {
		return "its group is " + t.Group
	}
	return fmt.Sprintf("it is at %s:%d in group %s", t.File, t.Line, t.Group)
}

func splitAt(value string) (file string, line int, err error) {
	colon := strings.LastIndexByte(value, ':')
	if colon > 0 {
		line, _ = strconv.Atoi(value[colon+1:])
	}
	if line < 1 {
		return "", 0, fmt.Errorf("at:%s names no line: write it like at:drip_test.go:42", value)
	}
	return strings.TrimPrefix(value[:colon], "./"), line, nil
}

func checkAt(t *Term) error {
	_, _, err := splitAt(t.Value)
	return err
}

// atLine selects the test at a line: the last that begins at or before it and, if its end is known, does not end
// before it.
func atLine(v *evaluation, t *Term) (catalog.Set, error) {
	file, line, err := splitAt(t.Value)
	if err != nil {
		return nil, err
	}
	tests := v.index.Catalog.Tests
	best := map[string]int{} // by file, because several folders may have the same base name
	for _, run := range v.index.files {
		if run.file != file && !strings.HasSuffix(run.file, "/"+file) {
			continue
		}
		for i := run.first; i < run.first+run.len; i++ {
			if at := tests[i].Line; at == 0 || at > line {
				continue
			}
			if b, ok := best[run.file]; !ok || tests[b].Line < tests[i].Line {
				best[run.file] = i
			}
		}
	}
	set := catalog.NewSet(len(tests))
	for _, i := range best {
		if tests[i].End == 0 || tests[i].End >= line {
			set.Add(i)
		}
	}
	return set, nil
}

func ofSuite(v *evaluation, t *Term) (catalog.Set, error) {
	return v.index.whereGroup(func(g catalog.Group) bool { return g.Suite == t.Value }), nil
}

func ofKind(v *evaluation, t *Term) (catalog.Set, error) {
	if set := v.index.kinds[t.Value]; set != nil {
		return set, nil
	}
	return catalog.NewSet(len(v.index.Catalog.Tests)), nil
}

func ofID(v *evaluation, t *Term) (catalog.Set, error) {
	set := catalog.NewSet(len(v.index.Catalog.Tests))
	if i, _, ok := v.index.splitID(t.Value); ok {
		set.Add(i)
	}
	return set, nil
}

// comparison returns the comparison of a term with a number.
func comparison(t *Term, number func(value string) (float64, error)) (func(float64) bool, error) {
	limit, err := number(t.Value)
	if err != nil {
		return nil, err
	}
	compare := comparisons[t.Op]
	return func(is float64) bool { return compare(is, limit) }, nil
}

var comparisons = map[string]func(a, b float64) bool{
	"<":  func(a, b float64) bool { return a < b },
	"<=": func(a, b float64) bool { return a <= b },
	">":  func(a, b float64) bool { return a > b },
	">=": func(a, b float64) bool { return a >= b },
	"=":  func(a, b float64) bool { return a == b },
}

// duration reads 200ms, 1.5s, 2m, or a plain number of seconds.
func duration(value string) (float64, error) {
	if limit, err := time.ParseDuration(value); err == nil {
		return limit.Seconds(), nil
	}
	if n, err := strconv.ParseFloat(value, 64); err == nil && !math.IsNaN(n) {
		return n, nil
	}
	return 0, fmt.Errorf("%q is not a duration: write it like 200ms, 1.5s or 2m", value)
}

func checkTook(t *Term) error {
	_, err := duration(t.Value)
	return err
}

func took(v *evaluation, t *Term) (catalog.Set, error) {
	compare, err := comparison(t, duration)
	return v.index.where(func(i int) bool { return compare(v.index.took[i]) }), err
}

func tookFact(x *Index, _ *Term, i int) string {
	t := &x.Catalog.Tests[i]
	if !t.Known {
		return "it was never measured and is taken for " + history.Short(t.Expected)
	}
	return "it takes " + history.Short(t.Expected)
}

// lastBad means the outcomes that make a run fail.
const lastBad = "bad"

func checkLast(t *Term) error {
	names := []string{lastBad}
	for _, o := range run.Outcomes {
		names = append(names, string(o))
	}
	return oneOf("there is no outcome", t.Value, names)
}

// oneOf holds a word against those that there are.
func oneOf(complaint, word string, names []string) error {
	if slices.Contains(names, word) {
		return nil
	}
	return fmt.Errorf("%s %q: %s", complaint, word, suggest(word, names, "there are "+strings.Join(names, " ")))
}

func last(v *evaluation, t *Term) (catalog.Set, error) {
	return v.index.where(func(i int) bool {
		o := v.index.last(i)
		return string(o) == t.Value || t.Value == lastBad && o.Bad()
	}), nil
}

func lastFact(x *Index, _ *Term, i int) string {
	if o := x.last(i); o != "" {
		return "its latest outcome is " + string(o)
	}
	return "it never ran here"
}

// percent reads 95% or 95.
func percent(value string) (float64, error) {
	n, err := strconv.ParseFloat(strings.TrimSuffix(value, "%"), 64)
	if err != nil || !(n >= 0 && n <= 100) {
		return 0, fmt.Errorf("%q is not a pass rate: write it like 95%%", value)
	}
	return n, nil
}

func checkRate(t *Term) error {
	_, err := percent(t.Value)
	return err
}

func rated(v *evaluation, t *Term) (catalog.Set, error) {
	compare, err := comparison(t, percent)
	rate := v.index.rates()
	return v.index.where(func(i int) bool { return compare(rate(i)) }), err // which no NaN does
}

func rateFact(x *Index, _ *Term, i int) string {
	rate := x.rates()(i)
	if math.IsNaN(rate) {
		return "it never ran here to an end"
	}
	return fmt.Sprintf("it passed in %.0f %% of its latest runs", rate)
}

func wholeNumber(value string) (float64, error) {
	n, err := strconv.ParseUint(value, 10, 31)
	if err != nil {
		return 0, fmt.Errorf("%q is not a number of flips: write it like 2", value)
	}
	return float64(n), nil
}

func checkFlips(t *Term) error {
	_, err := wholeNumber(t.Value)
	return err
}

func flipped(v *evaluation, t *Term) (catalog.Set, error) {
	compare, err := comparison(t, wholeNumber)
	return v.index.where(func(i int) bool { return compare(float64(history.Flips(v.index.past(i)))) }), err
}

func flipsFact(x *Index, _ *Term, i int) string {
	switch n := history.Flips(x.past(i)); n {
	case 0:
		return "its outcome never changed in the latest runs"
	case 1:
		return "its outcome changed once in the latest runs"
	default:
		return fmt.Sprintf("its outcome changed %d times in the latest runs", n)
	}
}

func checkRule(t *Term) error {
	if catalog.RenamedRules[t.Value] != "" {
		return catalog.UnknownRule(t.Value)
	}
	return oneOf("there is no rule", t.Value, catalog.RuleNames)
}

func hasRule(v *evaluation, t *Term) (catalog.Set, error) {
	tests := v.index.Catalog.Tests
	return v.index.where(func(i int) bool { return tests[i].Rules().Has(t.Value) }), nil
}

func rulesFact(x *Index, t *Term, i int) string {
	test := &x.Catalog.Tests[i]
	if !test.Rules().Has(t.Value) {
		return "it has no rule " + t.Value
	}
	if from := test.RuleFrom(t.Value); from != "" {
		return fmt.Sprintf("it has the rule %s from %s", t.Value, from)
	}
	return "it has the rule " + t.Value
}
