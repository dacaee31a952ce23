package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/rehearsal"
	"fernrelay/internal/wording"
)

// rehearse runs the crossings in a fresh clone with a clean environment, and names what works only here.
func (s *settings) rehearse(cmd *cobra.Command, f *matrixRunFlags) error {
	r, crossings, err := f.open(cmd, s)
	if err != nil {
		return err
	}
	defer r.Close()
	before, err := r.LatestResults()
	if err != nil {
		return err
	}
	trial, err := rehearsal.New(cmd.Context(), r.Project)
	if err != nil {
		return err
	}
	defer trial.Close()
	if n := len(trial.Changed); n > 0 {
		fmt.Fprintf(stderr, "fern-relay: note: %s with changes that are not committed, which the rehearsal does not have: %s\n", wording.Plural(n, "file"), someNames(trial.Changed))
	}
	results, err := f.runInClone(cmd, s, trial, r, crossings)
	if err != nil {
		return err
	}
	if err := f.print(cmd.Context(), cmd.OutOrStdout(), s, r.History(), results); err != nil {
		return unkept{err}
	}
	if !f.asJSON {
		printDifferences(cmd.OutOrStdout(), r, trial, before, results)
	}
	return withStatus(results.ExitStatus())
}

// runInClone runs this program in the clone and reads its results.
func (f *matrixRunFlags) runInClone(cmd *cobra.Command, s *settings, trial *rehearsal.Rehearsal, r *app.App, crossings []matrix.Crossing) (*matrix.Results, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	args := []string{"matrix", "run", "--json", "--strict", "-C", trial.Dir}
	for i := range crossings {
		args = append(args, "--at", crossings[i].Key())
	}
	for name, value := range map[string]string{"--pick": f.pick, "--shard": f.shard} {
		if value != "" {
			args = append(args, name, value)
		}
	}
	for name, n := range map[string]int{"--at-once": f.atOnce, "--workers": f.workers, "--stop-after": f.stopAfter, "--retries": f.retries} {
		if n > 0 {
			args = append(args, name, strconv.Itoa(n))
		}
	}
	if f.timeout > 0 {
		args = append(args, "--timeout", f.timeout.String())
	}
	inside := trial.Command(cmd.Context(), program, args...)
	var out bytes.Buffer
	inside.Stdout, inside.Stderr = &out, stderr
	defer s.interrupts.finish(func() {})() // the terminal sends Ctrl-C to the process inside, too
	err = inside.Run()
	var exit *exec.ExitError
	if err != nil && !(errors.As(err, &exit) && (exit.ExitCode() == 1 || exit.ExitCode() == 3)) {
		return nil, fmt.Errorf("the rehearsal did not run: %w", err)
	}
	part, err := matrix.Read(&out)
	if err != nil {
		return nil, fmt.Errorf("the rehearsal has no results: %w", err)
	}
	return matrix.Join(r.Project.Matrix.Matrix, []*matrix.File{part})
}

// someNames names some of a list and counts the others.
func someNames(names []string) string {
	const most = 5
	text := plain.Line(strings.Join(names[:min(len(names), most)], ", "))
	if more := len(names) - most; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// printDifferences prints what failed in a rehearsal and not in the last plain run, and what it seems to lack.
func printDifferences(w io.Writer, r *app.App, trial *rehearsal.Rehearsal, before, now *matrix.Results) {
	printed := map[string]bool{}
	tests := map[string][]string{} // by ID: crossings in which only the rehearsal is bad
	for _, one := range now.Results {
		if one.Run == nil {
			continue
		}
		plainRun := before.Result(one.Key())
		for _, result := range one.Run.Troubled() {
			if passedBefore(plainRun, result.ID) {
				tests[result.ID] = append(tests[result.ID], one.Label())
			}
		}
	}
	fmt.Fprintln(w, "\ndifferences to the last plain run:")
	if len(tests) == 0 {
		fmt.Fprintln(w, "    none")
	}
	for _, one := range now.Results {
		if one.Run == nil {
			continue
		}
		for _, result := range one.Run.Troubled() {
			if tests[result.ID] == nil || printed[result.ID] {
				continue
			}
			printed[result.ID] = true
			fmt.Fprintf(w, "    %s %s  only in the rehearsal, in %s\n", result.Outcome.Shape(), plain.Line(result.ID), strings.Join(tests[result.ID], ", "))
			for _, line := range trial.Suspects(result, r.Catalog.FileOf(result.ID)) {
				fmt.Fprintf(w, "        %s\n", line)
			}
		}
	}
	for _, name := range trial.Undeclared() {
		fmt.Fprintf(w, "    the program %s ran, and fern.toml does not declare it: a CI machine may not have it; add only-if = \"program:%s\" to the tests that need it\n", plain.Line(name), plain.Line(name))
	}
}

// passedBefore reports whether a test was not bad in a crossing's last plain run, as far as it is known.
func passedBefore(one *matrix.Result, id string) bool {
	if one == nil || one.Run == nil {
		return true
	}
	result := one.Run.Result(id)
	return result == nil || !result.Outcome.Bad()
}
