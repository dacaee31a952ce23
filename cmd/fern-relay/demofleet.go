package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/app"
	"fernrelay/internal/fleet"
	"fernrelay/internal/owned"
	"fernrelay/internal/project"
	"fernrelay/internal/tui"
)

// The demo's fleet: a station and three machines as processes on this computer.
const (
	demoRun        = "build-418"
	demoLease      = 4 * time.Second
	demoLate       = 6 * time.Second // of the second machine
	demoKilled     = 0.3             // of the tests are done when the third machine is killed
	demoPerMachine = "2"
)

// demoMachines are its machines. The second starts late, the third is killed.
var demoMachines = []string{"moss", "heath", "sedge"}

// demoFleet is the demo's fleet as it runs.
type demoFleet struct {
	dir       string
	store     *owned.Folder
	record    *owned.Record // of the store
	station   fleet.Options
	processes sync.WaitGroup
	sedge     *exec.Cmd
}

// runDemoFleet runs the demo on three machines and shows it in Watch, or prints it.
func runDemoFleet(ctx context.Context, dir string, plainly bool) error {
	ctx, cancel := context.WithCancel(ctx)
	f := &demoFleet{dir: dir}
	defer f.end(cancel)
	if err := f.start(ctx); err != nil {
		return err
	}
	r, err := openPatiently(ctx, dir, app.Open)
	if err != nil {
		return err
	}
	defer r.Close()
	go f.direct(ctx, r)
	if !plainly {
		return tui.FollowFleet(ctx, r, f.station, demoRun)
	}
	fmt.Fprintf(stdout, "A station and three machines of two workers each run on this computer. heath starts %s late, and sedge is killed in the middle.\n\n", demoLate)
	flags := &stationFlags{url: f.station.URL}
	if err := flags.watchFleet(ctx, r, demoRun); !errors.As(err, new(status)) {
		return err
	}
	return nil // failing tests are part of the demo
}

// end ends all processes and removes what the station holds.
func (f *demoFleet) end(cancel context.CancelFunc) {
	cancel()
	f.processes.Wait()
	if h, err := app.OpenHistory(context.Background(), f.dir); err == nil {
		_ = h.Close() // opening it has cleaned up after the machine that was killed
	}
	if f.store != nil {
		_ = errors.Join(f.store.Remove(), f.record.Close()) // else the next command does
	}
}

// start starts the station and the first machines.
func (f *demoFleet) start(ctx context.Context) (err error) {
	p, err := project.Open(f.dir)
	if err != nil {
		return err
	}
	f.record = owned.Begin(p.Records())
	if f.store, err = f.record.MakeFolder(os.TempDir()); err != nil {
		return err
	}
	station, err := f.command(ctx, "station", "--listen", "127.0.0.1:0", "--store", f.store.Path())
	if err != nil {
		return err
	}
	out, err := station.StdoutPipe()
	if err == nil {
		err = station.Start()
	}
	if err != nil {
		return fmt.Errorf("the station cannot start: %w", err)
	}
	lines := bufio.NewReader(out)
	line, err := lines.ReadString('\n')
	_, rest, found := strings.Cut(line, " on ")
	if err != nil || !found {
		return fmt.Errorf("the station cannot start: %q", line)
	}
	f.station.URL, _, _ = strings.Cut(rest, " ")
	f.processes.Go(func() {
		_, _ = io.Copy(io.Discard, lines)
		_ = station.Wait()
	})
	for _, name := range []string{demoMachines[0], demoMachines[2]} {
		if err := f.join(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// command returns a command of this program that does not outlive ctx.
func (f *demoFleet) command(ctx context.Context, args ...string) (*exec.Cmd, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, self, args...)
	cmd.Dir, cmd.Env = f.dir, append(os.Environ(), owned.Mark())
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = 5 * time.Second
	return cmd, nil
}

// join starts a machine.
func (f *demoFleet) join(ctx context.Context, name string) error {
	cmd, err := f.command(ctx, "run", "--machine", name, "--workers", demoPerMachine, "--lease", demoLease.String(), "-p", demoPick)
	if err != nil {
		return err
	}
	cmd.Env = append(cmd.Env, fleetVariable+"="+f.station.URL, fleetRunVariable+"="+demoRun)
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("the machine %s cannot start: %w", name, err)
	}
	if name == demoMachines[2] {
		f.sedge = cmd
	}
	f.processes.Go(func() { _ = cmd.Wait() }) // its tests fail, as is part of the demo
	return nil
}

// direct starts the late machine, and kills another in the middle of the run, while it runs a test.
func (f *demoFleet) direct(ctx context.Context, r *app.App) {
	conn, err := fleet.Dial(ctx, f.station)
	if err != nil {
		return // the one who watches reports it
	}
	defer conn.Close()
	time.AfterFunc(demoLate, func() { _ = f.join(ctx, demoMachines[1]) })
	tests, done := 0, 0
	// An error is also that of the one who watches, and reported there.
	_ = r.FollowFleet(ctx, conn, demoRun, fleet.Follower{
		Event: func(e run.Event) {
			if e.Event == run.Finished {
				done++
			}
			if e.Event == run.Started && e.Machine == demoMachines[2] && float64(done) > demoKilled*float64(tests) {
				_ = f.sedge.Process.Kill() // it may have ended
			}
		},
		Begins: func(m *fleet.Manifest, _ *schedule.Schedule) { tests = m.Tests },
	})
}
