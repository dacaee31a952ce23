package main

import (
	"context"
	"fmt"
	"strings"

	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/hunting"
	"fernrelay/internal/wholefile"
)

// writePatches looks for repairs of what hunts have found and writes those that were tried into a file, as one diff. It says of each
// victim what was tried, or why there is no repair. If it is interrupted, the file has what was found until then.
func writePatches(ctx context.Context, r *app.App, findings []hunt.Finding, file string) error {
	patches := hunting.Of(r).NewPatches()
	for _, f := range findings {
		if len(f.Culprits) == 0 || ctx.Err() != nil {
			continue
		}
		id := plain.Line(f.ID)
		p, known, err := patches.Mend(ctx, f, func(what string) { fmt.Fprintf(stderr, "%s  trying %s\n", id, plain.Line(what)) })
		switch {
		case ctx.Err() != nil:
		case err != nil:
			fmt.Fprintf(stderr, "%s  no patch: %s\n", id, plain.Text(err.Error()))
		case known:
			fmt.Fprintf(stderr, "%s  the patch above repairs it, too: %s\n", id, strings.Join(p.Trials, "; "))
		default:
			fmt.Fprintf(stderr, "%s  patch of %s: %s\n", id, plain.Line(p.Test), strings.Join(p.Trials, "; "))
		}
	}
	diff, err := patches.Diff(context.WithoutCancel(ctx))
	if err != nil {
		return err
	}
	interrupted := ctx.Err() != nil
	if interrupted {
		fmt.Fprintln(stderr, "fern-relay: the search for patches was interrupted: run the same command again to go on")
	}
	if diff == "" {
		if !interrupted {
			fmt.Fprintf(stderr, "fern-relay: %s is not written: no repair was found\n", file)
			return status(1)
		}
		return status(3)
	}
	if err := wholefile.Write(file, wholefile.Bytes([]byte(diff))); err != nil || !interrupted {
		return err
	}
	return status(3)
}
