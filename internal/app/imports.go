package app

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/format"
	"fernrelay/internal/ledger"
	"fernrelay/internal/wording"
)

// Report files of one folder with different tests, not further apart in time than sameRun, are of one run, as CI
// machines leave them, unless it would have more than mostRun tests.
const (
	sameRun  = 12 * time.Hour
	mostRun  = 50_000
	runsOnce = 50     // that are kept at a time
	mostOnce = 50_000 // results that are kept at a time
)

// Import adds the runs of reports to the ledger. Places are files, folders and globs. Import leaves out files that
// were imported before, and names broken ones. It calls progress with the number of files that are done. If ctx
// ends, it keeps what it has read until then.
func (a *App) Import(ctx context.Context, places []string, progress func(done, of int)) (ledger.Imported, error) {
	files, err := reportFiles(places)
	if err != nil {
		return ledger.Imported{}, err
	}
	l, err := a.history.store.Writable()
	if err != nil {
		return ledger.Imported{}, err
	}
	i := &importing{into: l.NewImporter(), names: catalog.NewNames(a.Catalog.Tests), seen: map[string]bool{}}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	done := 0
	for result := range read(ctx, files, l) {
		p := <-result
		if err = i.take(p); err != nil {
			break
		}
		done++
		progress(done, len(files))
	}
	switch {
	case err != nil:
	case ctx.Err() != nil: // the rest of the present run may not have been read
		err = errors.Join(ctx.Err(), i.keep())
	default:
		err = errors.Join(i.finish(), i.keep())
	}
	err = errors.Join(err, i.wait())
	if err == nil {
		i.done.Findings, err = l.KeepFindings(i.findings)
	}
	i.noteStrange()
	return i.done, errors.Join(err, i.into.Close())
}

// portion is what a file says.
type portion struct {
	file  ledger.File
	known bool
	run   *run.Run
	err   error
}

// read reads files side by side and returns their contents in order. It holds no more of them than there are
// processors.
func read(ctx context.Context, files []string, l *ledger.Ledger) <-chan chan portion {
	results := make(chan chan portion, runtime.GOMAXPROCS(0))
	go func() {
		defer close(results)
		for _, name := range files {
			result := make(chan portion, 1)
			select {
			case results <- result:
			case <-ctx.Done():
				return
			}
			go func() { result <- readPortion(name, l) }()
		}
	}()
	return results
}

func readPortion(name string, l *ledger.Ledger) portion {
	p := portion{file: ledger.File{Name: name}}
	f, err := os.Open(name)
	if err != nil {
		p.err = fmt.Errorf("cannot be read: %w", errors.Unwrap(err))
		return p
	}
	defer f.Close()
	digest := sha256.New()
	if _, p.err = io.Copy(digest, f); p.err != nil {
		return p
	}
	p.file.Digest = hex.EncodeToString(digest.Sum(nil))
	if p.known, p.err = l.Imported(p.file.Digest); p.err != nil || p.known {
		return p
	}
	if _, p.err = f.Seek(0, io.SeekStart); p.err != nil {
		return p
	}
	p.run, _, err = format.ReadRun(f)
	if incomplete := (run.IncompleteError{}); errors.As(err, &incomplete) {
		p.run.Note, err = err.Error(), nil
	}
	if p.err = err; err != nil {
		return p
	}
	for _, res := range p.run.Results {
		if !res.Outcome.Bad() {
			res.Output = nil // it would not be kept
		}
	}
	if p.run.Started.IsZero() {
		p.run.Started = timeOf(name)
	}
	return p
}

// importing assembles portions into runs and keeps them.
type importing struct {
	into     *ledger.Importer
	names    *catalog.Names
	current  *ledger.Foreign // that grows; nil if there is none
	folder   string          // of its files
	ready    []ledger.Foreign
	results  int        // of those that are ready
	keeping  chan error // receives once the ones before are kept; nil if none are being kept
	done     ledger.Imported
	seen     map[string]bool // digests
	findings []ledger.Dated  // in the order of the files
	strange  []string        // files none of whose results has the name of a test of the project
}

func (i *importing) take(p portion) error {
	i.done.Files++
	switch {
	case p.known:
		i.done.Known++
		return nil
	case p.err != nil:
		i.done.Broken = append(i.done.Broken, ledger.BrokenFile{Name: p.file.Name, Err: p.err})
		return nil
	}
	if i.seen[p.file.Digest] {
		i.done.Known++
		return nil
	}
	i.seen[p.file.Digest] = true
	if len(p.run.Results) == 0 {
		return nil // a report of nothing
	}
	if !i.rename(p.run.Results) {
		i.strange = append(i.strange, p.file.Name)
	}
	folder := filepath.Dir(p.file.Name)
	if i.current == nil || folder != i.folder || !i.together(p.run) {
		if err := i.finish(); err != nil {
			return err
		}
		i.current = &ledger.Foreign{Run: run.New(), Record: run.Record{Imported: p.file.Name}}
		i.current.Run.Started, i.folder = p.run.Started, folder
		if p.run.Meta != nil {
			i.current.Record.Meta = *p.run.Meta
		}
	}
	i.add(p)
	return nil
}

// rename sets the IDs of results of a report to those of the tests that they mean, and reports whether there are any. What is no
// test of the project keeps the name that the report has for it.
func (i *importing) rename(results []*run.Result) (some bool) {
	ids, match := make([]string, len(results)), make([]catalog.Match, len(results))
	places := false
	for k, res := range results {
		ids[k], match[k] = i.names.Find(res.ID, res.File)
		places = places || match[k] == catalog.NamePlace
	}
	for k, res := range results {
		if match[k] == catalog.NoMatch || match[k] == catalog.NameElsewhere && places {
			continue
		}
		res.ID, some = ids[k], true
	}
	return some
}

// together reports whether a run has other tests than the present one, at the same time.
func (i *importing) together(r *run.Run) bool {
	now := i.current.Run
	if r.Started.Sub(now.Started).Abs() > sameRun || len(now.Results)+len(r.Results) > mostRun {
		return false
	}
	return !slices.ContainsFunc(r.Results, func(res *run.Result) bool { return now.Result(res.ID) != nil })
}

// add adds the contents of a file to the present run. If a file has several results of a test, as for several
// tests with one name, the worst counts.
func (i *importing) add(p portion) {
	now := i.current
	for _, res := range p.run.Results {
		if res.Started.IsZero() {
			res.Started, res.Ended = p.run.Started, p.run.Started
		}
		now.Record.Workers = max(now.Record.Workers, res.Worker)
		if res.Finding != nil && hunt.Verdict(res.Finding.Verdict).IsKnown() {
			i.findings = append(i.findings, i.found(res, p))
		}
	}
	now.Run.AddRun(p.run)
	now.Run.AddNote(p.run.Note)
	if p.run.Ended.After(now.Run.Ended) {
		now.Run.Ended = p.run.Ended
	}
	now.Files = append(now.Files, p.file)
}

// found returns the finding about a result, with the culprits' IDs in this project.
func (i *importing) found(res *run.Result, p portion) ledger.Dated {
	own := func(ids []string) []string {
		named := make([]string, len(ids))
		for k, id := range ids {
			named[k] = id
			if found, match := i.names.Find(id, ""); match != catalog.NoMatch {
				named[k] = found
			}
		}
		return named
	}
	f := res.Finding
	of := hunt.Finding{ID: res.ID, Verdict: hunt.Verdict(f.Verdict), Culprits: [][]string{}, Order: own(f.Order), Changed: []hunt.Change{}, Revision: p.run.Source().Revision,
		Reported: &hunt.Reported{In: filepath.Base(p.file.Name), Words: f.Words, Remedy: f.Remedy}}
	for _, culprits := range f.Culprits {
		of.Culprits = append(of.Culprits, own(culprits))
	}
	return ledger.Dated{At: res.Ended, Finding: of}
}

// noteStrange notes the files that may be reports of another project, or whose names were not recognised.
func (i *importing) noteStrange() {
	if len(i.strange) == 0 {
		return
	}
	i.done.Notes = append(i.done.Notes, wording.Some(i.strange, 1)+": none of the results has the name of a test of this project: they are kept under the names in the report")
}

// finish makes the present run ready to be kept.
func (i *importing) finish() error {
	if i.current == nil {
		return nil
	}
	if run := i.current.Run; run.Ended.Before(run.Started) {
		run.Ended = run.Started // as it is not known
	}
	if n := len(i.current.Files); n > 1 {
		i.current.Record.Imported = fmt.Sprintf("%s (%d files)", i.folder, n)
	}
	if began := i.current.Run.Started; ledger.InFuture(began, time.Now()) {
		note := fmt.Sprintf("%s says that it began on %s, which is in the future: it counts as older than the latest run", i.current.Record.Imported, began.Format("2006-01-02 15:04"))
		i.done.Notes = append(i.done.Notes, note)
		i.current.Run.AddNote(note)
	}
	i.done.Runs++
	i.done.Tests += len(i.current.Run.Results)
	i.results += len(i.current.Run.Results)
	i.ready, i.current = append(i.ready, *i.current), nil
	if len(i.ready) < runsOnce && i.results < mostOnce {
		return nil
	}
	return i.keep()
}

// keep keeps the runs that are ready while others are read, once those before are kept.
func (i *importing) keep() error {
	if err := i.wait(); err != nil || len(i.ready) == 0 {
		return err
	}
	ready, kept := i.ready, make(chan error, 1)
	i.ready, i.results, i.keeping = nil, 0, kept
	go func() { kept <- i.into.Add(ready) }()
	return nil
}

// wait waits until the runs that are being kept are.
func (i *importing) wait() error {
	if i.keeping == nil {
		return nil
	}
	err := <-i.keeping
	i.keeping = nil
	return err
}
