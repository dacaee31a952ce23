package fleet

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/nats-io/nats.go/jetstream"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
	"fernrelay/core/schedule"
	"fernrelay/internal/wording"
)

// Manifest says what a fleet run is. It is the run's value in the station's bucket.
type Manifest struct {
	Format  string `json:"format"`
	Kind    string `json:"kind,omitempty"` // kindHunt for a hunt
	Run     string `json:"run"`
	Plan    string `json:"plan"`    // names the schedule of this attempt
	Attempt int    `json:"attempt"` // from 1
	Again   string `json:"again,omitempty"`
	Prior   string `json:"prior,omitempty"` // the plan of the attempt before
	State   string `json:"state"`
	By      string `json:"by"` // the machine that planned
	Project string `json:"project"`
	run.Meta
	Tests   int     `json:"tests"`
	Batches int     `json:"batches"`
	Lease   float64 `json:"lease_s"`

	Began  time.Time           `json:"began"`
	Ended  time.Time           `json:"ended,omitzero"`
	Counts map[run.Outcome]int `json:"counts,omitempty"` // of a run that has ended
	Merged string              `json:"merged,omitempty"` // the machine that merged
}

const manifestFormat = "fern-run/1"

// The states of a run.
const (
	Planning = "planning"
	Open     = "open"
	Ended    = "ended"
)

// IsHunt reports whether the run offers the trials of a hunt.
func (m *Manifest) IsHunt() bool { return m.Kind == kindHunt }

// Unit names what the machines of the run run: tests, or trials of a hunt.
func (m *Manifest) Unit() string {
	if m.IsHunt() {
		return "trial"
	}
	return "test"
}

// Source returns the source of the run.
func (m *Manifest) Source() run.Source {
	return m.Meta.Source
}

// lease returns how long a claim holds.
func (m *Manifest) lease() time.Duration { return time.Duration(m.Lease * float64(time.Second)) }

// The keys and subjects of a run.
func runKey(id string) string             { return "run." + token(id) }
func (m *Manifest) machineKeys() string   { return "machine." + m.Plan + "." }
func (m *Manifest) mergeKey() string      { return "merge." + m.Plan }
func (m *Manifest) scheduleName() string  { return "schedule/" + m.Plan }
func (m *Manifest) resultName() string    { return "result/" + m.Plan }
func (m *Manifest) queue(lane int) string { return fmt.Sprint("q-", m.Plan, "-", lane) }
func (m *Manifest) lanes(lane int) string { return fmt.Sprint(batchSubject, m.Plan, ".", lane, ".*") }
func (m *Manifest) batch(lane, number int) string {
	return fmt.Sprint(batchSubject, m.Plan, ".", lane, ".", number)
}
func (m *Manifest) eventsOf(batch int) string {
	return fmt.Sprint(eventSubject, m.Plan, ".", batch, ".e")
}
func (m *Manifest) doneOf(batch int) string {
	return fmt.Sprint(eventSubject, m.Plan, ".", batch, ".done")
}
func (m *Manifest) allOf(batch int) string { return fmt.Sprint(eventSubject, m.Plan, ".", batch, ".*") }
func (m *Manifest) allDone() string        { return eventSubject + m.Plan + ".*.done" }
func (m *Manifest) allEvents() string      { return eventSubject + m.Plan + ".>" }

// newName returns a name that nothing else has.
func newName() string { return strings.ToLower(rand.Text()[:12]) }

// planFile is a schedule as the station holds it. Times and constraints are those of the machine that planned.
type planFile struct {
	Tests     []planTest     `json:"tests"`
	Batches   []planBatch    `json:"batches"`
	Resources map[string]int `json:"resources,omitempty"`
	Shared    []string       `json:"shared,omitempty"` // resources that all machines share
	Bare      []string       `json:"bare,omitempty"`   // groups without tests that are built, too, as suite:group
}

type planTest struct {
	ID       string   `json:"id"`
	File     string   `json:"file,omitempty"`
	Line     int      `json:"line,omitempty"`
	Known    bool     `json:"known,omitempty"`
	Expected float64  `json:"expected_s"`
	Spread   float64  `json:"spread_s,omitempty"`
	Setup    float64  `json:"setup_s,omitempty"`
	Share    float64  `json:"share,omitempty"`
	Needs    []string `json:"needs,omitempty"`
	After    []string `json:"after,omitempty"`
	Holds    []string `json:"holds,omitempty"`
}

type planBatch struct {
	Suite string `json:"suite"`
	Tests []int  `json:"tests"` // by their places in the plan's
	Apart string `json:"apart,omitempty"`
}

// newPlanFile returns a schedule as the station holds it.
func newPlanFile(s *schedule.Schedule, shared, bare []string) *planFile {
	f := &planFile{Resources: s.Resources, Shared: shared, Bare: bare}
	for i := range s.Batches {
		b := planBatch{Suite: s.Batches[i].Suite, Apart: s.Batches[i].Apart}
		for j := range s.Batches[i].Tests {
			t := &s.Batches[i].Tests[j]
			b.Tests = append(b.Tests, len(f.Tests))
			f.Tests = append(f.Tests, planTest{ID: t.ID, File: t.File, Line: t.Line, Known: t.Known, Expected: t.Expected, Spread: t.Spread, Setup: t.Setup, Share: t.Share,
				Needs: t.Rules().Needs, After: t.Rules().After, Holds: t.Rules().Holds})
		}
		f.Batches = append(f.Batches, b)
	}
	return f
}

// schedule returns the schedule with the tests that find finds, which reports false for one that is not known here. Such a
// test has its ID only.
func (f *planFile) schedule(find func(id string) (catalog.Test, bool)) (*schedule.Schedule, error) {
	batches := make([]schedule.Batch, 0, len(f.Batches))
	for _, b := range f.Batches {
		batch := schedule.Batch{Suite: b.Suite, Apart: b.Apart}
		for _, at := range b.Tests {
			if at < 0 || at >= len(f.Tests) {
				return nil, errors.New("the station's schedule is damaged: a batch has a test that the schedule does not have")
			}
			planned := &f.Tests[at]
			t, ok := find(planned.ID)
			if !ok {
				t.ID, t.File, t.Line = planned.ID, planned.File, planned.Line
				t.Suite, t.Group, t.Name = catalog.Parts(planned.ID)
			}
			t.Known, t.Expected, t.Spread, t.Setup, t.Share = planned.Known, planned.Expected, planned.Spread, planned.Setup, planned.Share
			rules := t.Rules()
			rules.Needs, rules.After, rules.Holds = planned.Needs, planned.After, planned.Holds
			t.Ruled = &rules
			if t.Suite != b.Suite {
				return nil, fmt.Errorf("the station's schedule is damaged: %s is in a batch of the suite %s", t.ID, b.Suite)
			}
			batch.Tests = append(batch.Tests, t)
		}
		if len(batch.Tests) == 0 {
			return nil, errors.New("the station's schedule is damaged: a batch is empty")
		}
		batches = append(batches, batch)
	}
	return schedule.Of(batches, f.Resources), nil
}

// mostNamed bounds the tests that a difference names.
const mostNamed = 3

// difference says in words how the tests found here differ from those of the plan, "" if they do not.
func (f *planFile) difference(found []catalog.Test) string {
	planned := make(map[string]*planTest, len(f.Tests))
	for i := range f.Tests {
		planned[f.Tests[i].ID] = &f.Tests[i]
	}
	var more, moved []string
	for i := range found {
		t := &found[i]
		switch p := planned[t.ID]; {
		case p == nil:
			more = append(more, t.ID)
		case p.File != t.File || p.Line != t.Line:
			moved = append(moved, fmt.Sprintf("%s (%s:%d here, %s:%d there)", t.ID, t.File, t.Line, p.File, p.Line))
		}
		delete(planned, t.ID)
	}
	var fewer []string
	for i := range f.Tests {
		if planned[f.Tests[i].ID] != nil {
			fewer = append(fewer, f.Tests[i].ID)
		}
	}
	var words []string
	for _, d := range []struct {
		what string
		ids  []string
	}{{"that the run does not have", more}, {"of the run are missing here", fewer}, {"at another place", moved}} {
		if len(d.ids) > 0 {
			words = append(words, fmt.Sprintf("%d tests %s: %s", len(d.ids), d.what, wording.Some(d.ids, mostNamed)))
		}
	}
	return strings.Join(words, "; ")
}

// getManifest returns the manifest of a run and its revision in the bucket, nil if there is none.
func (c *Conn) getManifest(ctx context.Context, id string) (*Manifest, jetstream.KeyValueEntry, error) {
	entry, err := c.runs.Get(ctx, runKey(id))
	if errors.Is(err, jetstream.ErrKeyNotFound) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	m, err := readManifest(entry.Value())
	return m, entry, err
}

func readManifest(text []byte) (*Manifest, error) {
	m := &Manifest{}
	if err := json.Unmarshal(text, m); err != nil {
		return nil, fmt.Errorf("%w: %w", errDamaged, err)
	}
	if m.Format != manifestFormat {
		return nil, fmt.Errorf("the station's record of the run has the format %q, and this version of fern-relay reads %q", m.Format, manifestFormat)
	}
	if !(m.Lease > 0 && m.Lease <= mostLease.Seconds()) || m.Plan == "" || token(m.Plan) != m.Plan {
		return nil, errDamaged
	}
	return m, nil
}

// put writes a manifest if nobody has changed it since a revision, 0 for none. It reports whether it did.
func (c *Conn) put(ctx context.Context, m *Manifest, revision uint64) (bool, error) {
	text, err := json.Marshal(m)
	if err != nil {
		return false, err
	}
	if revision == 0 {
		_, err = c.runs.Create(ctx, runKey(m.Run), text)
	} else {
		_, err = c.runs.Update(ctx, runKey(m.Run), text, revision)
	}
	if errors.Is(err, jetstream.ErrKeyExists) || isConflict(err) {
		return false, nil
	}
	return err == nil, err
}

// isConflict reports whether a value was changed by somebody else.
func isConflict(err error) bool {
	var refused *jetstream.APIError
	return errors.As(err, &refused) && refused.ErrorCode == jetstream.JSErrCodeStreamWrongLastSequence
}

// filesLimit bounds what is read of a file of the station, in bytes.
const filesLimit = 1 << 30

// putFile writes a file of the station, compressed.
func (c *Conn) putFile(ctx context.Context, name string, write func(io.Writer) error) error {
	r, w := io.Pipe()
	go func() {
		compressed, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedFastest))
		if err == nil {
			err = write(compressed)
			err = errors.Join(err, compressed.Close())
		}
		w.CloseWithError(err)
	}()
	_, err := c.files.Put(ctx, jetstream.ObjectMeta{Name: name}, r)
	r.CloseWithError(err) // the writer ends, too
	return err
}

// getFile reads a file of the station.
func (c *Conn) getFile(ctx context.Context, name string, read func(io.Reader) error) error {
	object, err := c.files.Get(ctx, name)
	if err != nil {
		return err
	}
	defer object.Close()
	plain, err := zstd.NewReader(object, zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return err
	}
	defer plain.Close()
	return read(io.LimitReader(plain, filesLimit))
}

// putPlan writes the schedule of a run.
func (c *Conn) putPlan(ctx context.Context, m *Manifest, f *planFile) error {
	return c.putFile(ctx, m.scheduleName(), func(w io.Writer) error { return json.NewEncoder(w).Encode(f) })
}

// getPlan reads the schedule of a run.
func (c *Conn) getPlan(ctx context.Context, m *Manifest) (*planFile, error) {
	f := &planFile{}
	err := c.getFile(ctx, m.scheduleName(), func(r io.Reader) error { return json.NewDecoder(r).Decode(f) })
	if err != nil {
		return nil, fmt.Errorf("the schedule of the run %s cannot be read: %w", m.Run, err)
	}
	return f, nil
}

// marshal encodes what cannot fail to be encoded.
func marshal(v any) []byte {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(v); err != nil {
		panic(err) // of types of this package, whose numbers are finite
	}
	return text.Bytes()
}
