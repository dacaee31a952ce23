package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernrelay/core/catalog"
	"fernrelay/core/plain"
	"fernrelay/core/run"
	"fernrelay/internal/app"
	"fernrelay/internal/fleet"
	"fernrelay/internal/hunting"
	"fernrelay/internal/report"
)

// The environment variables that stand in for flags.
const (
	fleetVariable    = "FERN_FLEET"
	fleetRunVariable = "FERN_FLEET_RUN"
	tokenVariable    = "FERN_FLEET_TOKEN"
)

// fleetEnvironment is what these variables say. Tests do not see them: they must not know the token, and a fern-relay that a
// test starts must not join the run.
var fleetEnvironment = takeVariables(fleetVariable, fleetRunVariable, tokenVariable)

func takeVariables(names ...string) map[string]string {
	values := map[string]string{}
	for _, name := range names {
		values[name] = os.Getenv(name)
		_ = os.Unsetenv(name) // these names are well formed
	}
	return values
}

// stationFlags say where the station is.
type stationFlags struct{ url, credentials, ca, cert, key string }

func (f *stationFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.url, "fleet", "", "meet other machines at the station `URL`; default FERN_FLEET")
	flags.StringVar(&f.credentials, "fleet-creds", "", "authenticate with this NATS credentials `file`")
	flags.StringVar(&f.ca, "fleet-ca", "", "trust the authorities in this `file`")
	flags.StringVar(&f.cert, "fleet-cert", "", "show the client certificate in this `file`")
	flags.StringVar(&f.key, "fleet-key", "", "use the certificate's key in this `file`")
}

// options returns the options of a connection. Secrets come from the environment only, as others can read the arguments of a
// process.
func (f *stationFlags) options() (fleet.Options, error) {
	if fleet.Redact(f.url) != f.url {
		return fleet.Options{}, errors.New("--fleet has a secret, and others can read the arguments of a process: set FERN_FLEET to this URL instead")
	}
	return fleet.Options{URL: cmp.Or(f.url, fleetEnvironment[fleetVariable]), Token: fleetEnvironment[tokenVariable], Credentials: f.credentials, CA: f.ca, Cert: f.cert, Key: f.key,
		Report: func(what string) { fmt.Fprintln(stderr, "fern-relay:", plain.Line(what)) }}, nil
}

func (f *stationFlags) dial(ctx context.Context) (*fleet.Conn, error) {
	station, err := f.options()
	if err != nil {
		return nil, err
	}
	return fleet.Dial(ctx, station)
}

// at calls use with a connection to the station.
func (f *stationFlags) at(ctx context.Context, use func(conn *fleet.Conn) error) error {
	conn, err := f.dial(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return use(conn)
}

// fleetFlags say how to take part in a fleet run.
type fleetFlags struct {
	stationFlags
	id, machine, again string
	lease              time.Duration
}

func (f *fleetFlags) add(cmd *cobra.Command) {
	f.stationFlags.add(cmd)
	addFleetRun(cmd, &f.id)
	flags := cmd.Flags()
	flags.StringVar(&f.machine, "machine", "", "take part as the machine `NAME`; default the host's name")
	flags.DurationVar(&f.lease, "lease", fleet.DefaultLease, "requeue a batch that is not renewed for this `time`")
	flags.StringVar(&f.again, "again", "", "run an ended fleet run again: `WHAT` is failed or all")
}

func addFleetRun(cmd *cobra.Command, id *string) {
	cmd.Flags().StringVar(id, "fleet-run", "", "name the fleet run `ID`; default FERN_FLEET_RUN")
}

// run returns the ID of the fleet run to take part in, "" for none.
func (f *fleetFlags) run(cmd *cobra.Command) (id string, err error) {
	id = cmp.Or(f.id, fleetEnvironment[fleetRunVariable])
	for _, name := range []string{"fleet", "machine", "lease", "again"} {
		if id == "" && cmd.Flags().Changed(name) {
			return "", fmt.Errorf("--%s belongs to a fleet run: name it with --fleet-run ID, or set FERN_FLEET_RUN", name)
		}
	}
	if len(id) > 200 || strings.ContainsFunc(id, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return "", errors.New("the fleet run's ID is too long or has control characters: up to 200 printable characters are expected")
	}
	return id, nil
}

// takePart takes part in a fleet run, and sets the exit status by this machine's tests.
func (f *runFlags) takePart(cmd *cobra.Command, s *settings, r *app.App, id string) error {
	for _, name := range []string{"shard", "resume", "on-change", "repeat", "trial-levels", "stop-after", "hunt", "quarantine"} {
		if cmd.Flags().Changed(name) {
			return fmt.Errorf("--%s does not go with a fleet run: leave it out, or unset FERN_FLEET_RUN", name)
		}
	}
	ran, err := f.runFleet(cmd.Context(), s, r, id)
	if err != nil {
		return err
	}
	return cmp.Or(r.Missing(f.pick), withStatus(ran.ExitStatus()))
}

// runFleet takes part in a fleet run and prints what this machine did.
func (f *runFlags) runFleet(ctx context.Context, s *settings, r *app.App, id string) (*run.Run, error) {
	station, err := f.fleetFlags.options()
	if err != nil {
		return nil, err
	}
	q, err := f.request(r)
	if err != nil {
		return nil, err
	}
	q.Retries, q.Limit, q.Trial = f.retries, f.timeout, f.noRecord || q.Trial
	q.Together = catalog.Level(f.together)
	n := &runner{interrupts: s.interrupts, app: r, show: f.show, tookOver: f.tookOver, limit: f.runTimeout, out: stdout}
	request := app.FleetRequest{Options: station, Run: id, Machine: f.machine, Lease: f.lease, Again: f.again, Mixed: f.mixed,
		Joined: func(m *fleet.Member) {
			fmt.Fprintf(stderr, "fern-relay: %s takes part in the fleet run %s, which %s planned\n", plain.Line(m.Name()), plain.Line(id), plain.Line(m.Manifest().By))
		}}
	ran, err := n.print(ctx, q, f.reportFiles, func(ctx context.Context, q app.Request, sink run.Sink) (*run.Run, func(), error) {
		did, err := r.RunFleet(ctx, q, request, sink)
		if did == nil {
			return nil, nil, err
		}
		return did.Run, func() {
			report.FleetPart(stdout, did.Run, did.Machine, did.Manifest, errors.Is(err, fleet.ErrStationLost))
		}, err
	})
	if hunt := (fleet.HuntError{}); errors.As(err, &hunt) {
		fmt.Fprintf(stderr, "fern-relay: serving the hunt %s until its verdict\n", plain.Line(id))
		return run.New(), hunting.Of(r).ServeHunt(ctx, request, hunt.Manifest, q.Workers)
	}
	if over := (fleet.OverError{}); errors.As(err, &over) {
		fmt.Fprintln(stdout, plain.Line(over.Error()))
		return run.New(), nil
	}
	return ran, err
}
