package outcome

import "sync"

// Concurrently calls do for each number below n, many at a time, and returns once all calls have.
func Concurrently(n int, do func(i int)) {
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
