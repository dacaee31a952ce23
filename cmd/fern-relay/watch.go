package main

import (
	"cmp"
	"errors"

	"github.com/spf13/cobra"

	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/report"
	"fernrelay/internal/tui"
)

func newWatch(s *settings) *cobra.Command {
	f := &stationFlags{}
	var id string
	cmd := &cobra.Command{
		Use:   "watch",
		Short: "Follow a running run of this project from a second terminal",
		Long: "Watch opens the application on a run that another process does in this project, and\n" +
			"waits for one if there is none. Without a terminal it prints each test of the run as it\n" +
			"ends.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer r.Close()
			id := cmp.Or(id, fleetEnvironment[fleetRunVariable])
			if id != "" && needTerminal("") == nil {
				station, err := f.options()
				if err != nil {
					return err
				}
				return tui.FollowFleet(cmd.Context(), r, station, id)
			}
			if id != "" {
				return f.watchFleet(cmd.Context(), r, id)
			}
			if needTerminal("") == nil {
				return tui.Follow(cmd.Context(), r)
			}
			journal, err := r.Running()
			if err != nil {
				return err
			}
			if journal == "" {
				return errors.New("nothing runs in this project: start a run with fern-relay run, or in the application")
			}
			ran, live := run.New(), report.NewLive(cmd.OutOrStdout(), report.ShowNames)
			var followed app.Followed
			err = r.Follow(cmd.Context(), journal, func(f app.Followed) { followed = f }, func(e run.Event) {
				ran.Apply(e)
				live.Event(e)
			})
			if err != nil {
				return err
			}
			report.Closing(cmd.OutOrStdout(), ran, followed.Tests, followed.Workers, 0, 0)
			return withStatus(ran.ExitStatus())
		},
	}
	f.add(cmd)
	addFleetRun(cmd, &id)
	return cmd
}
