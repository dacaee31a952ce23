package main

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/history"
	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/wording"
)

func newMatrix(s *settings) *cobra.Command {
	f := &matrixFlags{}
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "matrix",
		Short: "List, run and explain the crossings of the matrix",
		Long: "Matrix lists the crossings of what [matrix] in fern.toml varies, with the tests, the\n" +
			"expected time and the services of each. Its commands run them and print the jobs of a\n" +
			"CI system.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, crossings, err := f.open(cmd, s)
			if err != nil {
				return err
			}
			defer r.Close()
			return f.list(cmd, r, crossings, asJSON)
		},
	}
	f.add(cmd)
	addJSON(cmd, &asJSON, "a JSON object")
	cmd.AddCommand(newMatrixRun(s), newMatrixJobs(s))
	return cmd
}

// matrixFlags say which crossings of the matrix, the same for all its commands.
type matrixFlags struct {
	pick  string
	at    []string
	pairs bool
}

func (f *matrixFlags) add(cmd *cobra.Command) {
	addPick(cmd, &f.pick)
	cmd.Flags().StringArrayVar(&f.at, "at", nil, "only crossings with these values, as `NAME=VALUE,…`")
	cmd.Flags().BoolVar(&f.pairs, "pairs", false, "use few crossings that still cover every pair of values")
}

// open opens the project and chooses crossings of its matrix.
func (f *matrixFlags) open(cmd *cobra.Command, s *settings) (*app.App, []matrix.Crossing, error) {
	r, err := s.open(cmd.Context())
	if err != nil {
		return nil, nil, err
	}
	crossings, err := f.crossings(r)
	if err != nil {
		r.Close()
		return nil, nil, err
	}
	return r, crossings, nil
}

var errNoMatrix = errors.New("the project has no matrix: add [matrix.vary] to fern.toml, as in store = [\"memory\", \"redis\"]")

// crossings returns the crossings that the flags choose, in the matrix's order.
func (f *matrixFlags) crossings(r *app.App) ([]matrix.Crossing, error) {
	m := r.Project.Matrix
	if m == nil {
		return nil, errNoMatrix
	}
	all := m.Crossings
	if f.pairs {
		all = m.Pairs(matrix.Thorough)
		fmt.Fprintf(stderr, "fern-relay: %s\n", pairsWords(m.Matrix, all))
	}
	if len(f.at) == 0 {
		return all, nil
	}
	wanted := map[string]bool{}
	for _, text := range f.at {
		of, err := matrix.ParseAssignment(text)
		if err == nil {
			err = m.Check(of)
		}
		if err != nil {
			return nil, fmt.Errorf("--at: %w", err)
		}
		some := m.At(of)
		if len(some) == 0 {
			return nil, fmt.Errorf("--at %s: no crossing has these values", text)
		}
		for i := range some {
			wanted[some[i].Key()] = true
		}
	}
	chosen := slices.DeleteFunc(slices.Clone(all), func(c matrix.Crossing) bool { return !wanted[c.Key()] })
	if len(chosen) == 0 {
		return nil, fmt.Errorf("--at %s: --pairs chooses no crossing with these values", strings.Join(f.at, " --at "))
	}
	return chosen, nil
}

// pairsWords says how many crossings have every pair, and what they save.
func pairsWords(m *matrix.Matrix, few []matrix.Crossing) string {
	run := 0
	for i := range m.Crossings {
		if m.Crossings[i].LeaveOut == "" {
			run++
		}
	}
	return fmt.Sprintf("%d of %s have every pair of values: %s less", len(few), wording.Plural(run, "crossing"), wording.Percent(1-float64(len(few))/float64(max(1, run))))
}

// listedCrossing is the JSON of a crossing that has not run.
type listedCrossing struct {
	Of       matrix.Assignment `json:"of"`
	Tests    int               `json:"tests"`
	Expected float64           `json:"expected_s"`
	Services []string          `json:"services"`
	MayFail  string            `json:"may-fail,omitempty"`
	LeaveOut string            `json:"leave-out,omitempty"`
	Missing  string            `json:"missing,omitempty"` // a service that this machine does not have
}

// listedMatrix is the JSON of the command matrix.
type listedMatrix struct {
	Format    string           `json:"format"`
	Crossings []listedCrossing `json:"crossings"`
}

func (f *matrixFlags) list(cmd *cobra.Command, r *app.App, crossings []matrix.Crossing, asJSON bool) error {
	listed := listedMatrix{Format: matrix.Format, Crossings: []listedCrossing{}}
	workers := r.CrossingWorkers(r.Project.Matrix.AtOnce)
	for i := range crossings {
		c := &crossings[i]
		line := listedCrossing{Of: c.Of, MayFail: c.MayFail, LeaveOut: c.LeaveOut, Services: []string{}}
		if c.LeaveOut == "" {
			expected, err := r.ExpectCrossing(cmd.Context(), c, f.pick, workers)
			if err != nil {
				return err
			}
			line.Tests, line.Expected, line.Services = expected.Tests, expected.Seconds, append(line.Services, expected.Services...)
			if expected.Missing != nil {
				line.Missing = expected.Missing.Error()
			}
		}
		listed.Crossings = append(listed.Crossings, line)
	}
	if asJSON {
		return newEncoder(cmd.OutOrStdout()).Encode(listed)
	}
	printCrossings(cmd.OutOrStdout(), crossings, listed.Crossings)
	return nil
}

func printCrossings(w io.Writer, crossings []matrix.Crossing, lines []listedCrossing) {
	width, seconds := 0, 0.0
	for i := range crossings {
		width = max(width, len([]rune(crossings[i].Label())))
	}
	for i, line := range lines {
		took := ""
		if line.LeaveOut == "" && line.Expected > 0 {
			took = history.ClockTenths(line.Expected)
			seconds += line.Expected
		}
		label := crossings[i].Label()
		fmt.Fprintf(w, "%s%s  %7s  %s\n", plain.Line(label), strings.Repeat(" ", width-len([]rune(label))), took, line.words())
	}
	fmt.Fprintf(w, "%s, %s one after the other\n", wording.Plural(len(lines), "crossing"), history.Clock(seconds))
}

// words are the tests and services of the crossing, and why it is left out, skipped or may fail.
func (l *listedCrossing) words() string {
	var words []string
	if l.LeaveOut == "" {
		words = append(words, wording.Plural(l.Tests, "test"))
	}
	if len(l.Services) > 0 {
		words = append(words, "with "+strings.Join(l.Services, ", "))
	}
	for _, why := range []struct{ what, text string }{{"left out: ", l.LeaveOut}, {"may fail: ", l.MayFail}, {"skipped here: ", l.Missing}} {
		if why.text != "" {
			words = append(words, why.what+plain.Line(why.text))
		}
	}
	return strings.Join(words, "; ")
}

// matrixJob is one job of a CI system's job matrix.
type matrixJob struct {
	At    string `json:"at"`
	Shard int    `json:"shard"`
	Of    int    `json:"of"`
	Label string `json:"label"`
	Args  string `json:"args"`
}

func newMatrixJobs(s *settings) *cobra.Command {
	f := &matrixFlags{}
	var shards int
	cmd := &cobra.Command{
		Use:   "jobs",
		Short: "Print the crossings as one line of JSON for a CI job matrix",
		Long: "Jobs prints a JSON list with one object per crossing and shard. A job runs its part\n" +
			"with fern-relay matrix run and the job's args, and merge joins the results of all.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if shards < 1 || shards > mostShards {
				return fmt.Errorf("--shards is %d: a number from 1 to %d is expected", shards, mostShards)
			}
			r, crossings, err := f.open(cmd, s)
			if err != nil {
				return err
			}
			defer r.Close()
			return newEncoder(cmd.OutOrStdout()).Encode(jobsOf(crossings, shards))
		},
	}
	f.add(cmd)
	cmd.Flags().IntVar(&shards, "shards", 1, "split each crossing into `N` jobs")
	return cmd
}

func jobsOf(crossings []matrix.Crossing, shards int) []matrixJob {
	jobs := []matrixJob{}
	for i := range crossings {
		c := &crossings[i]
		if c.LeaveOut != "" {
			continue
		}
		for k := 1; k <= shards; k++ {
			j := matrixJob{At: c.Key(), Shard: k, Of: shards, Label: c.Label(), Args: "--at " + c.Key()}
			if shards > 1 {
				j.Label += fmt.Sprintf(" %d/%d", k, shards)
				j.Args += fmt.Sprintf(" --shard %d/%d", k, shards)
			}
			jobs = append(jobs, j)
		}
	}
	return jobs
}

// readMatrices reads parts of the results of a matrix; none if the files are something else. A file that is not there is
// left out: what it would have is missing from the rest.
func readMatrices(names []string) (parts []*matrix.File, err error) {
	var gone []string
	for _, name := range names {
		part, err := readMatrix(name)
		if errors.Is(err, fs.ErrNotExist) {
			gone = append(gone, name)
			continue
		}
		if err != nil || part == nil && len(parts) > 0 {
			return nil, fmt.Errorf("%s: %w", name, cmp.Or(err, errors.New("this is no JSON of matrix run, and the files before it are: merge them apart")))
		}
		if part == nil {
			return nil, nil
		}
		parts = append(parts, part)
	}
	for i := 0; i < len(gone) && len(parts) > 0; i++ {
		fmt.Fprintf(stderr, "fern-relay: %s: cannot be read: it is not there\n", gone[i])
	}
	return parts, nil
}

// mergeMatrix joins parts of the results of the project's matrix, and names crossings that never came back.
func (s *settings) mergeMatrix(cmd *cobra.Command, parts []*matrix.File, flags *mergeFlags) error {
	r, err := app.OpenHistory(cmd.Context(), s.dir)
	if err != nil {
		return err
	}
	defer r.Close()
	if r.Project.Matrix == nil {
		return errors.New("these are results of a matrix, and the project has none: run merge in the project, or name its folder with -C")
	}
	results, err := matrix.Join(r.Project.Matrix.Matrix, parts)
	if err != nil {
		return err
	}
	if results.Mixed != "" && !flags.mixed {
		return errors.New(results.Mixed + ": what passed with the one may fail with the other. Run the parts of one source, or add --mixed")
	}
	f := &matrixRunFlags{junit: flags.junit, output: flags.file}
	if err := f.print(cmd.Context(), cmd.OutOrStdout(), s, r, results); err != nil {
		return err
	}
	for _, one := range results.Results {
		if one.Missing() {
			fmt.Fprintf(stderr, "fern-relay: the crossing %s never came back\n", plain.Line(one.Key()))
		}
	}
	return withStatus(results.ExitStatus())
}

// readMatrix reads a part of the results of a matrix; nil if the file is something else.
func readMatrix(name string) (*matrix.File, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	head := make([]byte, 256)
	n, _ := io.ReadFull(file, head)
	if !strings.Contains(string(head[:n]), `"`+matrix.Format+`"`) {
		return nil, nil
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	return matrix.Read(file)
}
