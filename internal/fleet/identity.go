package fleet

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// identity is when the streams of a station were made, which differs if the station has lost what it held.
type identity [3]time.Time

// ErrStationLost is the error of a station that no longer holds what it did, as one that came back without its disk.
var ErrStationLost = errors.New("the station has lost what it held, as if it came back without its disk: this run cannot be finished; start it again under another ID")

// errDamaged is in the error of a record of the station that cannot be read.
var errDamaged = errors.New("the station's record of the run is damaged")

// identify returns the identity of the station.
func (c *Conn) identify(ctx context.Context) (id identity, err error) {
	batches, err := c.batches.Info(ctx)
	if err != nil {
		return id, err
	}
	events, err := c.events.Info(ctx)
	if err != nil {
		return id, err
	}
	runs, err := c.js.Stream(ctx, "KV_"+runBucket)
	if err != nil {
		return id, err
	}
	return identity{batches.Created, events.Created, runs.CachedInfo().Created}, nil
}

// check returns ErrStationLost if the station is not the one that was dialed any more. It is no error if the station does not
// answer.
func (c *Conn) check(ctx context.Context) error {
	now, err := c.identify(ctx)
	if errors.Is(err, jetstream.ErrStreamNotFound) || err == nil && now != c.identity {
		return ErrStationLost
	}
	return nil
}

// checkRun is check for a run, too: its record must be what a machine knows of it.
func (c *Conn) checkRun(ctx context.Context, m *Manifest) error {
	if err := c.check(ctx); err != nil {
		return err
	}
	_, _, err := c.getManifest(ctx, m.Run)
	if errors.Is(err, errDamaged) {
		return fmt.Errorf("the run %s cannot be finished: %w", m.Run, err)
	}
	return nil
}

// hasJoined reports whether the station has the entry of a machine of a run.
func (c *Conn) hasJoined(ctx context.Context, m *Manifest) func(machine string) bool {
	known := map[string]bool{}
	return func(machine string) bool {
		if joined, asked := known[machine]; asked {
			return joined
		}
		_, err := c.runs.Get(ctx, m.machineKeys()+token(machine))
		if err == nil || errors.Is(err, jetstream.ErrKeyNotFound) {
			known[machine] = err == nil // it enters itself before it takes anything
		}
		return err == nil
	}
}
