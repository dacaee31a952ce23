package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/fleet"
	"fernrelay/internal/progress"
	"fernrelay/internal/report"
	"fernrelay/internal/report/runreport"
)

func newFleet(s *settings) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "fleet",
		Short: "Show and collect runs of many machines",
		Long: "The commands of fleet look at runs of many machines, from any machine that reaches the\n" +
			"station. fern-relay run --fleet URL --fleet-run ID takes part in a run or begins it.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newFleetStatus(), newFleetCollect(s), newFleetList(), newFleetForget())
	return cmd
}

// oneRun is the argument of commands about one fleet run.
func oneRun(_ *cobra.Command, args []string) error {
	if len(args) == 1 || len(args) == 0 && fleetEnvironment[fleetRunVariable] != "" {
		return nil
	}
	return errors.New("one fleet run is expected: give its ID, or set FERN_FLEET_RUN")
}

func fleetRun(args []string) string {
	if len(args) == 1 {
		return args[0]
	}
	return fleetEnvironment[fleetRunVariable]
}

func newFleetStatus() *cobra.Command {
	f := &stationFlags{}
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "status ID",
		Short: "Print the machines, batches and forecast of a fleet run",
		Args:  oneRun,
		RunE: func(cmd *cobra.Command, args []string) error {
			return f.at(cmd.Context(), func(conn *fleet.Conn) error {
				status, err := progress.FleetStatus(cmd.Context(), conn, fleetRun(args))
				if err != nil {
					return err
				}
				if asJSON {
					return json.NewEncoder(dataOutput()).Encode(status)
				}
				report.Fleet(cmd.OutOrStdout(), status)
				return nil
			})
		},
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func newFleetList() *cobra.Command {
	f := &stationFlags{}
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List the fleet runs of a station",
		Args:  none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return f.at(cmd.Context(), func(conn *fleet.Conn) error {
				runs, err := conn.Runs(cmd.Context())
				if err != nil {
					return err
				}
				report.FleetRuns(cmd.OutOrStdout(), runs)
				return nil
			})
		},
	}
	f.add(cmd)
	return cmd
}

func newFleetForget() *cobra.Command {
	f := &stationFlags{}
	cmd := &cobra.Command{
		Use:   "forget ID",
		Short: "Remove a fleet run from the station",
		Args:  oneRun,
		RunE: func(cmd *cobra.Command, args []string) error {
			return f.at(cmd.Context(), func(conn *fleet.Conn) error {
				if err := conn.Forget(cmd.Context(), fleetRun(args)); err != nil {
					return err
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%s is removed from the station\n", plain.Line(fleetRun(args)))
				return nil
			})
		},
	}
	f.add(cmd)
	return cmd
}

func newFleetCollect(s *settings) *cobra.Command {
	f, files := &stationFlags{}, &reportFiles{}
	var file string
	var timeout time.Duration
	cmd := &cobra.Command{
		Use:   "collect ID",
		Short: "Wait for the end of a fleet run and write its reports",
		Long: "Collect waits until all batches of a fleet run are done, and writes one report of all\n" +
			"machines. It merges the run if no machine is left to do so. It exits as a run of all\n" +
			"the tests on one machine would: with 3 if a test is lost, or if the time is up.",
		Args: oneRun,
		RunE: func(cmd *cobra.Command, args []string) error {
			if file != "" {
				if err := runreport.Check(file); err != nil {
					return err
				}
			}
			reports, err := files.create(s.dir)
			if err != nil {
				return err
			}
			ctx := cmd.Context()
			if timeout > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, timeout)
				defer cancel()
			}
			conn, err := f.dial(cmd.Context())
			if err != nil {
				return err
			}
			defer conn.Close()
			result, err := conn.Collect(ctx, fleetRun(args))
			if err != nil {
				return err
			}
			if err := reports.replay(result.Run); err != nil {
				return unkept{err}
			}
			report.Failures(cmd.OutOrStdout(), result.Run)
			report.Notes(cmd.OutOrStdout(), result.Run)
			report.FleetWhole(cmd.OutOrStdout(), result)
			if file != "" {
				if err := s.writeFleet(cmd.Context(), file, result); err != nil {
					return err
				}
			}
			return withStatus(result.Run.ExitStatus())
		},
	}
	f.add(cmd)
	files.add(cmd)
	cmd.Flags().StringVarP(&file, "output", "o", "", "write a report to this .html, .md, .pdf or .xml `file`")
	cmd.Flags().DurationVar(&timeout, "timeout", 0, "wait at most this `time`; 0 for no limit")
	return cmd
}

// writeFleet writes the report of a fleet run.
func (s *settings) writeFleet(ctx context.Context, file string, result *fleet.Result) error {
	r, err := app.OpenHistory(ctx, s.dir)
	if err != nil { // runs may be collected without a project
		r = app.NoHistory(s.dir)
	}
	defer r.Close()
	about, err := runreport.Of(s.aboutProject(ctx, r), r.Ledger(), app.FleetRecord(result), result.Run)
	if err != nil {
		return err
	}
	return runreport.WriteFile(file, about)
}

func newPull(s *settings) *cobra.Command {
	f := &stationFlags{}
	cmd := &cobra.Command{
		Use:   "pull",
		Short: "Bring ended fleet runs into this ledger",
		Long: "Pull keeps the fleet runs of this project that have ended and that the ledger lacks, with\n" +
			"where and in which order each test ran, so that what failed there can be hunted here.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := s.openLedger(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			conn, err := f.dial(cmd.Context())
			if err != nil {
				return err
			}
			defer conn.Close()
			pulled, err := r.PullFleet(cmd.Context(), conn)
			for _, p := range pulled {
				fmt.Fprintf(cmd.OutOrStdout(), "%s is kept as run %d: %s\n", plain.Line(p.Result.Manifest.Run), p.Number, p.Result.Run.Summary())
			}
			if err == nil && len(pulled) == 0 {
				fmt.Fprintln(cmd.OutOrStdout(), "the ledger has all fleet runs of this project that have ended")
			}
			return err
		},
	}
	f.add(cmd)
	return cmd
}

// watchFleet prints each test of a fleet run as it ends.
func (f *stationFlags) watchFleet(ctx context.Context, r *app.App, id string) error {
	conn, err := f.dial(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	live, ran := report.NewLive(stdout, report.ShowNames), run.New()
	var status fleet.Status
	err = r.FollowFleet(ctx, conn, id, fleet.Follower{
		Event:    func(e run.Event) { ran.Apply(e); live.Event(e) },
		Machines: func(machines []fleet.MachineStatus) { status.Machines = machines },
		Ends:     func(m *fleet.Manifest) { status.Manifest = m },
	})
	if err != nil {
		return err
	}
	report.FleetWhole(stdout, &fleet.Result{Manifest: status.Manifest, Machines: status.Machines, Run: ran})
	return withStatus(ran.ExitStatus())
}
