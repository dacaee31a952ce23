package matrix

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"fernrelay/core/run"
)

// Format names the JSON in which results are written.
const Format = "fern-matrix/1"

// File is the JSON of results.
type File struct {
	Format      string          `json:"format"`
	Mixed       string          `json:"mixed,omitempty"`  // in words, that the results are of different sources
	Source      *run.Source     `json:"source,omitempty"` // nil if it is not known or mixed
	Crossings   []FileCrossing  `json:"crossings"`
	Explained   []FileExplained `json:"explained"`
	Flaky       []string        `json:"flaky"`
	Unexplained []string        `json:"unexplained"`
	Then        *FileThen       `json:"then,omitempty"`
}

// FileCrossing is the JSON of a crossing.
type FileCrossing struct {
	Of       Assignment               `json:"of"`
	Outcome  run.Outcome              `json:"outcome"`
	Why      string                   `json:"why,omitempty"`
	Counts   map[run.Outcome]int      `json:"counts"`
	Seconds  float64                  `json:"seconds"`
	Services []run.Service            `json:"services"`
	MayFail  string                   `json:"may-fail,omitempty"`
	LeaveOut string                   `json:"leave-out,omitempty"`
	Run      int                      `json:"run,omitempty"`     // in the ledger
	Planned  *run.Planned             `json:"planned,omitempty"` // the shard that ran, of a plan of the crossing
	IDs      map[run.Outcome][]string `json:"ids,omitempty"`     // of its tests, by outcome
	Failures []FileFailure            `json:"failures,omitempty"`
}

// FileFailure is the JSON of what a test that failed said.
type FileFailure struct {
	ID string `json:"id"`
	run.Failure
	Output string `json:"output,omitempty"` // its end
	Entry  bool   `json:"entry,omitempty"`  // it is no test: see run.Event
}

// outputWritten bounds the output of a failure in a file, in bytes.
const outputWritten = 4 << 10

// FileExplained is the JSON of an explanation.
type FileExplained struct {
	Where  Assignment  `json:"where"`
	Except bool        `json:"except,omitempty"` // they fail in all crossings but these
	Tests  []string    `json:"tests"`
	Text   string      `json:"text"`
	Same   []string    `json:"same,omitempty"` // names that make no difference
	Rivals []FileRival `json:"rivals,omitempty"`
}

// FileRival is the JSON of another explanation.
type FileRival struct {
	Where  Assignment `json:"where"`
	Except bool       `json:"except,omitempty"`
	Decide Assignment `json:"decide,omitempty"` // a crossing that would decide
}

// FileThen is the JSON of the step after all crossings.
type FileThen struct {
	Run     string      `json:"run"`
	Outcome run.Outcome `json:"outcome"`
	Why     string      `json:"why,omitempty"`
}

// File returns the results as they are written.
func (r *Results) File() *File {
	x := r.Explain()
	f := &File{Format: Format, Mixed: r.Mixed, Source: r.Source, Crossings: []FileCrossing{}, Explained: []FileExplained{}, Flaky: append([]string{}, x.Flaky...), Unexplained: append([]string{}, x.Unexplained...)}
	for _, one := range r.Results {
		f.Crossings = append(f.Crossings, one.file())
	}
	for _, e := range x.Explanations {
		line := FileExplained{Where: e.Where, Except: e.Except, Tests: e.Tests, Text: e.Text(&r.Matrix.Spec), Same: e.Same}
		for _, rival := range e.Rivals {
			line.Rivals = append(line.Rivals, FileRival{rival.Where, rival.Except, rival.Decide})
		}
		f.Explained = append(f.Explained, line)
	}
	if r.Then.Command != "" {
		f.Then = &FileThen{r.Then.Command, r.Then.Outcome, r.Then.Why}
	}
	return f
}

func (r *Result) file() FileCrossing {
	c := FileCrossing{Of: r.Of, Outcome: r.Outcome, Why: r.Why, Counts: map[run.Outcome]int{}, Services: []run.Service{}, MayFail: r.MayFail, LeaveOut: r.LeaveOut, Run: r.Number}
	if r.Outcome == "" {
		c.Outcome = run.Lost
	}
	if r.Run == nil {
		return c
	}
	c.Services = append(c.Services, r.Run.Services...)
	c.Seconds = r.Run.Ended.Sub(r.Run.Started).Seconds()
	c.Planned, c.IDs = r.Run.Planned, map[run.Outcome][]string{}
	maps.Copy(c.Counts, r.Run.Counts)
	for _, result := range r.Run.Results {
		c.IDs[result.Outcome] = append(c.IDs[result.Outcome], result.ID)
		if result.Outcome.Bad() {
			output := result.Output[max(0, len(result.Output)-outputWritten):]
			c.Failures = append(c.Failures, FileFailure{result.ID, result.Failure, strings.ToValidUTF8(string(output), ""), result.Entry})
		}
	}
	return c
}

// Write writes the results as one JSON object.
func (r *Results) Write(w io.Writer) error {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(r.File())
}

// mostRead bounds what is read of a part, in bytes.
const mostRead = 256 << 20

// Read reads one part of the results of a matrix, which [Join] joins with others.
func Read(data io.Reader) (*File, error) {
	f := &File{}
	if err := json.NewDecoder(io.LimitReader(data, mostRead)).Decode(f); err != nil {
		return nil, fmt.Errorf("these are no results of a matrix: %w", err)
	}
	if f.Format != Format {
		return nil, fmt.Errorf("the format is %q: %s is expected", f.Format, Format)
	}
	return f, nil
}

// Join joins parts of the results of a matrix: crossings of several machines, and shards of one crossing. Of outcomes of one
// test the worst counts. A crossing that no part has is waiting. The error names a crossing that the matrix does not have.
func Join(m *Matrix, parts []*File) (*Results, error) {
	joined := NewResults(m, m.Crossings, "")
	joined.compareSources(parts)
	runs := map[string][]run.Part{}
	for i, part := range parts {
		for _, c := range part.Crossings {
			crossing := m.Spec.crossing(c.Of)
			one := joined.Result(crossing.Key())
			if one == nil || len(c.Of) != len(crossing.Names) {
				return nil, fmt.Errorf("part %d has a crossing %v that the matrix does not have: is it of another version of fern.toml?", i+1, c.Of)
			}
			one.State, one.Why = Ended, c.Why
			if len(c.Counts) == 0 {
				one.Outcome = c.Outcome
				continue
			}
			runs[one.Key()] = append(runs[one.Key()], run.Part{Name: fmt.Sprint("part ", i+1), Run: c.run()})
		}
		if part.Then != nil {
			joined.Then = Then{Command: part.Then.Run, Outcome: part.Then.Outcome, Why: part.Then.Why}
		}
	}
	for _, one := range joined.Results {
		if parts := runs[one.Key()]; parts != nil {
			one.take(run.Merge(parts))
		}
		if one.LeaveOut != "" {
			one.State = LeftOut
		}
	}
	return joined, nil
}

// compareSources notes the source of the parts, or that they differ.
func (r *Results) compareSources(parts []*File) {
	for i, part := range parts {
		switch {
		case part.Mixed != "":
			r.Mixed = part.Mixed
		case part.Source == nil:
		case r.Source == nil:
			r.Source = part.Source
		case part.Source.Differs(*r.Source) && r.Mixed == "":
			r.Mixed = run.MixedWords(fmt.Sprint("part ", i+1), *part.Source, "a part before it", *r.Source)
		}
	}
	if r.Mixed != "" {
		r.Source = nil
	}
}

// take takes over what the shards of a crossing came to together. One that is missing, or was planned
// from other tests or times, makes the crossing lost.
func (r *Result) take(m *run.Merged) {
	r.Run, r.Tests, r.Outcome = m.Run, m.Run.Tests(), outcomeOf(m.Run)
	switch {
	case len(m.Missing) > 0:
		r.Outcome, r.Why = run.Lost, fmt.Sprintf("of %d shards these never came back: %s", m.Of, strings.Trim(fmt.Sprint(m.Missing), "[]"))
	case len(m.Unlike) > 0:
		r.Outcome, r.Why = run.Lost, "its shards were not planned alike: "+m.Unlike[0]
	}
}

// run returns the outcomes of a crossing's tests as a run.
func (c *FileCrossing) run() *run.Run {
	r := run.New()
	began := time.Unix(0, 0) // only how long it took is known
	r.Apply(run.Event{Event: run.RunBegins, At: began, About: run.About{Planned: c.Planned}}.Sound())
	failures := map[string]FileFailure{}
	for _, f := range c.Failures {
		failures[f.ID] = f
	}
	for _, o := range slices.Sorted(maps.Keys(c.IDs)) {
		for _, id := range c.IDs[o] {
			f := failures[id]
			if f.Output != "" {
				r.Apply(run.Event{Event: run.Output, ID: id, Text: f.Output}.Sound())
			}
			r.Apply(run.Event{Event: run.Finished, ID: id, Entry: f.Entry, Outcome: o, Failure: f.Failure, Seconds: run.Took(0)}.Sound())
		}
	}
	r.Services = c.Services
	r.Apply(run.Event{Event: run.RunEnds, At: began.Add(time.Duration(c.Seconds * float64(time.Second)))})
	return r
}
