package main

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/plain"
	"fernrelay/internal/doctor"
	"fernrelay/internal/fleet"
)

func newDoctor(s *settings) *cobra.Command {
	var asJSON bool
	f := &stationFlags{}
	cmd := &cobra.Command{
		Use:   "doctor",
		Short: "Check what this machine and project need",
		Long: "Doctor checks what runs need: the toolchain, the programs of suites and services, limits,\n" +
			"disk space, the ledger, the station. Each line says how to mend what is missing. It exits\n" +
			"with 1 if something needed is missing or broken.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			found := doctor.Examine(cmd.Context(), s.dir)
			station, err := f.options()
			if err != nil {
				return err
			}
			if station.URL != "" {
				found = append(found, reach(cmd, station))
			}
			if asJSON {
				err = newEncoder(cmd.OutOrStdout()).Encode(map[string]any{"format": "fern-doctor/1", "findings": found})
			} else {
				printFindings(cmd.OutOrStdout(), found)
			}
			if err == nil && slices.ContainsFunc(found, func(f doctor.Finding) bool { return f.Bad() }) {
				return status(1)
			}
			return err
		},
	}
	f.add(cmd)
	addJSON(cmd, &asJSON, "a JSON object")
	return cmd
}

// reach checks whether the station answers.
func reach(cmd *cobra.Command, station fleet.Options) doctor.Finding {
	conn, err := fleet.Dial(cmd.Context(), station)
	if err != nil {
		return doctor.Finding{What: "station", State: doctor.Broken, Found: err.Error(), Do: "start it with fern-relay station, or mend FERN_FLEET"}
	}
	conn.Close()
	return doctor.Finding{What: "station", State: doctor.OK, Found: "it answers"}
}

func printFindings(w io.Writer, found []doctor.Finding) {
	widest := 0
	for _, f := range found {
		widest = max(widest, len([]rune(f.What)))
	}
	for _, f := range found {
		fmt.Fprintf(w, "%-7s  %s%s  %s\n", f.State, plain.Line(f.What), strings.Repeat(" ", widest-len([]rune(f.What))), plain.Line(f.Found))
		if f.Do != "" {
			fmt.Fprintf(w, "%s%s\n", strings.Repeat(" ", widest+11), plain.Line(f.Do))
		}
	}
}
