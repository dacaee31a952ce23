package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/split"
	"fernrelay/internal/draw"
	"fernrelay/internal/owned"
	"fernrelay/internal/report"
	"fernrelay/internal/wholefile"
	"fernrelay/internal/wording"
)

// splitFlags are the flags of the command split.
type splitFlags struct {
	planFlags
	shards, upTo            int
	within                  time.Duration
	steady                  string
	allow                   float64
	asJSON, matrix          bool
	files, svgFile, pdfFile string
}

// mostShards is the greatest number of shards that can be planned.
const mostShards = 10_000

func newSplit(s *settings) *cobra.Command {
	f := &splitFlags{}
	cmd := &cobra.Command{
		Use:   "split",
		Short: "Plan shards that finish together, and advise how many to use",
		Long: "Split plans shards of equal finishing time. With --shards it plans that many, with\n" +
			"--within as few as finish within a time; with neither it compares numbers of shards.\n" +
			"With --timings and without --pick, the IDs of the file are the tests.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := f.check(cmd); err != nil {
				return err
			}
			return s.split(cmd, f)
		},
	}
	f.add(cmd)
	flags := cmd.Flags()
	addJSON(cmd, &f.asJSON, "the plan as a JSON object")
	flags.IntVar(&f.shards, "shards", 0, "how many shards")
	flags.DurationVar(&f.within, "within", 0, "plan the fewest shards that finish within this `time`")
	flags.IntVar(&f.upTo, "up-to", 16, "compare up to `N` shards, without --shards")
	flags.StringVar(&f.steady, "steady", "", "change the plan in this `file` as little as possible")
	flags.Float64Var(&f.allow, "allow", 1, "with --steady, let the finish be `N` percent later")
	flags.BoolVar(&f.matrix, "matrix", false, "print the shards as a compact JSON list for a job matrix")
	flags.StringVar(&f.files, "files", "", "write a text file of IDs for each shard into this `folder`")
	f.addHere(cmd)
	flags.StringVar(&f.svgFile, "svg", "", "draw the shards into this `file`")
	flags.StringVar(&f.pdfFile, "pdf", "", "draw the shards into this `file`")
	return cmd
}

func (f *splitFlags) check(cmd *cobra.Command) error {
	given := cmd.Flags().Changed
	switch {
	case given("shards") && (f.shards < 1 || f.shards > mostShards):
		return fmt.Errorf("--shards is %d: a number from 1 to %d is expected", f.shards, mostShards)
	case given("shards") && given("within"):
		return errors.New("--shards and --within do not go together: use the number, or the time")
	case given("within") && f.within <= 0:
		return fmt.Errorf("--within is %s: a time above 0 is expected, as in 2m", f.within)
	case f.upTo < 1 || f.upTo > mostShards:
		return fmt.Errorf("--up-to is %d: a number from 1 to %d is expected", f.upTo, mostShards)
	case f.asJSON && f.matrix:
		return errors.New("--json and --matrix both print to standard output: leave one of them out")
	case !(f.allow >= 0 && f.allow <= 100):
		return fmt.Errorf("--allow is %g: a number of per cent from 0 to 100 is expected", f.allow)
	case !given("shards") && !given("within") && (f.matrix || f.steady != "" || f.files+f.svgFile+f.pdfFile != ""):
		return errors.New("how many shards? Give --shards N, or --within TIME")
	}
	return nil
}

func (s *settings) split(cmd *cobra.Command, f *splitFlags) error {
	out := cmd.OutOrStdout()
	shards := max(1, f.shards)
	if f.shards == 0 { // any that a --late, --speed or --pin may name
		shards = mostShards
	}
	study, err := s.study(cmd.Context(), &f.planFlags, shards)
	if err != nil {
		return err
	}
	if f.within > 0 {
		if study.Fleet.Shards = study.Within(f.within.Seconds()); study.Fleet.Shards == 0 {
			return f.tooSoon(study)
		}
	} else if f.shards == 0 {
		return f.printCurve(out, study)
	}
	plan, err := f.plan(study)
	if err != nil {
		return err
	}
	if err := f.writeFiles(plan); err != nil {
		return err
	}
	if unused := study.Unused(plan, "shard"); unused != "" {
		fmt.Fprintln(stderr, "fern-relay: note:", unused)
	}
	switch {
	case f.asJSON:
		return newEncoder(out).Encode(plan)
	case f.matrix:
		return newEncoder(out).Encode(matrixOf(plan))
	}
	report.Plan(out, plan)
	report.Advice(out, study.Advise(plan, max(f.upTo, len(plan.Shards)+1)))
	catalogPrint, timingsPrint := split.Fingerprints(study.Tests)
	fmt.Fprintf(out, "\nplan %s, of tests %s with times %s\n", plan.Fingerprint(), catalogPrint, timingsPrint)
	return nil
}

// plan makes a new plan, or one based on an earlier plan.
func (f *splitFlags) plan(study *split.Study) (split.Plan, error) {
	if f.steady == "" {
		return study.Plan(split.Thorough), nil
	}
	earlier, err := readPlan(f.steady)
	if err != nil {
		return split.Plan{}, fmt.Errorf("--steady: %w", err)
	}
	plan, moved := study.Work.Steady(study.Fleet, earlier, f.allow/100, split.Thorough)
	fmt.Fprintf(stderr, "fern-relay: %s of %d to another shard than before\n", wording.Plural(moved, "test")+" moved", len(study.Tests))
	return plan, nil
}

// readPlan reads which test was in which shard of a plan that --json printed.
func readPlan(name string) (map[string]int, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	var plan struct {
		Format string `json:"format"`
		Shards []struct {
			Shard int      `json:"shard"`
			Tests []string `json:"tests"`
		} `json:"shards"`
	}
	if err := json.Unmarshal(data, &plan); err != nil {
		return nil, fmt.Errorf("%s is no plan: %w: use a file that split --json printed", name, err)
	}
	if plan.Format != split.Format {
		return nil, fmt.Errorf("%s has the format %q: %q is expected, as split --json prints it", name, plan.Format, split.Format)
	}
	earlier := map[string]int{}
	for _, s := range plan.Shards {
		for _, id := range s.Tests {
			earlier[id] = s.Shard
		}
	}
	return earlier, nil
}

// tooSoon says why no number of shards finishes within the time.
func (f *splitFlags) tooSoon(study *split.Study) error {
	study.Fleet.Shards = max(1, len(study.Work.Units()))
	plan := study.Plan(split.Quick)
	words := fmt.Sprintf("no number of shards ends within %s: the soonest is %s", f.within, history.ClockTenths(plan.Finish))
	if u := plan.Setter; u != nil {
		words += fmt.Sprintf(", as %s is %s in one piece: ", plain.Line(u.Label), history.Short(u.Alone()))
		if study.Together != catalog.TestLevel && len(u.Tests) > 1 {
			words += "divide it (--together test), or "
		}
		words += "make it faster"
	}
	return errors.New(words)
}

// printCurve prints the result of each number of shards.
func (f *splitFlags) printCurve(out io.Writer, study *split.Study) error {
	points := study.Work.Curve(study.Fleet, f.upTo, split.Thorough/max(1, f.upTo/8))
	if !f.asJSON {
		report.Curve(out, points, 0)
		return nil
	}
	type point struct {
		Shards   int     `json:"shards"`
		Finish   float64 `json:"finish_s"`
		Floor    float64 `json:"floor_s"`
		Optimal  bool    `json:"optimal"`
		Machines float64 `json:"machines_s"`
	}
	curve := struct {
		Format string  `json:"format"`
		Points []point `json:"points"`
		Knee   int     `json:"knee"`
	}{"fern-curve/1", nil, split.Knee(points)}
	for _, p := range points {
		curve.Points = append(curve.Points, point{p.Shards, p.Finish, p.Floor, p.Optimal, p.Machines()})
	}
	return newEncoder(out).Encode(curve)
}

// job is a shard for a job matrix.
type job struct {
	Shard int    `json:"shard"` // from 1
	Of    int    `json:"of"`
	Label string `json:"label"`
}

func matrixOf(p split.Plan) []job {
	jobs := make([]job, len(p.Shards))
	for i, s := range p.Shards {
		label := fmt.Sprintf("%d of %d, %s", s.Number, len(p.Shards), history.Clock(s.Seconds()))
		if len(s.Units) > 0 {
			label += ", " + plain.Line(s.Units[0].Label)
		}
		if more := len(s.Units) - 1; more > 0 {
			label += fmt.Sprintf(" and %d more", more)
		}
		jobs[i] = job{s.Number, len(p.Shards), label}
	}
	return jobs
}

// writeFiles writes the drawings and the files of IDs that the flags ask for.
func (f *splitFlags) writeFiles(p split.Plan) error {
	for _, name := range []string{f.svgFile, f.pdfFile} {
		if name != "" {
			if err := draw.WriteFile(name, draw.Shards(f.title(len(p.Shards)), p)); err != nil {
				return err
			}
		}
	}
	if f.files == "" {
		return nil
	}
	if err := os.MkdirAll(f.files, 0o755); err != nil {
		return err
	}
	names := make([]string, len(p.Shards))
	for i, s := range p.Shards {
		names[i] = fmt.Sprintf("shard-%d.txt", s.Number)
	}
	if err := owned.RemoveSuperseded(f.files, names, isShardName, func(content io.Reader) bool { return holdsIDs(content, p) }); err != nil {
		return err
	}
	for i, s := range p.Shards {
		err := wholefile.Write(filepath.Join(f.files, names[i]), func(w io.Writer) error {
			for _, id := range s.Tests() {
				if _, err := fmt.Fprintln(w, id); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// isShardName reports whether a file has the name of one with the IDs of a shard. An earlier plan may have had more shards.
func isShardName(name string) bool {
	number, ok := strings.CutPrefix(strings.TrimSuffix(name, ".txt"), "shard-")
	_, err := strconv.Atoi(number)
	return ok && err == nil && strings.HasSuffix(name, ".txt")
}

// holdsIDs reports whether a file holds nothing but IDs of tests, a line each: those of a plan, or what looks like one.
func holdsIDs(content io.Reader, p split.Plan) bool {
	known := map[string]bool{}
	for _, s := range p.Shards {
		for _, id := range s.Tests() {
			known[id] = true
		}
	}
	lines := bufio.NewScanner(content)
	for lines.Scan() {
		suite, rest, ok := strings.Cut(lines.Text(), ":")
		looksLikeOne := ok && suite != "" && !strings.ContainsAny(suite, " \t") && strings.Contains(rest, "#")
		if !known[lines.Text()] && !looksLikeOne {
			return false
		}
	}
	return lines.Err() == nil
}
