package main

import (
	"context"
	"os"

	"github.com/spf13/cobra"

	"fernrelay/internal/demo"
	"fernrelay/internal/demo/testhost"
	"fernrelay/internal/tui"
)

func newDemo(s *settings) *cobra.Command {
	var plain bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Open the application on the demo project",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			dir, err := demo.LayOut()
			if err != nil {
				return err
			}
			if plain {
				return tellDemo(cmd.Context(), s, dir, cmd.OutOrStdout())
			}
			return openApplication(cmd.Context(), dir)
		},
	}
	cmd.Flags().BoolVar(&plain, "plain", false, "do the whole job once without a screen and tell it")
	return cmd
}

// newDemoHost serves the demo's tests; the demo's fern.toml names it.
func newDemoHost() *cobra.Command {
	return &cobra.Command{
		Use:    demo.HostCommand,
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE:   func(*cobra.Command, []string) error { return testhost.Serve(os.Stdin, os.Stdout) },
	}
}

// openApplication shows the application on the project of a folder.
func openApplication(ctx context.Context, dir string) error {
	r, err := openPatiently(ctx, dir)
	if err != nil {
		return err
	}
	defer r.Close()
	return tui.Run(ctx, r)
}
