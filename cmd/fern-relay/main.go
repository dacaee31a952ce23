// Command fern-relay finds, picks, splits, runs and watches the tests of a
// project, and hunts those that fail only in some orders.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/outcome"
	"fernrelay/core/pick"
	"fernrelay/internal/ledger"
	"fernrelay/internal/relay"
)

func main() {
	// What is held of a large suite is held for long: a smaller heap is worth its price.
	debug.SetGCPercent(50)
	i := &interrupts{}
	if err := newRoot(i).ExecuteContext(i.watch()); err != nil {
		os.Exit(explain(err))
	}
}

// status is an error that is told already and only sets the exit status.
type status int

func (s status) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

// unkept is an error of a run that came to its end and could not be kept or reported.
type unkept struct{ error }

// withStatus makes the error of an exit status, nil for 0.
func withStatus(n int) error {
	if n == 0 {
		return nil
	}
	return status(n)
}

// explain tells an error on standard error and gives the exit status.
func explain(err error) int {
	var done status
	if errors.As(err, &done) {
		return int(done)
	}
	if errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "fern-relay: interrupted")
		return 3
	}
	fmt.Fprintln(os.Stderr, "fern-relay:", err)
	if ledger.Damaged(err) {
		fmt.Fprintln(os.Stderr, "fern-relay: ledger check looks through the ledger, and puts it aside where it is damaged")
	}
	if errors.As(err, &unkept{}) {
		return 3
	}
	var wrong *pick.Error
	if errors.As(err, &wrong) {
		fmt.Fprintln(os.Stderr, wrong.Pointer())
	}
	return 2
}

// settings are the flags of every command.
type settings struct {
	dir        string
	interrupts *interrupts
}

// open opens the project, and tells what was passed over in it.
func (s *settings) open(ctx context.Context) (*relay.Relay, error) {
	r, err := openPatiently(ctx, s.dir)
	if err != nil {
		return nil, err
	}
	s.note(r)
	return r, nil
}

// patience is how long finding tests may take before it is told.
const patience = time.Second

// openPatiently opens a project, and tells what it is at where that takes its time.
func openPatiently(ctx context.Context, dir string) (*relay.Relay, error) {
	var mu sync.Mutex
	at, late := "", false
	tell := func(change func()) {
		mu.Lock()
		defer mu.Unlock()
		if change(); late && at != "" {
			fmt.Fprintf(os.Stderr, "fern-relay: %s\n", outcome.PlainLine(at))
		}
	}
	timer := time.AfterFunc(patience, func() { tell(func() { late = true }) })
	defer timer.Stop()
	return relay.Open(ctx, dir, func(what string) { tell(func() { at = what }) })
}

func newRoot(i *interrupts) *cobra.Command {
	s := &settings{interrupts: i}
	root := &cobra.Command{
		Use:   "fern-relay [DIR]",
		Short: "Find, pick, split, run, watch and hunt the tests of a project",
		Long: "Fern Relay keeps a large test suite fast and honest. Without a command it opens the\n" +
			"application on the project in DIR, or in the present folder.",
		Args:          cobra.MaximumNArgs(1),
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				s.dir = args[0]
			}
			return openApplication(cmd.Context(), s.dir)
		},
	}
	root.PersistentFlags().StringVarP(&s.dir, "directory", "C", ".", "work on the project in this folder")
	root.CompletionOptions.HiddenDefaultCmd = true
	root.AddCommand(newDemo(s), newList(s), newWhy(s), newSplit(s), newRun(s), newReplay(s), newWatch(s), newHunt(s), newMerge(s), newReport(s), newLedger(s), newDraw(s), newDemoHost())
	return root
}
