package report

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"fernrelay/core/history"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/fleet"
	"fernrelay/internal/wording"
)

// FleetPart prints what one machine did in a fleet run, and how the whole run is. lost reports whether nobody can finish it.
func FleetPart(w io.Writer, part *run.Run, machine string, m *fleet.Manifest, lost bool) {
	fmt.Fprintf(w, "%s ran %s of %d: %s\n", plain.Line(machine), wording.Plural(part.Tests(), "test"), m.Tests, part.Summary())
	if lost {
		return
	}
	if m.State != fleet.Ended {
		fmt.Fprintf(w, "the fleet run %s goes on without it: what it did not finish is back in the queue\n", plain.Line(m.Run))
		return
	}
	fmt.Fprintf(w, "the fleet run %s took %s: %s; %s merged it\n", plain.Line(m.Run), history.ClockTenths(m.Ended.Sub(m.Began).Seconds()), Counts(m.Counts), plain.Line(m.Merged))
}

// FleetWhole prints the machines of a fleet run and its totals.
func FleetWhole(w io.Writer, r *fleet.Result) {
	machines(w, r.Machines, r.Manifest)
	attempt := ""
	if r.Manifest.Attempt > 1 {
		attempt = fmt.Sprintf(", attempt %d (%s)", r.Manifest.Attempt, r.Manifest.Again)
	}
	until := r.Run.Ended
	if until.IsZero() {
		until = r.Manifest.Ended
	}
	took := ""
	if !until.IsZero() {
		took = history.ClockTenths(max(0, until.Sub(r.Manifest.Began).Seconds())) + " on "
	}
	fmt.Fprintf(w, "fleet run %s%s: %d picked: %s; %s%s\n", plain.Line(r.Manifest.Run), attempt, r.Manifest.Tests, r.Run.Summary(), took, wording.Plural(len(r.Machines), "machine"))
}

// machines prints a line for each machine.
func machines(w io.Writer, all []fleet.MachineStatus, m *fleet.Manifest) {
	if len(all) == 0 {
		return
	}
	table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, s := range all {
		state := s.State
		if state != fleet.MachineRunning {
			state += " at " + history.Clock(s.Left.Sub(m.Began).Seconds())
		}
		fmt.Fprintf(table, "%s\t%s\tjoined at %s\t%s\t%s\tbusy %s\tidle %s\n", plain.Line(s.Name), wording.Plural(s.Workers, "worker"),
			history.Clock(max(0, s.Joined.Sub(m.Began).Seconds())), state, wording.Plural(s.Tests, m.Unit()), history.Short(s.Busy), history.Short(s.Idle))
	}
	_ = table.Flush() // what cannot be written is reported at the end
	for _, s := range all {
		if len(s.Unfit) > 0 {
			fmt.Fprintf(w, "%s cannot run %s\n", plain.Line(s.Name), plain.Line(strings.Join(s.Unfit, ", ")))
		}
	}
}

// Fleet prints the state of a fleet run.
func Fleet(w io.Writer, s *fleet.Status) {
	m := s.Manifest
	if m.IsHunt() {
		fmt.Fprintf(w, "hunt %s of %s, offered by %s: %s\n", plain.Line(s.Run), sourceOf(m), plain.Line(m.By), stateOf(s))
		machines(w, s.Machines, m)
		fmt.Fprintf(w, "trials: %d done, %d taken\n", s.Batches.Done, s.Batches.Taken)
		return
	}
	fmt.Fprintf(w, "fleet run %s of %s: %s, %s\n", plain.Line(s.Run), sourceOf(m), wording.Plural(m.Tests, "test"), stateOf(s))
	machines(w, s.Machines, m)
	fmt.Fprintf(w, "batches: %d done, %d taken, %d waiting; %s\n", s.Batches.Done, s.Batches.Taken, s.Batches.Waiting, Counts(s.Counts))
	if s.EndsIn != nil {
		fmt.Fprintf(w, "it ends in about %s\n", history.Clock(*s.EndsIn))
	}
}

// sourceOf names the project of a fleet run, and its revision if that is known.
func sourceOf(m *fleet.Manifest) string {
	if m.Revision == "" {
		return plain.Line(m.Project)
	}
	return plain.Line(m.Project) + " at " + plain.Line(m.Revision)
}

// stateOf says since when a fleet run is open, or when it ended.
func stateOf(s *fleet.Status) string {
	if m := s.Manifest; s.State == fleet.Ended && !m.Ended.IsZero() {
		return fmt.Sprintf("begun %s, ended %s", m.Began.Local().Format(time.DateTime), m.Ended.Local().Format(time.DateTime))
	}
	return fmt.Sprintf("%s since %s", s.State, s.Manifest.Began.Local().Format(time.DateTime))
}

// FleetRuns lists the runs of a station.
func FleetRuns(w io.Writer, runs []*fleet.Manifest) {
	if len(runs) == 0 {
		fmt.Fprintln(w, "the station has no runs")
		return
	}
	table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, m := range runs {
		outcome := "begun by " + plain.Line(m.By)
		if m.State == fleet.Ended && !m.IsHunt() {
			outcome = fmt.Sprintf("%s in %s", Counts(m.Counts), history.ClockTenths(m.Ended.Sub(m.Began).Seconds()))
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\n", plain.Line(m.Run), plain.Line(m.Project), m.Began.Local().Format(time.DateTime), m.State, sizeOf(m), outcome)
	}
	_ = table.Flush() // what cannot be written is reported at the end
}

// sizeOf says how much a run has to do.
func sizeOf(m *fleet.Manifest) string {
	if m.IsHunt() {
		return "a hunt"
	}
	return wording.Plural(m.Tests, "test")
}
