package main

import (
	"context"

	"github.com/spf13/cobra"
)

func newDemo() *cobra.Command                               { return &cobra.Command{Use: "demo"} }
func newDemoHost() *cobra.Command                           { return &cobra.Command{Use: "demo-host", Hidden: true} }
func openApplication(ctx context.Context, dir string) error { return nil }
