package fleet

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/internal/engine"
	"fernrelay/internal/format/events"
)

// forge writes a merged run with some results to the station, and that the run has ended, as anybody with the token can.
func forge(t *testing.T, c *Conn, id string, outcomes map[string]run.Outcome) {
	t.Helper()
	m, entry, err := c.getManifest(t.Context(), id)
	if err != nil || m == nil {
		t.Fatal(m, err)
	}
	m.State, m.Ended, m.Merged = Ended, time.Now().Add(-365*24*time.Hour), "nobody"
	forged := run.New()
	for id, o := range outcomes {
		forged.Apply(run.Event{Event: run.Finished, ID: id, Outcome: o, Seconds: run.Took(0)})
	}
	err = c.putFile(t.Context(), m.resultName(), func(w io.Writer) error {
		if _, err := w.Write(marshal(resultHead{Manifest: m})); err != nil {
			return err
		}
		lines := events.NewWriter(w)
		forged.Replay(lines.Write)
		return lines.Close()
	})
	if err != nil {
		t.Fatal(err)
	}
	if won, err := c.put(t.Context(), m, entry.Revision()); err != nil || !won {
		t.Fatal(won, err)
	}
}

// TestForgedResults holds that only outcomes count that a machine reported which joined the run and took the batch, whatever else
// somebody with the token writes.
func TestForgedResults(t *testing.T) {
	t.Parallel()
	url := startStation(t)
	conn := dial(t, url)
	tests := made(slices.Repeat([]float64{0}, 12))
	all := map[string]run.Outcome{}
	for i := range tests {
		all[tests[i].ID] = run.Passed
	}
	publish := func(m *Manifest, c chunk) {
		if _, err := conn.js.Publish(t.Context(), m.eventsOf(c.Batch), marshal(c)); err != nil {
			t.Fatal(err)
		}
	}
	passed := func(m *standIn) (all []run.Event) {
		for i := range m.schedule.Batches[0].Tests {
			all = append(all, run.Event{Event: run.Finished, ID: m.schedule.Batches[0].Tests[i].ID, Outcome: run.Passed, At: time.Now()})
		}
		return all
	}
	for name, attack := range map[string]func(m *standIn){
		"an end without tests":    func(m *standIn) { forge(t, conn, m.manifest.Run, nil) },
		"an end with all passed":  func(m *standIn) { forge(t, conn, m.manifest.Run, all) },
		"an end that leaves some": func(m *standIn) { forge(t, conn, m.manifest.Run, map[string]run.Outcome{tests[0].ID: run.Passed}) },
		"a machine that never joined": func(m *standIn) {
			publish(m.manifest, chunk{Machine: "ghost", Workers: 1, Batch: 1, Claim: "g"})
			publish(m.manifest, chunk{Machine: "ghost", Workers: 1, Batch: 1, Claim: "g", Seq: 1, Events: passed(m), Done: true})
		},
		"a machine that never took the batch": func(m *standIn) {
			publish(m.manifest, chunk{Machine: "moss", Workers: 1, Batch: 1, Claim: "g", Events: passed(m), Done: true})
		},
		"an entry of a machine that never joined": func(m *standIn) {
			e := run.Event{Event: run.Finished, ID: "s:g0#process", Outcome: run.Passed, At: time.Now()}
			publish(m.manifest, chunk{Machine: "ghost", Workers: 1, Claim: "g", Events: []run.Event{e}})
		},
	} {
		t.Run(name, func(t *testing.T) {
			id := strings.ReplaceAll(name, " ", "-")
			m := join(t, url, id, "moss", 1, workOf(tests))
			attack(m)
			ctx, cancel := context.WithTimeout(t.Context(), time.Second)
			defer cancel()
			result, err := conn.Collect(ctx, id)
			if err != nil {
				t.Fatal(err)
			}
			if got := result.Run.Counts; got[run.Lost] != len(tests) || result.Run.ExitStatus() != 3 {
				t.Errorf("Collect returned %v and status %d, want %d lost and 3", got, result.Run.ExitStatus(), len(tests))
			}
		})
	}
	m := join(t, url, "honest", "moss", 1, workOf(tests))
	m.run = func(*catalog.Test) run.Outcome { return run.Failed }
	m.workToTheEnd(t)
	forge(t, conn, "honest", all)
	result, err := conn.Collect(t.Context(), "honest")
	if err != nil || result.Run.Counts[run.Failed] != len(tests) || !strings.Contains(result.Run.Note, "which its events do not") {
		t.Errorf("a forged result in place of an honest one: %v, %q, %v", result.Run.Counts, result.Run.Note, err)
	}
}

// TestLostStation holds that a machine notices within a lease that the station lost what it held, or that the record of the run is
// damaged.
func TestLostStation(t *testing.T) {
	t.Parallel()
	for name, damage := range map[string]func(ctx context.Context, c *Conn, m *Manifest) error{
		"streams removed": func(ctx context.Context, c *Conn, _ *Manifest) error {
			return errors.Join(c.js.DeleteStream(ctx, batchStream), c.js.DeleteStream(ctx, eventStream))
		},
		"streams made anew": func(ctx context.Context, c *Conn, _ *Manifest) error {
			return errors.Join(c.js.DeleteStream(ctx, batchStream), c.js.DeleteStream(ctx, eventStream), c.furnish(ctx))
		},
		"no bucket": func(ctx context.Context, c *Conn, _ *Manifest) error { return c.js.DeleteKeyValue(ctx, runBucket) },
		"a damaged record": func(ctx context.Context, c *Conn, m *Manifest) error {
			_, err := c.runs.Put(ctx, runKey(m.Run), []byte(`{"format":"fern-run/1","run":`))
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			url := startStation(t)
			m := join(t, url, "lost", "moss", 1, workOf(made(slices.Repeat([]float64{0}, 4))))
			began := time.Now()
			if err := damage(t.Context(), dial(t, url), m.manifest); err != nil {
				t.Fatal(err)
			}
			ctx, cancel := context.WithTimeout(t.Context(), 10*m.Lease())
			defer cancel()
			err := error(nil)
			for err == nil { // it may have some batches yet
				var claim *engine.Claim
				if claim, err = m.Next(ctx, 1); err == nil {
					_ = m.Done(ctx, claim)
				}
			}
			if _, left := m.Leave(t.Context(), false); left == nil || !strings.Contains(left.Error(), "cannot be finished") {
				t.Errorf("Leave returned %v", left)
			}
			if err != io.EOF || time.Since(began) > 10*m.Lease() {
				t.Errorf("after %s: %v", time.Since(began), err)
			}
		})
	}
}
