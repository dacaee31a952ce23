package workspace

import (
	"fernrelay/core/catalog"
	"fernrelay/core/split"
	"fernrelay/internal/processors"
)

// Split makes tests ready to be split. Where the shards are workers of this
// machine, its resources are never held by too many at once; shards on several
// machines keep apart only what the project says that all machines share.
func (w *Workspace) Split(tests []catalog.Test, together catalog.Level, f split.Fleet, here bool) (*split.Study, error) {
	if !here {
		return split.NewStudy(tests, together, f, w.Project.Shared...)
	}
	f.Processors = processors.Count()
	f.Resources = map[string]int{}
	for i := range tests {
		for _, name := range tests[i].Rules().Holds {
			f.Resources[name] = max(1, w.Project.Resources[name])
		}
	}
	return split.NewStudy(tests, together, f)
}
