package main

import (
	"fmt"
	"log/slog"
	"math"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/internal/fleet/station"
)

func newStation() *cobra.Command {
	c := station.Config{}
	var size string
	cmd := &cobra.Command{
		Use:   "station",
		Short: "Run the server at which the machines of a fleet meet",
		Long: "Station runs a NATS server with JetStream in this process, until Ctrl-C or SIGTERM.\n" +
			"Everything is in its folder: a station that was killed goes on where it was. Any other\n" +
			"NATS server with JetStream does as well; see docs/fleet.md.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if size != "" {
				if c.Size = parseSize(size); c.Size == 0 {
					return fmt.Errorf("--max-size is %q: a size is expected, as in 10GB", size)
				}
			}
			if c.Store == "" {
				dir, err := os.UserCacheDir()
				if err != nil {
					return fmt.Errorf("the station needs a folder, and this user has none for such files: give --store DIR: %w", err)
				}
				c.Store = filepath.Join(dir, "fern-relay", "station")
			}
			c.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
			return station.Serve(cmd.Context(), c, func(s station.Started) {
				fmt.Fprintf(stdout, "the station listens on %s and keeps its data in %s\non each machine, in the project:\n\n", s.URL, c.Store)
				fmt.Fprintf(stdout, "    export FERN_FLEET=%s FERN_FLEET_RUN=$BUILD_ID", s.URL)
				if s.Token {
					fmt.Fprint(stdout, " FERN_FLEET_TOKEN=…")
				}
				fmt.Fprint(stdout, "\n    fern-relay run\n\n")
				_ = stdout.Flush() // the end of the command reports what cannot be written
			})
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&c.Listen, "listen", "127.0.0.1:4222", "listen on this `HOST:PORT`")
	flags.StringVar(&c.Store, "store", "", "keep data in this `folder`; default one in the user's cache")
	flags.StringVar(&size, "max-size", "", "keep at most this `size`, as in 10GB; default 3/4 of free")
	flags.StringVar(&c.TokenFile, "token-file", "", "require the token in this `file`")
	flags.StringVar(&c.Cert, "tls-cert", "", "use TLS with the certificate in this `file`")
	flags.StringVar(&c.Key, "tls-key", "", "use the certificate's key in this `file`")
	flags.StringVar(&c.ClientCA, "tls-client-ca", "", "require client certificates signed by those in this `file`")
	return cmd
}

// parseSize reads a number of bytes, as in 10GB or 1.5 GiB. It returns 0 for what is none.
func parseSize(text string) int64 {
	var number float64
	var unit string
	if n, _ := fmt.Sscanf(strings.TrimSpace(text), "%g%s", &number, &unit); n == 0 {
		return 0
	}
	factor := 1.0
	for i, name := range []string{"k", "m", "g", "t"} {
		switch strings.TrimSuffix(strings.ToLower(unit), "b") {
		case name:
			factor = math.Pow(1000, float64(i+1))
		case name + "i":
			factor = math.Pow(1024, float64(i+1))
		}
	}
	if factor == 1 && !strings.EqualFold(unit, "b") && unit != "" {
		return 0
	}
	if bytes := number * factor; bytes >= 1 && bytes <= 1<<60 {
		return int64(bytes)
	}
	return 0
}
