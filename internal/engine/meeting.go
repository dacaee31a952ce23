package engine

import (
	"context"
	"sync"
	"time"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// meeting runs the last test of a trial, the victim, while other tests run, so that they meet as they did in an earlier run.
type meeting struct {
	Trial
	mine, other *worker

	mu   sync.Mutex
	lags map[string]float64 // by ID: the seconds from the request to run a test to its start, the latest
}

// offsets are how much later than in the earlier run the other test starts, in seconds, try by try: two tests may clash for
// a few milliseconds only.
var offsets = []float64{0, 0.001, -0.001, 0.003, -0.003, 0.01, -0.01, 0.03, -0.03}

// once runs the order once. Two of three times it runs one of the other tests, which starts as much before or after
// the victim as it did; else it runs all of them again and again.
func (m *meeting) once(ctx context.Context, n int) (run.Outcome, error) {
	if n%3 == 2 {
		return m.beside(ctx, 0, 0, m.Beside, true)
	}
	turn := n - n/3
	other := m.Beside[turn%len(m.Beside)]
	apart, known := m.Apart[other.ID]
	if !known {
		return m.beside(ctx, 0, 0, m.Beside, true)
	}
	victim := m.Order[len(m.Order)-1].ID
	m.mu.Lock()
	late := apart + offsets[turn/len(m.Beside)%len(offsets)] + m.lags[victim] - m.lags[other.ID]
	m.mu.Unlock()
	return m.beside(ctx, max(0, -late), max(0, late), []catalog.Test{other}, false)
}

// beside runs the order after one time and other tests after another time, in seconds, and then again and again if
// that is asked for, until the order has ended.
func (m *meeting) beside(ctx context.Context, mineLate, otherLate float64, others []catalog.Test, again bool) (run.Outcome, error) {
	beside, stop := context.WithCancel(ctx)
	var wg sync.WaitGroup
	wg.Go(func() {
		if !sleep(beside, otherLate) {
			return
		}
		if !again {
			m.watch(m.other)
		}
		for {
			if _, err := m.other.run(beside, others); err != nil || !again || beside.Err() != nil {
				return // it was stopped, or is useless; then the order continues alone
			}
		}
	})
	defer func() {
		stop()
		wg.Wait()
		m.mine.started, m.other.started = nil, nil
	}()
	if !sleep(ctx, mineLate) {
		return run.Lost, ctx.Err()
	}
	m.watch(m.mine)
	return m.mine.run(ctx, m.Order)
}

// watch notes how long it takes from now until the tests of a worker start.
func (m *meeting) watch(w *worker) {
	from := time.Now()
	w.started = func(id string) {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.lags[id] = time.Since(from).Seconds()
	}
}

// sleep waits for some seconds, and reports whether ctx lets it.
func sleep(ctx context.Context, seconds float64) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(time.Duration(seconds * float64(time.Second))):
		return true
	}
}
