package main

import (
	"errors"
	"fmt"
	"math/rand/v2"

	"github.com/spf13/cobra"

	"fernrelay/core/order"
	"fernrelay/internal/app"
	"fernrelay/internal/wording"
)

// orderFlags say in which order tests run.
type orderFlags struct {
	name, from string
	seed       uint64
	seeded     bool // seed is given
	named      bool // name is given: also the order as written is kept then, which else may run long groups first
	turn       int  // of several runs, from 0
}

func (f *orderFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.name, "order", order.AsWritten, "use `ORDER`: as-written, backwards, shuffled, new-pairs, troubled")
	flags.Uint64Var(&f.seed, "seed", 0, "with --order shuffled or new-pairs: use order `N` of them")
	flags.StringVar(&f.from, "order-from", "", "use the order of this `file`: a list of IDs or a report")
}

// check refuses flags that contradict each other, and notes which were set.
func (f *orderFlags) check(cmd *cobra.Command) error {
	changed := cmd.Flags().Changed
	f.seeded, f.named = changed("seed"), changed("order")
	switch {
	case f.from != "" && (changed("order") || f.seeded):
		return errors.New("--order-from names a file with the order: leave --order and --seed out")
	case f.seeded && !order.IsSeeded(f.name):
		return fmt.Errorf("--seed is a number of the orders %s and %s: --order is %s", order.Shuffled, order.NewPairs, f.name)
	}
	return nil
}

// noteGone prints that a report has a number of tests that the project does not have, unless it is 0.
func noteGone(gone int) {
	if gone > 0 {
		fmt.Fprintf(stderr, "fern-relay: note: the report has %s that this project does not have: is it another revision?\n", wording.Plural(gone, "test"))
	}
}

// isTroubled reports whether the tests that the ledger knows as troubled go first.
func (f *orderFlags) isTroubled() bool { return f.from == "" && f.name == order.Troubled }

// isNext reports whether each of several runs has another order.
func (f *orderFlags) isNext() bool { return f.from == "" && order.IsSeeded(f.name) && !f.seeded }

// read returns the order. It prints the seed if it chooses one: at random, or for new pairs as many runs as the ledger holds.
func (f *orderFlags) read(r *app.App) (order.Order, error) {
	if f.from != "" {
		o, gone, err := r.OrderFile(f.from)
		noteGone(gone)
		return o, err
	}
	seed := f.seed
	if f.isNext() {
		if seed = uint64(r.Runs + f.turn); f.name == order.Shuffled {
			seed = rand.Uint64N(1e6)
		}
		fmt.Fprintf(stderr, "fern-relay: note: the order is --order %s --seed %d\n", f.name, seed)
	}
	o, err := order.Named(f.name, seed)
	if err != nil {
		return o, fmt.Errorf("--order: %w", err)
	}
	return o, nil
}
