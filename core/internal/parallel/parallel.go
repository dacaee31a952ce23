// Package parallel uses all processors for a computation that consists of many small independent parts.
//
//	parallel.Do(len(tests), func(i int) { figures[i] = figure(tests[i]) })
package parallel

import "sync"

// Do calls do(i) for each i below n, a thousand of them per goroutine, and returns once all calls have.
func Do(n int, do func(i int)) {
	const many = 1000
	var parts sync.WaitGroup
	for from := 0; from < n; from += many {
		parts.Go(func() {
			for i := from; i < min(from+many, n); i++ {
				do(i)
			}
		})
	}
	parts.Wait()
}
