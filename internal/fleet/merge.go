package fleet

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/history"
	"fernrelay/core/run"
	"fernrelay/internal/format/events"
)

// Result is a run that has ended.
type Result struct {
	Manifest *Manifest
	Machines []MachineStatus
	Doubles  []Double
	Run      *run.Run
}

// resultHead is the first line of a result at the station; event lines follow.
type resultHead struct {
	Manifest *Manifest       `json:"manifest"`
	Machines []MachineStatus `json:"machines"`
	Doubles  []Double        `json:"doubles,omitempty"`
	Note     string          `json:"note,omitempty"`
}

// Leave ends this machine's part in the run, after the engine has ended. If interrupted is false it waits until the run has
// ended, and merges it if no other machine does.
func (f *Member) Leave(ctx context.Context, interrupted bool) (m *Manifest, err error) {
	if f.extra != nil {
		storing, cancel := f.patient(ctx)
		err = f.extra.close(storing, false)
		cancel()
	}
	f.mu.Lock()
	f.self.Stored = true
	f.mu.Unlock()
	_ = f.show(ctx) // it is shown again
	m = f.manifest
	if lost := f.lostFor(); lost != nil {
		err, interrupted = lost, true
	}
	if !interrupted && ctx.Err() == nil {
		var endErr error
		m, endErr = f.conn.end(ctx, f.manifest, f.self.Name)
		err = errors.Join(err, endErr)
	}
	f.stop()
	f.beside.Wait()
	f.mu.Lock()
	f.self.State, f.self.Left = MachineLeft, f.now()
	f.mu.Unlock()
	leaving, cancel := context.WithTimeout(context.WithoutCancel(ctx), impatience)
	defer cancel()
	if showErr := f.show(leaving); showErr != nil && f.lostFor() == nil {
		f.conn.report("the station does not know that this machine leaves: " + showErr.Error())
	}
	return m, err
}

// end waits until a run has ended whose batches are all done, and merges it unless another machine does. If that fails, as on a
// full disk, it is tried again for the time of patience.
func (c *Conn) end(ctx context.Context, m *Manifest, name string) (*Manifest, error) {
	changes, err := c.runs.Watch(ctx, runKey(m.Run), jetstream.UpdatesOnly())
	if err != nil {
		return m, err
	}
	defer func() { _ = changes.Stop() }() // nothing is left to read
	updates := changes.Updates()
	for until := time.Now().Add(patience); ; {
		now, entry, err := c.getManifest(ctx, m.Run)
		switch {
		case ctx.Err() != nil:
			return m, ctx.Err()
		case err != nil && time.Now().After(until), errors.Is(err, errDamaged):
			return m, err
		case err != nil: // the station does not answer
			if lost := c.check(ctx); lost != nil {
				return m, lost
			}
		case now == nil || now.Plan != m.Plan:
			return m, errors.New("the run was removed from the station, or is run again")
		case now.State == Ended:
			return now, nil
		default:
			l, err := c.acquire(ctx, "the merge", m.mergeKey(), name, max(m.lease(), 5*time.Second))
			if err != nil || l == nil {
				break // another machine merges, or the station does not answer
			}
			merged, err := c.merge(ctx, now, entry.Revision(), name)
			_ = l.release(ctx) // else it ends by itself
			if merged != nil || errors.Is(err, errUnfinished) || err != nil && time.Now().After(until) {
				return cmp.Or(merged, m), err
			}
		}
		select {
		case <-ctx.Done():
		case _, more := <-updates:
			if !more {
				updates = nil // from now on it looks from time to time
			}
		case <-time.After(mergeLook):
		}
	}
}

// mergeLook is how often a machine looks whether another merges, which may have died. It is notified when the run has ended.
const mergeLook = time.Second

// errUnfinished says that a run cannot be merged yet.
var errUnfinished = errors.New("batches of the run are not done")

// merge writes the merged run to the station and ends the run. It returns nil if somebody else has.
func (c *Conn) merge(ctx context.Context, m *Manifest, revision uint64, name string) (*Manifest, error) {
	if err := c.awaitStored(ctx, m); err != nil {
		return nil, err
	}
	result, fold, err := c.fold(ctx, m, Follower{})
	if err != nil {
		return nil, err
	}
	if missing := fold.missing(); len(missing) > 0 {
		return nil, fmt.Errorf("%w: %d of %d", errUnfinished, len(missing), m.Batches)
	}
	fold.lose(result.Run, "its batch is done, and nobody reported an outcome of it", m.Began)
	return c.writeResult(ctx, result, revision, name)
}

// awaitStored waits until the machines that live have stored everything, as what their processes say when they end. It waits for
// the time of a lease at most.
func (c *Conn) awaitStored(ctx context.Context, m *Manifest) error {
	for until := time.Now().Add(m.lease()); time.Now().Before(until) && ctx.Err() == nil; {
		machines, err := c.members(ctx, m)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(machines, func(s MachineStatus) bool { return s.State == MachineRunning && !s.stored }) {
			return nil
		}
		sleep(ctx, lookEvery)
	}
	return ctx.Err()
}

// fold folds what the station has of a run.
func (c *Conn) fold(ctx context.Context, m *Manifest, to Follower) (*Result, *fold, error) {
	result := &Result{Manifest: m, Run: run.New()}
	events := to.Event
	to.Event = func(e run.Event) {
		result.Run.Apply(e)
		if events != nil {
			events(e)
		}
	}
	fold, err := c.newFold(ctx, m, to)
	if err != nil {
		return nil, nil, err
	}
	if err := c.present(ctx, m, fold); err != nil {
		return nil, nil, err
	}
	if result.Machines, err = c.members(ctx, m); err != nil {
		return nil, nil, err
	}
	if to.Machines != nil {
		to.Machines(result.Machines)
	}
	fold.noteDoubles(result.Run)
	for _, machine := range result.Machines {
		if machine.source.Differs(m.Source()) && result.Run.Mixed == "" {
			result.Run.Mixed = run.MixedWords(machine.Name, machine.source, "the run", m.Source())
		}
	}
	result.Doubles = fold.doubles
	return result, fold, nil
}

// writeResult writes a merged run, what it teaches about times, and that the run has ended.
func (c *Conn) writeResult(ctx context.Context, r *Result, revision uint64, name string) (*Manifest, error) {
	now, err := c.now(ctx)
	if err != nil {
		return nil, err
	}
	ended := *r.Manifest
	ended.State, ended.Ended, ended.Merged, ended.Counts = Ended, now, name, r.Run.Counts
	for _, res := range r.Run.Results {
		if res.Ended.After(r.Run.Ended) {
			r.Run.Ended = res.Ended
		}
	}
	head := resultHead{Manifest: &ended, Machines: r.Machines, Doubles: r.Doubles, Note: r.Run.Note}
	err = c.putFile(ctx, ended.resultName(), func(w io.Writer) error {
		if _, err := w.Write(marshal(head)); err != nil {
			return err
		}
		lines := events.NewWriter(w)
		r.Run.Replay(lines.Write)
		return lines.Close()
	})
	if err != nil {
		return nil, fmt.Errorf("the merged run cannot be stored: %w", err)
	}
	won, err := c.put(ctx, &ended, revision)
	if err != nil || !won {
		return nil, err
	}
	if err := c.learn(ctx, r); err != nil {
		c.report("the station does not learn from this run: " + err.Error())
	}
	_ = c.removeQueues(ctx, &ended) // else they end by themselves
	return &ended, nil
}

// result reads a run that has ended.
func (c *Conn) result(ctx context.Context, m *Manifest) (*Result, error) {
	result := &Result{Run: run.New()}
	err := c.getFile(ctx, m.resultName(), func(r io.Reader) error {
		lines := bufio.NewReaderSize(r, 1<<20)
		first, err := lines.ReadBytes('\n')
		if err != nil {
			return err
		}
		var head resultHead
		if err := json.Unmarshal(first, &head); err != nil {
			return err
		}
		result.Manifest, result.Machines, result.Doubles = head.Manifest, head.Machines, head.Doubles
		limited := run.LimitSteps(result.Run.Apply)
		if err := events.Read(lines, func(e run.Event) { limited(e.Sound()) }); err != nil {
			return err
		}
		result.Run.Note = head.Note
		return nil
	})
	if err == nil && result.Manifest == nil {
		err = errors.New("it does not say which run it is")
	}
	if err != nil {
		return nil, fmt.Errorf("the merged run %s cannot be read: %w", m.Run, err)
	}
	if machines, err := c.members(ctx, result.Manifest); err == nil && len(machines) > 0 {
		result.Machines = machines // they have left since
	}
	return result, nil
}

// Collect waits until a run has ended and returns it. If no machine is left to merge it, Collect does. When ctx ends before, it
// returns what there is, with the tests without an outcome as lost.
func (c *Conn) Collect(ctx context.Context, id string) (*Result, error) {
	m, err := c.awaitOpen(ctx, id)
	if err != nil {
		return nil, err
	}
	for {
		now, entry, err := c.getManifest(ctx, id)
		switch {
		case ctx.Err() != nil:
			return c.partial(m)
		case errors.Is(err, errDamaged):
			return nil, err
		case err != nil:
			if err := c.check(ctx); err != nil {
				return nil, err
			}
		case now == nil:
			return nil, UnknownError{Run: id}
		case now.IsHunt():
			return nil, HuntError{now}
		case now.State == Ended:
			return c.checked(ctx, now, entry.Created())
		case c.drained(ctx, now):
			m = now
			l, err := c.acquire(ctx, "the merge", now.mergeKey(), "collect", max(now.lease(), 5*time.Second))
			if err == nil && l != nil {
				_, mergeErr := c.merge(ctx, now, entry.Revision(), "collect")
				_ = l.release(ctx) // else it ends by itself
				if mergeErr != nil && !errors.Is(mergeErr, errUnfinished) && ctx.Err() == nil {
					return nil, mergeErr
				}
			}
		}
		sleep(ctx, glance)
	}
}

// checked returns a run that ended at a time. It does not trust the merged run, which anybody with the token can write: as long as
// the station keeps events, the outcomes are those of the events, and every planned test has one.
func (c *Conn) checked(ctx context.Context, m *Manifest, ended time.Time) (*Result, error) {
	written, err := c.result(ctx, m)
	if err != nil {
		return nil, err
	}
	result, fold, err := c.fold(ctx, m, Follower{})
	if err != nil {
		return nil, err
	}
	now, err := c.now(ctx)
	if err != nil {
		return nil, err
	}
	if len(fold.came) == 0 && now.Sub(ended) > keepEvents { // the station has removed them
		for _, res := range written.Run.Results {
			fold.came[res.ID] = cameFrom{outcome: res.Outcome}
		}
		fold.lose(written.Run, "the merged run has no outcome of it", m.Began)
		return written, nil
	}
	fold.lose(result.Run, "the station has no event of a machine that took its batch and reported an outcome", m.Began)
	for _, res := range written.Run.Results {
		if own := result.Run.Result(res.ID); own == nil || own.Outcome != res.Outcome {
			result.Run.AddNote(fmt.Sprintf("the station's merged run says that %s is %s, which its events do not: the events count", res.ID, res.Outcome))
			break
		}
	}
	result.Manifest, result.Run.Ended = written.Manifest, written.Run.Ended
	return result, nil
}

// drained reports whether all batches that were queued are done.
func (c *Conn) drained(ctx context.Context, m *Manifest) bool {
	info, err := c.batches.Info(ctx, jetstream.WithSubjectFilter(batchSubject+m.Plan+".>"))
	return err == nil && len(info.State.Subjects) == 0
}

// partial returns what there is of a run that has not ended.
func (c *Conn) partial(m *Manifest) (*Result, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	result, fold, err := c.fold(ctx, m, Follower{})
	if err != nil {
		return nil, err
	}
	fold.lose(result.Run, "it has no outcome yet: its batch is not done", m.Began)
	return result, nil
}

// knowledge is what the station has learned about a project's tests.
type knowledge struct {
	Workers int                  `json:"workers"` // that took part in the latest run
	Tests   map[string][]measure `json:"tests"`   // the latest first
}

type measure struct {
	Seconds float64 `json:"s"` // alone
	Share   float64 `json:"p,omitempty"`
}

// measures is how many measurements of a test the station remembers.
const measures = 8

func knowledgeName(project string) string { return "times/" + token(project) }

// learned returns what the station knows about a project, nothing for a new one.
func (c *Conn) learned(ctx context.Context, project string) (*knowledge, error) {
	k := &knowledge{Tests: map[string][]measure{}}
	err := c.getFile(ctx, knowledgeName(project), func(r io.Reader) error { return json.NewDecoder(r).Decode(k) })
	if errors.Is(err, jetstream.ErrObjectNotFound) {
		return k, nil
	}
	if err != nil && ctx.Err() == nil {
		c.report("the station's times cannot be read, and this run begins without them: " + err.Error())
		return &knowledge{Tests: map[string][]measure{}}, nil
	}
	return k, err
}

// workers returns about how many workers to plan for.
func (k *knowledge) workers(own int) int {
	const machines = 3 // are usual, if nothing is known
	if k.Workers > 0 && k.Workers <= mostWorkers {
		return max(own, k.Workers)
	}
	return machines * own
}

// times returns the times as a plan needs them, nil if there are none.
func (k *knowledge) times() *history.Times {
	if len(k.Tests) == 0 {
		return nil
	}
	times := history.ByID{}
	for id, past := range k.Tests {
		var seconds []float64
		for _, m := range past {
			if m.Seconds >= 0 && m.Seconds < 1e8 {
				seconds = append(seconds, m.Seconds)
			}
		}
		if len(seconds) == 0 {
			continue
		}
		t := history.Learn(seconds)
		t.Share = past[0].Share
		times[id] = t
	}
	return &history.Times{Tests: times}
}

// learn adds the times of a run to what the station knows.
func (c *Conn) learn(ctx context.Context, r *Result) error {
	if r.Manifest.Trial {
		return nil
	}
	k, err := c.learned(ctx, r.Manifest.Project)
	if err != nil {
		return err
	}
	k.Workers = 0
	for _, m := range r.Machines {
		if m.Tests > 0 {
			k.Workers += m.Workers
		}
	}
	for _, res := range r.Run.Results {
		if res.Outcome != run.Passed && !res.Outcome.Bad() || res.Outcome == run.Errored {
			continue
		}
		past := append([]measure{{res.Alone(), res.Share}}, k.Tests[res.ID]...)
		k.Tests[res.ID] = past[:min(len(past), measures)]
	}
	return c.putFile(ctx, knowledgeName(r.Manifest.Project), func(w io.Writer) error { return json.NewEncoder(w).Encode(k) })
}
