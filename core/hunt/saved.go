package hunt

import (
	"time"
)

// Saved is a hunt as the ledger keeps it.
type Saved struct {
	Number  int // from 1
	Victim  string
	Began   time.Time
	Mended  time.Time // when its culprits were found to be harmless; zero if they still do harm
	Finding *Finding  // nil if it did not end
}

// Known reports whether the hunt caught culprits that still do harm.
func (h *Saved) Known() bool {
	return h.Finding != nil && len(h.Finding.Culprits) > 0 && h.Mended.IsZero()
}
