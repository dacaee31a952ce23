// Package hunting has the use cases of hunts without a screen: suspects, searches for victims, the state that culprits leave, and
// patches that are tried.
//
//	h := hunting.Of(a) // an open project
//	victims, err := h.Victims()
//	findings, err := h.Hunt(ctx, victims, hunting.Options{Workers: 4}, report)
//	patch, err := h.Mend(ctx, findings[0], progress)
//
// The search itself is in core/hunt: here are the trials that it asks for, on the workers of the engine or on machines.
package hunting

import "fernrelay/internal/app"

// Hunting is an open project whose tests can be hunted.
type Hunting struct{ *app.App }

// Of returns the hunts of an open project.
func Of(a *app.App) Hunting { return Hunting{a} }
