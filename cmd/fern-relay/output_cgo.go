//go:build cgo

package main

/*
#include <fcntl.h>

static int closed;

// Before any Go code runs, the runtime opens /dev/null in place of a standard stream that is closed.
// Only a constructor of C runs earlier.
__attribute__((constructor)) static void look(void) { closed = fcntl(1, F_GETFD) < 0; }

static int was_closed(void) { return closed; }
*/
import "C"

// startedWithoutOutput reports whether this program was started with its standard output closed.
func startedWithoutOutput() bool { return C.was_closed() != 0 }
