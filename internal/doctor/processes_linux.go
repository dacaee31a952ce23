package doctor

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// leastProcesses is the number of processes that a user may have at least.
const leastProcesses = 256

func processes() Finding {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NPROC, &limit); err != nil {
		return Finding{"processes", Broken, err.Error(), ""}
	}
	switch {
	case limit.Cur == unix.RLIM_INFINITY:
		return Finding{"processes", OK, "no limit", ""}
	case limit.Cur < leastProcesses:
		return Finding{"processes", Broken, fmt.Sprint("at most ", limit.Cur), "raise the limit: ulimit -u 4096"}
	}
	return Finding{"processes", OK, fmt.Sprint("at most ", limit.Cur), ""}
}
