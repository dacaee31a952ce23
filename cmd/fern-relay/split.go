package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/outcome"
	"fernrelay/core/split"
	"fernrelay/core/timing"
	"fernrelay/internal/draw"
	"fernrelay/internal/relay"
	"fernrelay/internal/report"
	"fernrelay/internal/wholefile"
)

// planFlags say what is split and on what, the same for every command that plans.
type planFlags struct {
	pick, timings, together string
	limit                   int
	late, speed, pin        []string
	here, verbose           bool
}

func (f *planFlags) add(cmd *cobra.Command) {
	addPick(cmd, &f.pick)
	cmd.Flags().StringVar(&f.timings, "timings", "", "expected times from a CSV `file` with the columns id and seconds")
	cmd.Flags().StringVar(&f.together, "together", string(split.Group), "what stays together: test, file or group")
	cmd.Flags().IntVar(&f.limit, "limit", 0, "how many shards run at once, the others in waves behind; 0 for all")
	cmd.Flags().StringArrayVar(&f.late, "late", nil, "`K=TIME`: shard K begins so late, as in 2=60s")
	cmd.Flags().StringArrayVar(&f.speed, "speed", nil, "`K=FACTOR`: shard K is so fast, where another is 1")
	cmd.Flags().StringArrayVar(&f.pin, "pin", nil, "`NAME=K`: a group, file or test, as stays together, goes to shard K")
	cmd.Flags().BoolVarP(&f.verbose, "verbose", "v", false, "list what is otherwise counted")
}

// addHere adds the flag of commands that may plan for one machine as well as for many.
func (f *planFlags) addHere(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.here, "here", false, "the shards are workers of this machine and share its resources")
}

// fleet makes the fleet of so many shards.
func (f *planFlags) fleet(shards int) (split.Fleet, error) {
	fleet := split.Fleet{Shards: shards, Limit: f.limit, Starts: map[int]float64{}, Speeds: map[int]float64{}}
	for _, text := range f.late {
		number, value, err := forShard("--late", text, shards)
		if err != nil {
			return fleet, err
		}
		late, err := time.ParseDuration(value)
		if err != nil {
			return fleet, fmt.Errorf("--late is %q: K=TIME is expected, as in 2=60s", text)
		}
		fleet.Starts[number] = late.Seconds()
	}
	for _, text := range f.speed {
		number, value, err := forShard("--speed", text, shards)
		if err != nil {
			return fleet, err
		}
		if fleet.Speeds[number], err = strconv.ParseFloat(value, 64); err != nil {
			return fleet, fmt.Errorf("--speed is %q: K=FACTOR is expected, as in 2=0.5", text)
		}
	}
	return fleet, fleet.Check()
}

// forShard parts K=VALUE.
func forShard(flag, text string, shards int) (number int, value string, err error) {
	key, value, _ := strings.Cut(text, "=")
	number, err = strconv.Atoi(key)
	if err != nil || number < 1 || number > shards {
		return 0, "", fmt.Errorf("%s is %q: it begins with a shard's number from 1 to %d and =", flag, text, shards)
	}
	return number, value, nil
}

// pinned pins units to shards, once it is known which units there are.
func (f *planFlags) pinned(study *split.Study) error {
	for _, text := range f.pin {
		at := strings.LastIndexByte(text, '=')
		number, _, err := forShard("--pin", text[at+1:]+"=", study.Fleet.Shards)
		if at < 0 || err != nil {
			return fmt.Errorf("--pin is %q: NAME=K is expected, with K from 1 to %d", text, study.Fleet.Shards)
		}
		name := text[:at]
		var named []string
		for _, u := range study.Work.Units() {
			if u.Name == name || u.Label == name {
				named = append(named, u.Name)
			}
		}
		if len(named) != 1 {
			return fmt.Errorf("--pin names %q, which is the name of %s: with --together %s, one is expected as the plan shows it",
				name, report.Plural(len(named), "unit"), study.Together)
		}
		if study.Fleet.Pins == nil {
			study.Fleet.Pins = map[string]int{}
		}
		study.Fleet.Pins[named[0]] = number
	}
	return nil
}

// study makes ready what is to be split on so many shards. The relay is nil where
// the tests are those of a file of timings.
func (s *settings) study(ctx context.Context, f *planFlags, shards int) (study *split.Study, err error) {
	fleet, err := f.fleet(shards)
	if err != nil {
		return nil, err
	}
	timed, err := f.readTimings()
	if err != nil {
		return nil, err
	}
	if timed != nil && f.pick == "" && !f.here {
		if study, err = split.NewStudy(timed, split.Together(f.together), fleet); err != nil {
			return nil, err
		}
		return study, f.pinned(study)
	}
	r, err := s.open(ctx)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	tests, err := r.Pick(f.pick)
	if err != nil {
		return nil, err
	}
	return f.study(r, relay.Solo(tests), timed, fleet)
}

// study makes ready the picked tests of a project.
func (f *planFlags) study(r *relay.Relay, tests, timed []catalog.Test, fleet split.Fleet) (*split.Study, error) {
	if timed != nil {
		f.expect(r, tests, timed)
	}
	study, err := r.Split(tests, split.Together(f.together), fleet, f.here)
	if err != nil {
		return nil, err
	}
	return study, f.pinned(study)
}

func (f *planFlags) readTimings() ([]catalog.Test, error) {
	if f.timings == "" {
		return nil, nil
	}
	timed, err := readTimings(f.timings)
	var repeated *timing.Repeated
	if errors.As(err, &repeated) && f.verbose {
		for _, place := range repeated.Places {
			fmt.Fprintln(os.Stderr, "fern-relay:", outcome.PlainLine(place))
		}
	}
	return timed, err
}

func readTimings(name string) ([]catalog.Test, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	timed, err := timing.ReadCSV(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return timed, nil
}

// expect puts the times of a file on tests, instead of what the ledger knows, so
// that machines with and without a ledger plan alike. IDs that no test has are told.
func (f *planFlags) expect(r *relay.Relay, tests, timed []catalog.Test) {
	// All tests of the project, so that the same are estimated the same in any pick.
	all := slices.Clone(r.Catalog.Tests)
	timing.Expect(all, timing.TimesOf(timed))
	for i := range tests {
		if at, ok := r.Catalog.Index(tests[i].ID); ok && tests[i].PutOut == "" {
			tests[i].Expected, tests[i].Spread, tests[i].Setup, tests[i].Known = all[at].Expected, all[at].Spread, all[at].Setup, all[at].Known
		}
	}
	var unknown []string
	for _, t := range timed {
		if _, ok := r.Catalog.Lookup(t.ID); !ok {
			unknown = append(unknown, t.ID)
		}
	}
	if len(unknown) == 0 {
		return
	}
	hint := ": -v lists them"
	if f.verbose {
		hint = ":\n    " + outcome.Plain(strings.Join(unknown, "\n    "))
	}
	fmt.Fprintf(os.Stderr, "fern-relay: note: %s has %s that no test of the project has%s\n", f.timings, report.Plural(len(unknown), "ID"), hint)
}

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

// mostShards is how many shards can be planned.
const mostShards = 10_000

func newSplit(s *settings) *cobra.Command {
	f := &splitFlags{}
	cmd := &cobra.Command{
		Use:   "split",
		Short: "Plan shards that end together, and how many are worth it",
		Long: "Split plans shards of equal finishing time. With --shards it plans that many, with\n" +
			"--within as few as end within a time; with neither it tells what each number of shards\n" +
			"comes to. With --timings and without --pick, the IDs of the file are the tests.",
		Args: cobra.NoArgs,
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
	flags.DurationVar(&f.within, "within", 0, "as few shards as end within this `time`, as in 2m")
	flags.IntVar(&f.upTo, "up-to", 16, "up to how many shards to compare, without --shards")
	flags.StringVar(&f.steady, "steady", "", "change as little as possible of the plan in this `file`, as --json printed it")
	flags.Float64Var(&f.allow, "allow", 1, "with --steady: by how many per cent the finish may be later than the best")
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
		return errors.New("--shards and --within do not go together: give the number, or the time to meet")
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
		return f.tellCurve(out, study)
	}
	plan, err := f.plan(study)
	if err != nil {
		return err
	}
	if err := f.writeFiles(plan); err != nil {
		return err
	}
	switch {
	case f.asJSON:
		return newEncoder(out).Encode(plan)
	case f.matrix:
		return newEncoder(out).Encode(matrixOf(plan))
	}
	report.Plan(out, plan)
	report.Advice(out, study.Advise(plan, max(f.upTo, len(plan.Shards)+1)))
	catalogPrint, timingsPrint := split.Prints(study.Tests)
	fmt.Fprintf(out, "\nplan %s, of tests %s with times %s\n", plan.Fingerprint(), catalogPrint, timingsPrint)
	return nil
}

// plan plans anew, or from an earlier plan.
func (f *splitFlags) plan(study *split.Study) (split.Plan, error) {
	if f.steady == "" {
		return study.Plan(split.Thorough), nil
	}
	earlier, err := readPlan(f.steady)
	if err != nil {
		return split.Plan{}, fmt.Errorf("--steady: %w", err)
	}
	plan, moved := study.Work.Steady(study.Fleet, earlier, f.allow/100, split.Thorough)
	fmt.Fprintf(os.Stderr, "fern-relay: %s of %d to another shard than before\n", report.Plural(moved, "test")+" moved", len(study.Tests))
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
		return nil, fmt.Errorf("%s is no plan: %w: give a file that split --json printed", name, err)
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

// tooSoon says why no number of shards ends within the time asked for.
func (f *splitFlags) tooSoon(study *split.Study) error {
	study.Fleet.Shards = max(1, len(study.Work.Units()))
	plan := study.Plan(split.Quick)
	words := fmt.Sprintf("no number of shards ends within %s: the soonest is %s", f.within, timing.ClockTenths(plan.Finish))
	if u := plan.Setter; u != nil {
		words += fmt.Sprintf(", as %s is %s in one piece: ", outcome.PlainLine(u.Label), timing.Short(u.Alone()))
		if study.Together != split.Test && len(u.Tests) > 1 {
			words += "part it (--together test), or "
		}
		words += "make it faster"
	}
	return errors.New(words)
}

// tellCurve tells what each number of shards comes to.
func (f *splitFlags) tellCurve(out io.Writer, study *split.Study) error {
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
		label := fmt.Sprintf("%d of %d, %s", s.Number, len(p.Shards), timing.Clock(s.Seconds()))
		if len(s.Units) > 0 {
			label += ", " + outcome.PlainLine(s.Units[0].Label)
		}
		if more := len(s.Units) - 1; more > 0 {
			label += fmt.Sprintf(" and %d more", more)
		}
		jobs[i] = job{s.Number, len(p.Shards), label}
	}
	return jobs
}

// writeFiles writes the drawings and the files of IDs that are asked for.
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
	if err := removeShards(f.files); err != nil {
		return err
	}
	for _, s := range p.Shards {
		name := filepath.Join(f.files, fmt.Sprintf("shard-%d.txt", s.Number))
		err := wholefile.Write(name, 0o644, func(w io.Writer) error {
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

// removeShards removes the files of an earlier plan, which may have had more shards.
func removeShards(folder string) error {
	old, err := filepath.Glob(filepath.Join(folder, "shard-*.txt"))
	if err != nil {
		return err
	}
	for _, name := range old {
		number := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(name), "shard-"), ".txt")
		if _, err := strconv.Atoi(number); err != nil {
			continue
		}
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	return nil
}

// title says what is planned.
func (f *planFlags) title(shards int) string {
	what := "all tests"
	if f.pick != "" {
		what = f.pick
	}
	return fmt.Sprintf("%s, on %s", what, report.Plural(shards, "shard"))
}
