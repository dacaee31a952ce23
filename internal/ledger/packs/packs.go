// Package packs packs the results of a run into two columns of bytes, as those of a large suite would be too many rows.
//
//	brief, rest, err := packs.Pack(results)
//	b, err := packs.UnpackBrief(brief) // what a history asks for of many runs at once
//	all, err := packs.Unpack(brief, rest)
//
// Both are columns, one after the other, of the results in the order in which they started:
//
//	brief: their number, the keys of their tests (each as the difference from the one before),
//	       their outcomes, their seconds as 32-bit floats, and if any is measured, how many times as long they
//	       took as alone and their shares of a processor
//	rest:  their workers, their batches, when they began (in milliseconds, each after the one
//	       before), and as JSON what few of them have
//
// Packs are untrusted when they are read: the file may be damaged. A damaged pack is an error, never a panic.
package packs

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"math"
	"slices"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"fernrelay/core/history"
	"fernrelay/core/run"
)

// Result is a result as it is in a pack.
type Result struct {
	Key     int64
	Cell    history.Cell // with the seconds that it takes alone
	wall    float32      // the seconds that it took
	slowed  float32      // wall divided by those; 0 if it was not measured
	share   float32
	Worker  int
	Batch   int
	Began   int64 // in milliseconds since 1970
	Details *details
}

// details are what few results have.
type details struct {
	At int `json:"at"` // the place of the result
	run.Failure
	Flaky bool        `json:"flaky,omitempty"`
	Steps []run.Step  `json:"steps,omitempty"`
	Entry run.Outcome `json:"entry,omitempty"` // the outcome of an entry, which is packed as lost, so that no history counts it
}

// What is kept at most of one text, in bytes, and of one test's steps.
const (
	textKept  = 16 << 10
	stepsKept = 200
)

// detailsOf returns the details of a result, nil if it has none.
func detailsOf(at int, r *run.Result) *details {
	if r.Failure == (run.Failure{}) && !r.Flaky && !r.Entry && len(r.Steps) == 0 {
		return nil
	}
	kept := r.Failure
	kept.Message, kept.Expected, kept.Actual = Bounded(kept.Message), Bounded(kept.Expected), Bounded(kept.Actual)
	d := &details{At: at, Failure: kept, Flaky: r.Flaky, Steps: boundedSteps(r.Steps)}
	if r.Entry {
		d.Entry = r.Outcome
	}
	return d
}

// boundedSteps are the steps of a test that are kept: of too many, the bad ones first.
func boundedSteps(steps []run.Step) []run.Step {
	if len(steps) <= stepsKept {
		return steps
	}
	kept := make([]run.Step, 0, stepsKept)
	room := stepsKept
	for _, s := range steps {
		if s.Outcome.Bad() {
			room--
		}
	}
	for _, s := range steps {
		if !s.Outcome.Bad() {
			if room <= 0 {
				continue
			}
			room--
		}
		if len(kept) < stepsKept {
			kept = append(kept, s)
		}
	}
	return kept
}

// Bounded is the beginning and the end of a text that is too long to keep.
func Bounded(text string) string {
	if len(text) <= textKept {
		return text
	}
	return text[:textKept/2] + "\n… left out here …\n" + text[len(text)-textKept/2:]
}

// Of prepares a result for a pack: at is its place among the results, from 0, and key the number of its test.
func Of(at int, key int64, r *run.Result) Result {
	o := r.Outcome
	if r.Entry || !slices.Contains(run.Outcomes, o) {
		o = run.Lost
	}
	p := Result{Key: key, wall: float32(r.Seconds), slowed: float32(r.Slowed), share: float32(r.Share),
		Worker: r.Worker, Batch: r.Batch, Began: r.Started.UnixMilli(), Details: detailsOf(at, r)}
	p.Cell = history.NewCell(o, float64(p.wall/max(1, p.slowed)))
	return p
}

// Pack packs the results of a run, one after the other, as those of a large run take much memory.
func Pack(results iter.Seq[Result]) (brief, rest []byte, err error) {
	var keys, codes, walls, slowed, shares, workers, batches, times []byte
	var before Result
	n, measured := 0, false
	details := newDetailsWriter()
	for r := range results {
		keys = binary.AppendVarint(keys, r.Key-before.Key)
		codes = append(codes, byte(slices.Index(run.Outcomes, r.Cell.Outcome())))
		walls = appendnumber(walls, r.wall)
		slowed, shares = appendnumber(slowed, r.slowed), appendnumber(shares, r.share)
		workers = binary.AppendUvarint(workers, uint64(r.Worker))
		batches = binary.AppendUvarint(batches, uint64(r.Batch))
		times = binary.AppendVarint(times, r.Began-before.Began)
		if err := details.write(r.Details); err != nil {
			return nil, nil, err
		}
		n++
		measured = measured || r.slowed > 0
		before = r
	}
	if !measured {
		slowed, shares = nil, nil
	}
	brief = slices.Concat(binary.AppendUvarint(nil, uint64(n)), keys, codes, walls, slowed, shares)
	return Compress(brief), append(Compress(slices.Concat(workers, batches, times)), details.close()...), nil
}

func appendnumber(column []byte, n float32) []byte {
	return binary.LittleEndian.AppendUint32(column, math.Float32bits(n))
}

// frameSize is about how many bytes of details are compressed at once. Decompressing takes any number of frames.
const frameSize = 1 << 20

// detailsWriter writes a JSON array of details as compressed frames.
type detailsWriter struct {
	frames  []byte
	text    bytes.Buffer // that is not compressed yet
	encoder *json.Encoder
	some    bool // of them are written
}

func newDetailsWriter() *detailsWriter {
	w := &detailsWriter{}
	w.text.WriteByte('[')
	w.encoder = json.NewEncoder(&w.text)
	return w
}

// write adds details, unless they are nil.
func (w *detailsWriter) write(d *details) error {
	if d == nil {
		return nil
	}
	if w.some {
		w.text.WriteByte(',')
	}
	w.some = true
	if w.text.Len() >= frameSize {
		w.frames = append(w.frames, Compress(w.text.Next(w.text.Len()))...)
	}
	return w.encoder.Encode(d)
}

// close returns all frames.
func (w *detailsWriter) close() []byte {
	w.text.WriteByte(']')
	return append(w.frames, Compress(w.text.Bytes())...)
}

// ErrDamaged is the error of a pack that cannot be read.
var ErrDamaged = errors.New("its stored data is damaged")

// reader reads numbers from a pack; after the first that is missing it returns 0.
type reader struct {
	left []byte
	err  error
}

func (r *reader) unsigned() uint64 {
	n, size := binary.Uvarint(r.left)
	return uint64(take(r, int64(n), size))
}

func (r *reader) signed() int64 {
	if len(r.left) > 0 && r.left[0] < 0x80 { // as nearly all are
		n := int64(r.left[0])
		r.left = r.left[1:]
		return n>>1 ^ -(n & 1)
	}
	n, size := binary.Varint(r.left)
	return take(r, n, size)
}

func take(r *reader, n int64, size int) int64 {
	if size <= 0 {
		r.err = ErrDamaged
		return 0
	}
	r.left = r.left[size:]
	return n
}

// Brief is what a history asks for of a run: columns of its results.
type Brief struct {
	Keys    []int64
	codes   []byte // the places of their outcomes in run.Outcomes
	seconds []byte // four bytes each, and so on
	slowed  []byte // empty if nothing was measured
	shares  []byte
}

// Cell returns the outcome of a result, and the time that it takes alone.
func (b *Brief) Cell(at int) history.Cell {
	return history.CellOf(int(b.codes[at]), number(b.seconds, at)/max(1, number(b.slowed, at)))
}

// Share returns how many processors a result keeps busy when it runs alone, 0 if that is not known.
func (b *Brief) Share(at int) float64 { return float64(number(b.shares, at)) }

// number returns a number of a column, 0 if it is empty.
func number(column []byte, at int) float32 {
	if len(column) == 0 {
		return 0
	}
	return math.Float32frombits(binary.LittleEndian.Uint32(column[4*at:]))
}

// UnpackBrief reads the brief part of a pack.
func UnpackBrief(data []byte) (*Brief, error) {
	data, err := Decompress(data)
	if err != nil {
		return nil, err
	}
	r := &reader{left: data}
	count := r.unsigned()
	if count > uint64(len(data)) {
		return nil, ErrDamaged
	}
	n := int(count)
	b := &Brief{Keys: make([]int64, n)}
	var key int64
	for i := range b.Keys {
		key += r.signed()
		b.Keys[i] = key
	}
	if r.err != nil || len(r.left) != 5*n && len(r.left) != 13*n {
		return nil, ErrDamaged
	}
	b.codes, b.seconds = r.left[:n], r.left[n:5*n]
	if len(r.left) == 13*n {
		b.slowed, b.shares = r.left[5*n:9*n], r.left[9*n:]
	}
	for i, code := range b.codes {
		if int(code) >= len(run.Outcomes) || b.Keys[i] < 0 {
			return nil, ErrDamaged
		}
	}
	return b, nil
}

// Unpack returns the results of a packed run.
func Unpack(first, rest []byte) ([]Result, error) {
	b, err := UnpackBrief(first)
	if err != nil {
		return nil, err
	}
	n := len(b.Keys)
	results := make([]Result, n)
	for i, key := range b.Keys {
		results[i].Key, results[i].Cell, results[i].wall = key, b.Cell(i), number(b.seconds, i)
		results[i].slowed, results[i].share = number(b.slowed, i), number(b.shares, i)
	}
	data, err := Decompress(rest)
	if err != nil {
		return nil, err
	}
	r := &reader{left: data}
	for i := range n {
		results[i].Worker = int(r.unsigned())
	}
	for i := range n {
		results[i].Batch = int(r.unsigned())
	}
	var began int64
	for i := range n {
		began += r.signed()
		results[i].Began = began
	}
	var all []*details
	if err := errors.Join(r.err, json.Unmarshal(run.NewWords(r.left), &all)); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	for _, d := range all {
		if d.At < 0 || d.At >= n {
			return nil, ErrDamaged
		}
		results[d.At].Details = d
	}
	return results, nil
}

// seconds returns the time of a result as it was written: a 32-bit float has seven digits.
func (p *Result) seconds() float64 {
	return math.Round(float64(p.wall)*1e6) / 1e6
}

// Result returns the result of the test with an ID.
func (p *Result) Result(id string, output []byte) run.Result {
	start, seconds := time.UnixMilli(p.Began), p.seconds()
	r := run.Result{ID: id, Outcome: p.Cell.Outcome(), Seconds: seconds, Worker: p.Worker, Batch: p.Batch, Started: start,
		Ended: start.Add(time.Duration(seconds * float64(time.Second))), Slowed: float64(p.slowed), Share: float64(p.share), Output: output}
	if d := p.Details; d != nil && d.Entry != "" {
		r.Entry, r.Outcome = true, d.Entry
	}
	if r.Outcome == run.Lost {
		r.Started = r.Ended
	}
	if d := p.Details; d != nil {
		r.Failure, r.Flaky, r.Steps = d.Failure, d.Flaky, d.Steps
	}
	return r
}

// The compressor and its counterpart are made once, as that costs much; both may be used by
// several goroutines.
var (
	compressor = sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(frameSize)) // a larger window would hold memory
		if err != nil {
			panic(err) // of options that are constant
		}
		return e
	})
	decompressor = sync.OnceValue(func() *zstd.Decoder {
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(1<<30))
		if err != nil {
			panic(err)
		}
		return d
	})
)

// Compress returns data compressed, as packs and outputs are kept.
func Compress(data []byte) []byte { return compressor().EncodeAll(data, nil) }

// Decompress returns what Compress compressed.
func Decompress(data []byte) ([]byte, error) {
	out, err := decompressor().DecodeAll(data, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return out, nil
}
