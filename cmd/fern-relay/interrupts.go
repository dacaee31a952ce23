package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"sync"
	"syscall"
)

// interrupts ends what the command does when it is asked to. A first Ctrl-C lets
// what runs come to its end where something does; a second one, or another signal,
// ends it at once.
type interrupts struct {
	mu     sync.Mutex
	gently func() // nil where nothing runs that could come to its end
}

// watch begins to listen to signals; the context ends when it is to end at once.
func (i *interrupts) watch() context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	// A reader of what we print that is gone must not end a run without its outcomes.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	go func() {
		for s := range signals {
			if gently := i.take(); s == os.Interrupt && gently != nil {
				fmt.Fprintln(stderr, "\nfern-relay: what runs comes to its end, nothing new begins; Ctrl-C again stops at once")
				gently()
				continue
			}
			signal.Stop(signals) // one more ends the process
			cancel()
		}
	}()
	return ctx
}

// finish says how what runs is brought to its end, until the function that it gives
// is called.
func (i *interrupts) finish(gently func()) (over func()) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.gently = gently
	return func() { i.take() }
}

func (i *interrupts) take() func() {
	i.mu.Lock()
	defer i.mu.Unlock()
	gently := i.gently
	i.gently = nil
	return gently
}
