package app

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"fernrelay/core/matrix"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/process"
	"fernrelay/internal/wholefile"
)

// then runs the step after all crossings, if those that must pass have passed.
func (r *MatrixRun) then(ctx context.Context) {
	step := &r.results.Then
	if step.Command == "" {
		return
	}
	if step.Why = r.whyNotThen(); step.Why != "" {
		step.Outcome = run.Skipped
		return
	}
	err := r.runThen(ctx, step)
	if step.Outcome = run.Passed; err != nil {
		step.Outcome, step.Why = run.Failed, err.Error()
	}
}

// whyNotThen returns why the step after all crossings does not run, empty if it does.
func (r *MatrixRun) whyNotThen() string {
	var failed []string
	passed := map[string]bool{}
	for _, one := range r.results.Results {
		if one.Outcome == run.Passed {
			passed[one.Key()] = true
		} else if one.State == matrix.Ended && one.MayFail == "" {
			failed = append(failed, one.Label())
		}
	}
	if len(failed) > 0 {
		return fmt.Sprintf("%d that must pass did not: %s", len(failed), strings.Join(failed, ", "))
	}
	for i := range r.app.Project.Matrix.Crossings {
		c := &r.app.Project.Matrix.Crossings[i]
		if c.LeaveOut == "" && c.MayFail == "" && !passed[c.Key()] {
			return "not all crossings that must pass have run, such as " + c.Label()
		}
	}
	if r.request.Share != nil {
		return "only a shard of each crossing ran"
	}
	return ""
}

// runThen runs the step after all crossings with FERN_MATRIX, the name of a file with the results.
func (r *MatrixRun) runThen(ctx context.Context, step *matrix.Then) error {
	path := filepath.Join(r.app.Project.StorePath(), "matrix", "results.json")
	if err := wholefile.Write(path, r.results.Write); err != nil {
		return err
	}
	words, err := process.Words(step.Command)
	if err != nil {
		return fmt.Errorf("run = %w", err)
	}
	within := r.app.Project.Matrix.ThenWithin
	ctx, cancel := context.WithTimeoutCause(ctx, within, fmt.Errorf("it was still running after %s, its within, and was killed", within))
	defer cancel()
	said := &process.Tail{Limit: 64 << 10}
	cmd := process.Command(ctx, r.app.Project.Dir, process.Slot{Env: []string{"FERN_MATRIX=" + path}}, process.ProgramPath(r.app.Project.Dir, words[0]), words[1:]...)
	cmd.Stdout, cmd.Stderr = said, said
	err = cmd.Run()
	step.Output = plain.Text(said.String())
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return context.Cause(ctx)
	case err != nil:
		return errors.New(process.Ending(err))
	}
	return nil
}
