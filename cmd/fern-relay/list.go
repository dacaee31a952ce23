package main

import (
	"bufio"
	"encoding/json"
	"io"

	"github.com/spf13/cobra"

	"fernrelay/internal/relay"
	"fernrelay/internal/report"
)

func newList(s *settings) *cobra.Command {
	var expression string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List what is found, or picked",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := relay.Open(cmd.Context(), s.dir)
			if err != nil {
				return err
			}
			defer r.Close()
			tests, err := r.Pick(expression)
			if err != nil {
				return err
			}
			out := bufio.NewWriter(cmd.OutOrStdout())
			if !asJSON {
				report.Tests(out, tests)
				return out.Flush()
			}
			encoder := newEncoder(out)
			for _, t := range tests {
				if err := encoder.Encode(t); err != nil {
					return err
				}
			}
			return out.Flush()
		},
	}
	addPick(cmd, &expression)
	addJSON(cmd, &asJSON, "a JSON object a line")
	return cmd
}

// newEncoder writes JSON, with <, > and & as they are.
func newEncoder(w io.Writer) *json.Encoder {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	return encoder
}

func addPick(cmd *cobra.Command, expression *string) {
	cmd.Flags().StringVarP(expression, "pick", "p", "", "the tests that this `expression` holds; all without it")
}

func addJSON(cmd *cobra.Command, asJSON *bool, what string) {
	cmd.Flags().BoolVar(asJSON, "json", false, "print "+what)
}
