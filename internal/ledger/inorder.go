package ledger

import "errors"

// inOrder prepares what produce emits side by side, and passes the results to use one after the other, in the order in which
// they were emitted. At most ahead of them wait for those before them. After an error nothing more is used, and emit returns
// false.
//
//	produce   1 2 3 4 …                        one after the other
//	prepare     1 ──┐  2 ─┐  3 ────┐           side by side, in any order
//	use             1     2        3           one after the other, in the order of produce
//
// A channel of channels keeps the order: each item puts the channel for its own result into the queue when it is emitted.
func inOrder[I, O any](ahead int, produce func(emit func(I) bool) error, prepare func(I) (O, error), use func(O) error) error {
	type prepared struct {
		result O
		err    error
	}
	waiting, failed, ended := make(chan chan prepared, ahead), make(chan struct{}), make(chan error)
	go func() {
		var err error
		for next := range waiting {
			p := <-next
			if err != nil {
				continue
			}
			if err = p.err; err == nil {
				err = use(p.result)
			}
			if err != nil {
				close(failed)
			}
		}
		ended <- err
	}()
	err := produce(func(item I) bool {
		next := make(chan prepared, 1)
		select {
		case waiting <- next:
		case <-failed:
			return false
		}
		go func() {
			result, err := prepare(item)
			next <- prepared{result, err}
		}()
		return true
	})
	close(waiting)
	return errors.Join(err, <-ended)
}

// below produces the numbers below n.
func below(n int) func(emit func(int) bool) error {
	return func(emit func(int) bool) error {
		for i := range n {
			if !emit(i) {
				break
			}
		}
		return nil
	}
}
