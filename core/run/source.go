package run

import (
	"fmt"
	"strings"
)

// A Source is the state of the files that a run is of: a commit, and what differs from it. The zero Source is not known, as that of
// a folder that git does not know.
type Source struct {
	Revision string `json:"revision,omitempty"`
	Dirty    bool   `json:"dirty,omitempty"`   // something differs from the commit
	Content  string `json:"content,omitempty"` // a fingerprint of the sources that differ from the commit, without ignored files; "" for none
}

// Differs reports whether two sources are known and not the same. Revisions may be cut to different lengths.
func (s Source) Differs(other Source) bool {
	if s.Revision == "" || other.Revision == "" {
		return false
	}
	return s.Content != other.Content || !strings.HasPrefix(s.Revision, other.Revision) && !strings.HasPrefix(other.Revision, s.Revision)
}

// String names the source, as in "4f2a9c1 with uncommitted changes (81d2)".
func (s Source) String() string {
	switch {
	case s.Revision == "":
		return "an unknown revision"
	case s.Content == "":
		return s.Revision
	}
	return fmt.Sprintf("%s with uncommitted changes (%s)", s.Revision, s.Content[:min(len(s.Content), 8)])
}

// About is what reports in any format say of a run as a whole. The zero About says nothing.
type About struct {
	Planned *Planned `json:"planned,omitempty"` // nil if it is no shard
	Meta    *Meta    `json:"meta,omitempty"`    // nil if it is not known
	Mixed   string   `json:"mixed,omitempty"`   // in words, that results are of different sources; "" if they are not
	Earlier *Source  `json:"source,omitempty"`  // what earlier versions wrote in place of Meta
}

// IsZero reports whether there is nothing to say.
func (a About) IsZero() bool { return a == About{} }

// Source returns the source of the run, the zero Source if it is not known.
func (a About) Source() Source {
	if a.Meta == nil {
		return Source{}
	}
	return a.Meta.Source
}

// today returns what an earlier version wrote in the form of today.
func (a About) today() About {
	if a.Meta == nil && a.Earlier != nil {
		a.Meta = &Meta{Source: *a.Earlier}
	}
	a.Earlier = nil
	return a
}

// MixedWords says that results are of different sources, as the first line of reports.
func MixedWords(a string, of Source, b string, other Source) string {
	return fmt.Sprintf("mixed: %s is of %s, and %s of %s", a, of, b, other)
}
