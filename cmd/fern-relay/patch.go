package main

import (
	"context"
	"fmt"
	"strings"

	"fernrelay/core/hunt"
	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/wholefile"
)

// writePatches looks for repairs of what hunts have found and writes those that were tried into a file, one after the
// other. It says of each victim what was tried, or why there is no repair.
func writePatches(ctx context.Context, r *app.App, findings []hunt.Finding, file string) error {
	var diffs strings.Builder
	for _, f := range findings {
		if len(f.Culprits) == 0 {
			continue
		}
		id := plain.Line(f.ID)
		p, err := r.Mend(ctx, f, func(what string) { fmt.Fprintf(stderr, "%s  trying %s\n", id, plain.Line(what)) })
		if err != nil {
			fmt.Fprintf(stderr, "%s  no patch: %s\n", id, plain.Text(err.Error()))
			continue
		}
		fmt.Fprintf(stderr, "%s  patch of %s: %s\n", id, plain.Line(p.Test), strings.Join(p.Trials, "; "))
		diffs.WriteString(p.Diff)
	}
	if diffs.Len() == 0 {
		fmt.Fprintf(stderr, "fern-relay: %s is not written: no repair was found\n", file)
		return status(1)
	}
	return wholefile.Write(file, wholefile.Bytes([]byte(diffs.String())))
}
