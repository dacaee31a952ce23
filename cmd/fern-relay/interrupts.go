package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"runtime"
	"sync"
	"syscall"
)

// interrupts ends the command on signals. A first Ctrl-C finishes the tests that run, if any; a second one, or
// another signal, ends the command at once. SIGQUIT also prints the stacks of all goroutines. SIGHUP is ignored
// if it was ignored when the program started, as nohup does.
type interrupts struct {
	mu     sync.Mutex
	gently func() // nil if nothing runs that could finish
}

// watch begins to listen to signals. The context ends when the command is to end at once.
func (i *interrupts) watch() context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGQUIT)
	if !signal.Ignored(syscall.SIGHUP) {
		signal.Notify(signals, syscall.SIGHUP)
	}
	// A reader of what we print that is gone must not end a run without its outcomes.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	go func() {
		for s := range signals {
			if gently := i.take(); s == os.Interrupt && gently != nil {
				fmt.Fprintln(stderr, "\nfern-relay: finishing the running tests and starting no more; press Ctrl-C again to stop now")
				gently()
				continue
			}
			if s == syscall.SIGQUIT {
				printStacks()
			}
			signal.Stop(signals) // one more ends the process
			cancel()
		}
	}()
	return ctx
}

// finish sets how to finish what runs, until the returned function is called.
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

// stacksLimit bounds the printed stacks, in bytes.
const stacksLimit = 4 << 20

func printStacks() {
	stacks := make([]byte, stacksLimit)
	stacks = stacks[:runtime.Stack(stacks, true)]
	_, _ = stderr.Write(append(stacks, '\n'))
}
