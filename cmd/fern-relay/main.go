// Command fern-relay finds, picks, splits, runs and watches the tests of a
// project, and hunts those that fail only in some orders.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"syscall"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"fernrelay/core/history"
	"fernrelay/core/pick"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/terminal"
)

func main() {
	collectLate()
	s := &settings{interrupts: &interrupts{}}
	root := newRoot(s)
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(s.interrupts.watch())
	note, err := app.SetAsideDamaged(context.Background(), s.dir, err)
	if note != "" {
		err = unkept{errors.New(note)}
	}
	os.Exit(ended(err))
}

// All that is printed goes through these two.
var (
	stdout = terminal.NewWriter(standardOutput())
	stderr = terminal.NewWriter(os.Stderr)
)

// standardOutput is the standard output, or a writer that fails if this program was started
// without one.
func standardOutput() io.Writer {
	if startedWithoutOutput() {
		return noOutput{}
	}
	return os.Stdout
}

// dataOutput is the standard output for data that programs read, byte by byte if it is no terminal.
func dataOutput() io.Writer {
	if term.IsTerminal(os.Stdout.Fd()) {
		return stdout
	}
	return stdout.Raw()
}

type noOutput struct{}

func (noOutput) Write([]byte) (int, error) { return 0, errors.New("it is closed") }

// ended returns the exit status of a command that ended with an error or nil. Results that could not be
// written make it 3, unless the reader has closed the pipe because it has seen enough.
func ended(err error) int {
	failed := errors.Join(stdout.Flush(), stdout.Err())
	unread := errors.Is(failed, syscall.EPIPE)
	if failed != nil && !unread {
		fmt.Fprintf(stderr, "fern-relay: the results cannot be written to standard output: %v\n", stdout.Err())
	}
	switch done := status(0); {
	case unread && (err == nil || errors.Is(err, syscall.EPIPE)):
		return 0
	case failed != nil && !unread:
		return 3
	case err == nil:
		return 0
	case errors.As(err, &done):
		return int(done)
	}
	return explain(err)
}

// status is an error that has been reported already and only sets the exit status.
type status int

func (s status) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

// unkept is an error of a run that ended and could not be kept or reported.
type unkept struct{ error }

// withStatus makes the error of an exit status, nil for 0.
func withStatus(n int) error {
	if n == 0 {
		return nil
	}
	return status(n)
}

// explain prints an error on standard error and returns the exit status.
func explain(err error) int {
	if errors.Is(err, context.Canceled) {
		fmt.Fprintln(stderr, "fern-relay: interrupted")
		return 3
	}
	fmt.Fprintln(stderr, "fern-relay:", err)
	if errors.As(err, &unkept{}) {
		return 3
	}
	var wrong *pick.Error
	if errors.As(err, &wrong) {
		fmt.Fprintln(stderr, wrong.Pointer())
	}
	return 2
}

// settings are the flags of every command.
type settings struct {
	dir        string
	ledgerPick string // restricts the ledger to the runs of a crossing
	interrupts *interrupts
}

// open opens the project, and prints notes about it.
func (s *settings) open(ctx context.Context) (*app.App, error) {
	return s.opened(openPatiently(ctx, s.dir, app.Open))
}

// openToRun is open for a command that runs tests at once.
func (s *settings) openToRun(ctx context.Context) (*app.App, error) {
	return s.opened(openPatiently(ctx, s.dir, app.OpenToRun))
}

// opened prints the notes of a project.
func (s *settings) opened(r *app.App, err error) (*app.App, error) {
	if err != nil {
		return nil, err
	}
	s.note(r.Notes)
	return r, nil
}

// openWithPast is open, and returns what the latest n runs say.
func (s *settings) openWithPast(ctx context.Context, n int) (r *app.App, past *history.Past, err error) {
	collectRarely() // the past is read meanwhile
	err = patiently(func(progress func(string)) error {
		r, past, err = app.OpenWithPast(ctx, s.dir, n, progress)
		return err
	})
	if err == nil {
		s.note(r.Notes)
	}
	return r, past, err
}

// patience is how long finding tests may take before it is mentioned.
const patience = time.Second

// openPatiently opens a project, and says what it does if that takes time.
func openPatiently(ctx context.Context, dir string, open func(ctx context.Context, dir string, progress func(string)) (*app.App, error)) (r *app.App, err error) {
	err = patiently(func(progress func(string)) error {
		r, err = open(ctx, dir, progress)
		return err
	})
	collectRarely()
	return r, err
}

// patiently calls open, and prints what it does at the moment if it takes time.
func patiently(open func(progress func(what string)) error) error {
	var mu sync.Mutex
	at, late := "", false
	set := func(change func()) {
		mu.Lock()
		defer mu.Unlock()
		if change(); late && at != "" {
			fmt.Fprintf(stderr, "fern-relay: %s\n", plain.Line(at))
		}
	}
	timer := time.AfterFunc(patience, func() { set(func() { late = true }) })
	defer timer.Stop()
	return open(func(what string) { set(func() { at = what }) })
}

func newRoot(s *settings) *cobra.Command {
	root := &cobra.Command{
		Use:   "fern-relay [DIR]",
		Short: "Find, pick, split, run, watch and hunt the tests of a project",
		Long: "Fern Relay keeps a large test suite fast and honest. Without a command it opens the\n" +
			"application on the project in DIR, or in the current folder.",
		Args:          folder,
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				s.dir = args[0]
			}
			if id := fleetEnvironment[fleetRunVariable]; id != "" {
				return openOnFleet(cmd.Context(), s.dir, id)
			}
			return openApplication(cmd.Context(), s.dir)
		},
	}
	root.SetFlagErrorFunc(wrongFlag)
	root.Version = version()
	root.SetVersionTemplate("fern-relay {{.Version}}\n")
	root.PersistentFlags().StringVarP(&s.dir, "directory", "C", ".", "work on the project in this `folder`")
	root.AddCommand(newDemo(s), newInit(s), newDoctor(s), newList(s), newWhy(s), newSplit(s), newRun(s), newReplay(s), newWatch(s), newHunt(s), newMerge(s), newReport(s), newLedger(s), newDraw(s), newStation(), newFleet(s), newMatrix(s), newMan(), newDemoHost(), newDemoStore())
	describe(root)
	complete(root)
	return root
}

// renamedFlags say what flags of earlier versions are called now.
var renamedFlags = map[string]string{"failed-first": "--order troubled", "slow": "--took-over TIME", "trial": "--no-record", "coverage": "--until-pairs N"}
