package main

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"fernrelay/internal/app"
	"fernrelay/internal/demo"
	"fernrelay/internal/demo/storehost"
	"fernrelay/internal/demo/testhost"
	"fernrelay/internal/project"
	"fernrelay/internal/scaffold"
	"fernrelay/internal/tui"
)

func newDemo(s *settings) *cobra.Command {
	var plain, onFleet bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Open the application on the demo project",
		Args:  none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !plain {
				if err := needTerminal("fern-relay demo --plain does the whole job without one"); err != nil {
					return err
				}
			}
			dir, err := demo.LayOut()
			if err != nil {
				return err
			}
			if onFleet {
				return runDemoFleet(cmd.Context(), dir, plain)
			}
			if plain {
				return runDemo(cmd.Context(), s, dir, cmd.OutOrStdout())
			}
			return openApplication(cmd.Context(), dir)
		},
	}
	cmd.Flags().BoolVar(&onFleet, "fleet", false, "run it on a station and three machines here, and watch")
	cmd.Flags().BoolVar(&plain, "plain", false, "do the whole job once and print it, without a screen")
	return cmd
}

// newDemoHost serves the demo's tests; the demo's fern.toml names it.
func newDemoHost() *cobra.Command {
	return &cobra.Command{
		Use:    demo.HostCommand,
		Hidden: true,
		Args:   none,
		RunE:   func(*cobra.Command, []string) error { return testhost.Serve(os.Stdin, os.Stdout) },
	}
}

// newDemoStore serves as the stand-in for a database of the demo; the demo's fern.toml names it.
func newDemoStore() *cobra.Command {
	return &cobra.Command{
		Use:    demo.StoreCommand + " KIND ADDRESS",
		Hidden: true,
		Args:   cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return storehost.Serve(cmd.Context(), storehost.Kind(args[0]), args[1])
		},
	}
}

// openApplication shows the application on the project of a folder.
func openApplication(ctx context.Context, dir string) error {
	return onScreen(ctx, dir, "fern-relay run runs the tests without one, fern-relay list lists them, and fern-relay --help shows all commands",
		func(r *app.App) error { return tui.Run(ctx, r) })
}

// onScreen calls show with the project of a folder, if there is a terminal; instead says what does without one.
func onScreen(ctx context.Context, dir, instead string, show func(r *app.App) error) error {
	if err := needTerminal(instead); err != nil {
		return err
	}
	collectRarely() // also while the project opens, for an early first frame
	r, err := openPatiently(ctx, dir, app.Open)
	if nothing := (project.NothingError{}); errors.As(err, &nothing) {
		wrote, failed := beginProject(ctx, nothing.Dir)
		if failed != nil || !wrote {
			return failed
		}
		r, err = openPatiently(ctx, dir, app.Open)
	}
	if err != nil {
		return err
	}
	defer r.Close()
	return show(r)
}

// beginProject shows what a folder without tests could have, and reports whether its fern.toml was written.
func beginProject(ctx context.Context, dir string) (wrote bool, err error) {
	shape, err := scaffold.Look(dir)
	if err != nil {
		return false, err
	}
	return tui.Begin(ctx, dir, shape, func(s *scaffold.Shape) error { return writeShape(dir, s) })
}

// openOnFleet shows the application on the fleet run that the environment names.
func openOnFleet(ctx context.Context, dir, id string) error {
	return onScreen(ctx, dir, "fern-relay fleet status prints the state of the run, and fern-relay fleet collect its results", func(r *app.App) error {
		station, err := (&stationFlags{}).options()
		if err != nil {
			return err
		}
		return tui.FollowFleet(ctx, r, station, id)
	})
}

// needTerminal says what is missing for a screen, and what does the job without one.
func needTerminal(instead string) error {
	missing := ""
	switch {
	case os.Getenv("TERM") == "dumb":
		missing = "this terminal (TERM=dumb) cannot show it"
	case !term.IsTerminal(os.Stdout.Fd()):
		missing = "the standard output is not one"
	case !term.IsTerminal(os.Stdin.Fd()):
		missing = "the standard input is not one"
	default:
		return nil
	}
	return fmt.Errorf("the application needs a terminal, and %s: %s", missing, instead)
}
