package hunting

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/history"
	"fernrelay/core/hunt"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/app"
	"fernrelay/internal/engine"
	"fernrelay/internal/ledger"
	"fernrelay/internal/project"
	"fernrelay/internal/workspace"
)

// newPool returns a pool of workers that run tests with adapters of the project.
func (a Hunting) newPool(adapters map[string]adapter.Adapter) (*engine.Pool, error) {
	services := workspace.Services(a.Project)
	services.Fresh = true
	return engine.NewPool(adapters, workspace.Setup(a.Project), services, nil)
}

// HuntRun hunts tests that were bad in a run of this App that has just ended, except those that are known to fail alone
// and in company. Those whose outcome changed most often before come first. It returns what it has found when ctx
// ends.
func (a Hunting) HuntRun(ctx context.Context, ran *run.Run, o Options, report func(hunt.Progress)) ([]hunt.Finding, error) {
	victims := a.VictimsOf(ran)
	hunts, err := a.Hunts()
	if err != nil {
		return nil, err
	}
	faulty := map[string]bool{}
	for _, h := range hunts {
		faulty[h.Victim] = h.Finding.Verdict == hunt.Faulty
	}
	units := a.Undivided()
	if err := a.CheckDivisible(victims, "be hunted"); err != nil && !slices.ContainsFunc(victims, func(t catalog.Test) bool { return units[t.Suite] == "" }) {
		return nil, err
	}
	victims = slices.DeleteFunc(victims, func(t catalog.Test) bool { return faulty[t.ID] || units[t.Suite] != "" })
	flips := func(t catalog.Test) int { return history.Flips(a.Tests.PastOf(t.ID)) }
	slices.SortStableFunc(victims, func(x, y catalog.Test) int { return cmp.Compare(flips(y), flips(x)) })
	o.From = ran
	findings, err := a.Hunt(ctx, victims, o, report)
	if ctx.Err() != nil {
		err = nil // the time is up
	}
	return findings, err
}

// Hunts returns the latest hunt of every victim that the project still has, the latest first.
func (a Hunting) Hunts() ([]hunt.Saved, error) {
	hunts, err := a.Ledger().Hunts()
	return slices.DeleteFunc(hunts, func(h hunt.Saved) bool { return !a.has(h.Victim) }), err
}

// Culprits returns the hunts whose culprits still do harm, by victim, for victims that the project still has.
func (a Hunting) Culprits() (map[string]hunt.Saved, error) {
	known, err := a.Ledger().Culprits()
	maps.DeleteFunc(known, func(victim string, _ hunt.Saved) bool { return !a.has(victim) })
	return known, err
}

func (a Hunting) has(id string) bool {
	_, ok := a.Catalog.Lookup(id)
	return ok
}

// Options says how to hunt victims.
type Options struct {
	Workers int  // how many trials run side by side
	All     bool // find every set of culprits that suffices
	// Known are culprits by victim: the hunt tries them once more, and searches no others.
	Known map[string]hunt.Saved
	Fleet *app.FleetRequest // offers the trials to machines; nil for none
	Here  int               // workers of this machine, if the trials are offered to others, too
	From  *run.Run          // of a report, in whose order victims were bad; nil for the runs of the ledger
	Files []string          // that this process writes meanwhile, as reports: they are not put back
}

// Hunt hunts each victim and reports every step. A hunt that was interrupted continues, unless something in
// the project has changed. Hunt returns the findings in the order of the victims; when ctx ends, those that it
// has reached.
func (a Hunting) Hunt(ctx context.Context, victims []catalog.Test, o Options, report func(hunt.Progress)) ([]hunt.Finding, error) {
	if len(victims) == 0 {
		return []hunt.Finding{}, nil
	}
	if err := a.CheckDivisible(victims, "be hunted"); err != nil {
		return nil, err
	}
	writable, err := a.History().Writable()
	if err != nil {
		return nil, err
	}
	tasks, err := a.tasks(victims, o)
	if err != nil {
		return nil, err
	}
	h := &hunter{app: a, ledger: writable, first: victims[0].ID, sources: project.State(ctx, a.Project.Dir), revision: project.Head(ctx, a.Project.Dir), report: oneAtATime(report)}
	if err := h.prepare(ctx, tasks); err != nil {
		return nil, err
	}
	if h.pool, err = a.newPool(a.Adapters); err != nil {
		return nil, err
	}
	defer func() { _ = h.pool.Close() }() // the findings hold, whatever processes leave behind
	release, err := h.keepFiles(ctx, o.Files)
	if err != nil {
		return nil, err
	}
	defer release()
	end, err := h.open(ctx, o)
	if err != nil {
		return nil, err
	}
	defer end()
	return h.huntAll(ctx, tasks, o.Known)
}

// open prepares workers here, and offers the trials to the machines of a fleet if the options name one. end withdraws them.
func (h *hunter) open(ctx context.Context, o Options) (end func(), err error) {
	if o.Fleet == nil {
		return func() {}, h.pool.Prepare(ctx, o.Workers)
	}
	if err := h.pool.Prepare(ctx, o.Here); err != nil {
		return nil, err
	}
	machines, withdraw, err := h.app.offerHunt(ctx, *o.Fleet, h.pool, o.Here)
	if err != nil {
		return nil, err
	}
	h.machines = machines
	return func() { _ = withdraw() }, nil // the findings hold
}

// named returns the culprits that a report names for a victim, and that the project still has; nil if it names none that precede the
// victim in one order.
func (a Hunting) named(victim *run.Result) []string {
	if victim == nil || victim.Finding == nil || len(victim.Finding.Culprits) == 0 || len(victim.Finding.Order) < 2 {
		return nil
	}
	culprits := victim.Finding.Culprits[0]
	if slices.ContainsFunc(culprits, func(id string) bool { return !a.has(id) }) {
		return nil
	}
	return culprits
}

// huntAll hunts the victims of tasks side by side, or only tries again what is known about them.
func (h *hunter) huntAll(ctx context.Context, tasks []hunt.Task, known map[string]hunt.Saved) ([]hunt.Finding, error) {
	findings := make([]hunt.Finding, len(tasks))
	failures := make([]error, len(tasks))
	var wg sync.WaitGroup
	for i, task := range tasks {
		wg.Go(func() {
			if saved, ok := known[task.Victim]; ok {
				findings[i], failures[i] = h.verify(ctx, task, saved)
			} else {
				findings[i], failures[i] = h.hunt(ctx, task)
			}
		})
	}
	wg.Wait()
	findings = slices.DeleteFunc(findings, func(f hunt.Finding) bool { return f.Verdict == "" })
	return findings, errors.Join(failures...)
}

// oneAtATime returns a function that calls report, for use by several goroutines.
func oneAtATime(report func(hunt.Progress)) func(hunt.Progress) {
	var mu sync.Mutex
	return func(p hunt.Progress) {
		mu.Lock()
		defer mu.Unlock()
		report(p)
	}
}

// tasks returns the tasks of hunting victims, which share the workers.
func (a Hunting) tasks(victims []catalog.Test, o Options) ([]hunt.Task, error) {
	s, err := a.suspects(o.From)
	if err != nil {
		return nil, err
	}
	tasks := make([]hunt.Task, len(victims))
	for i, v := range victims {
		if tasks[i], err = s.task(v); err != nil {
			return nil, err
		}
		tasks[i].Width, tasks[i].All = max(1, o.Workers/len(victims)), o.All
		if o.Workers < 2 {
			tasks[i].Beside = nil // to run something beside it takes a second worker
		}
		if known, ok := o.Known[v.ID]; ok {
			tasks[i].Known, tasks[i].Overlap = known.Finding.Culprits[0], known.Finding.Overlap
		} else if o.From != nil {
			tasks[i].Known = a.named(o.From.Result(v.ID))
		}
	}
	return tasks, nil
}

// hunter is what simultaneous hunts share.
type hunter struct {
	app       Hunting
	pool      *engine.Pool
	ledger    *ledger.Ledger
	sources   string // identifies the state of the project's files
	revision  string // of the project; empty without git
	report    func(hunt.Progress)
	machines  *machineHunt // that run trials, too; nil for none
	first     string       // the victim whose progress has the notes of all
	explained atomic.Bool  // a finding has said what unkept says
	unkept    string       // why the project's files are not put back between trials; empty if they are
}

// prepare prepares all tests that trials may run.
func (h *hunter) prepare(ctx context.Context, tasks []hunt.Task) error {
	var needed []*catalog.Test
	seen := map[string]bool{}
	for _, task := range tasks {
		for _, id := range slices.Concat(slices.Concat(task.Orders...), task.Beside, task.Known, []string{task.Victim}) {
			if t, ok := h.app.Catalog.Lookup(id); ok && !seen[id] {
				seen[id] = true
				needed = append(needed, t)
			}
		}
	}
	report := func(what string) {
		for _, task := range tasks {
			h.report(hunt.Progress{Victim: task.Victim, Preparing: what})
		}
	}
	return h.app.prepareTests(ctx, needed, report)
}

// prepareTests prepares tests, suite by suite.
func (a Hunting) prepareTests(ctx context.Context, tests []*catalog.Test, progress func(what string)) error {
	bySuite := map[string][]*catalog.Test{}
	for _, t := range tests {
		bySuite[t.Suite] = append(bySuite[t.Suite], t)
	}
	for suite, tests := range bySuite {
		if err := a.Adapters[suite].Prepare(ctx, tests, progress); err != nil {
			return err
		}
	}
	return nil
}

// hunt hunts a victim to the end and keeps what it finds.
func (h *hunter) hunt(ctx context.Context, task hunt.Task) (hunt.Finding, error) {
	number, made, err := h.ledger.BeginHunt(task.Victim, h.sources)
	if err != nil {
		return hunt.Finding{}, err
	}
	p, err := h.search(ctx, task, number, made, false)
	if err == nil && task.Known != nil && len(p.Finding.Culprits) == 0 { // what the report names does no harm here
		task.Known = nil
		p, err = h.search(ctx, task, number, nil, false)
	}
	if err == nil && h.machines != nil && p.Finding.Verdict == hunt.Flaky {
		p.Finding.Fails, p.Finding.Passes, err = h.machines.dependent(ctx)
	}
	if err == nil && len(p.Finding.Fails) == 0 && p.Finding.Verdict == hunt.Flaky && h.pool.Workers() > 1 && !h.outside(task.Victim) {
		// Perhaps trials that ran at the same time make the difference.
		p, err = h.search(ctx, task, number, nil, true)
	}
	if err != nil {
		return hunt.Finding{}, err
	}
	if f := &p.Finding; len(f.Culprits) > 0 && !f.Overlap {
		f.Changed, f.Looked, p.Err = h.changed(ctx, *f)
		if h.unkept != "" && p.Err == nil {
			p.Err = errors.New(h.unkept)
			h.explained.Store(true)
		}
	}
	p.Finding.Revision = h.revision
	if p.Finding.Verdict == hunt.Faulty {
		h.contradict(ctx, &p.Finding)
	}
	err = h.ledger.EndHunt(number, p.Finding)
	h.report(p)
	return p.Finding, err
}

// differingNamed bounds the files that differ from the commit and are named.
const differingNamed = 3

// contradict makes a faulty victim one whose outcome depends on state that trials do not reset, if it passed in a run at this
// revision.
func (h *hunter) contradict(ctx context.Context, f *hunt.Finding) {
	if h.revision == "" {
		return
	}
	passed, err := h.ledger.LastWell(f.ID, &run.Record{Placed: time.Now().Add(time.Hour)})
	if err != nil || passed.Revision != h.revision {
		return // without a record, the trials are all that is known
	}
	o := &hunt.Outlived{Run: passed.Number, Reset: []string{"processes", "temporary folders"}, Unlooked: []string{"files outside of the project"}}
	o.Reset, o.Unlooked = h.resets(f.ID, o.Reset, o.Unlooked)
	if h.unkept == "" {
		o.Reset = append(o.Reset, "files of the project that changed while it hunted")
	} else {
		o.Unlooked = append(o.Unlooked, "files of the project")
	}
	changed, _ := project.Changed(ctx, h.app.Project.Dir, "HEAD") // none are named if git does not say
	for _, file := range changed {
		if name, err := filepath.Rel(h.app.Project.Dir, file); err == nil && len(o.Differs) < differingNamed {
			o.Differs = append(o.Differs, filepath.ToSlash(name))
		}
	}
	f.Verdict, f.Outlived = hunt.Flaky, o
}

// resets adds what the services of a test hold to what trials reset, or else to what nobody looked at, with the remedy.
func (h *hunter) resets(id string, reset, unlooked []string) (fresh, left []string) {
	suite, _, _ := catalog.Parts(id)
	services := workspace.Services(h.app.Project)
	for _, s := range services.Specs {
		switch {
		case !slices.Contains(services.Needs[suite], s.Name):
		case s.Reset != "":
			reset = append(reset, "what "+s.Name+" holds")
		default:
			unlooked = append(unlooked, fmt.Sprintf("what %s holds (its [[service]] has no reset)", s.Name))
		}
	}
	return reset, append(unlooked, "what other servers hold")
}

// verify tries known culprits once more. If they do no more harm, it keeps that they are mended.
func (h *hunter) verify(ctx context.Context, task hunt.Task, known hunt.Saved) (hunt.Finding, error) {
	p, err := h.search(ctx, task, 0, nil, false)
	if err != nil {
		return hunt.Finding{}, err
	}
	switch {
	case len(p.Finding.Mended) > 0:
		p.Finding.Repairs = h.app.repairs(ctx, known.Finding)
		known.Finding.Repairs = p.Finding.Repairs
		err = errors.Join(h.ledger.EndHunt(known.Number, *known.Finding), h.ledger.Mend(known.Number))
	case len(p.Finding.Culprits) > 0:
		p.Finding.Changed = known.Finding.Changed
	}
	h.report(p)
	return p.Finding, err
}

// errTouched says that trials left files in the project while others ran, which may have met them.
var errTouched = errors.New("trials left files in the project")

// search runs a hunt's trials until it has its verdict. Records of identical trials that an interrupted hunt made
// replace the first trials. Each trial is kept under the number of the hunt, unless that is 0. If quietly is
// set, no two trials run at the same time, nor do they if tests leave state outside of their processes, where
// trials would meet.
func (h *hunter) search(ctx context.Context, task hunt.Task, number int, made []hunt.Record, quietly bool) (hunt.Progress, error) {
	p, err := h.searchOnce(ctx, task, number, made, quietly)
	if errors.Is(err, errTouched) {
		return h.searchOnce(ctx, task, number, nil, true)
	}
	return p, err
}

// searchOnce is search, or errTouched.
func (h *hunter) searchOnce(ctx context.Context, task hunt.Task, number int, made []hunt.Record, quietly bool) (hunt.Progress, error) {
	if quietly = quietly || h.outside(task.Victim) || h.pool.Touched(); quietly {
		task.Width = 1
	}
	s := &search{hunter: h, state: hunt.New(task), number: number, quietly: quietly, apart: task.Apart, progress: hunt.Progress{Victim: task.Victim}, made: map[string][]hunt.Record{}}
	defer s.state.Close()
	for _, r := range made {
		s.made[r.Sum] = append(s.made[r.Sum], r)
	}
	for round := s.state.Next(); round != nil; round = s.state.Next() {
		if s.progress.Err = s.try(ctx, s.resume(round)); s.progress.Err != nil {
			s.report()
			return s.progress, fmt.Errorf("the hunt of %s: %w", task.Victim, s.progress.Err)
		}
		if !quietly && h.pool.Touched() {
			return s.progress, errTouched
		}
	}
	s.update()
	return s.progress, nil
}

// outside reports whether tests leave state outside of their processes.
func (h *hunter) outside(victim string) bool {
	t, ok := h.app.Catalog.Lookup(victim)
	return ok && h.app.Adapters[t.Suite].Scope() == catalog.TestLevel
}

// trialOrder returns the tests of a trial, in which nothing runs side by side if it is serial.
func (a Hunting) trialOrder(ids []string, serial bool) []catalog.Test {
	order := a.toTry(ids)
	if serial {
		for i := range order {
			order[i].Ask(func(a *catalog.Asked) { a.Serial = true })
		}
	}
	return order
}

// A test in a trial may take this many times its expected time, and at least leastLimit.
const (
	timesExpected = 10
	leastLimit    = 10 * time.Second
)

// toTry returns tests for a trial, in which one that hangs is soon killed, and which all count if their process ends.
func (a Hunting) toTry(ids []string) []catalog.Test {
	tests := a.TestsOf(ids)
	for i := range tests {
		bound(&tests[i])
		tests[i].Ask(func(a *catalog.Asked) { a.Whole = true })
	}
	return tests
}

// bound limits the time of a test in a trial, if it is known how long it takes. A limit of its suite that is shorter stays.
func bound(t *catalog.Test) {
	if limit := max(leastLimit, time.Duration(timesExpected*t.Expected*float64(time.Second))); t.Known {
		t.Ask(func(a *catalog.Asked) { a.Limit = limit })
	}
}

// trial returns what the engine runs for a trial.
func (a Hunting) trial(t hunt.Trial, apart map[string]float64, quietly bool) engine.Trial {
	return engine.Trial{Order: a.trialOrder(t.Order, t.Serial), Beside: a.toTry(t.Beside), Apart: apart, Times: t.Times, Quietly: quietly}
}
