package hunting

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"fernrelay/core/hunt"
)

// Patches are changes of several tests in one diff, which git applies as a whole.
type Patches struct {
	app   Hunting
	files []patchedFile
}

// patchedFile is a file with the edits of all patches so far.
type patchedFile struct {
	path   string
	before []byte
	edits  []udiff.Edit
}

// NewPatches returns no patches yet.
func (a Hunting) NewPatches() *Patches { return &Patches{app: a} }

// Mend is App.Mend, and adds the patch. known reports whether the patch of another victim makes the same change. The error is also
// of a patch that changes the same lines in another way, and says so.
func (p *Patches) Mend(ctx context.Context, f hunt.Finding, progress func(what string)) (patch *Patch, known bool, err error) {
	patch, err = p.app.Mend(ctx, f, progress)
	if err != nil {
		return nil, false, err
	}
	known, err = p.add(patch)
	return patch, known, err
}

// add adds the edits of a patch that are new.
func (p *Patches) add(patch *Patch) (known bool, err error) {
	at := slices.IndexFunc(p.files, func(f patchedFile) bool { return f.path == patch.File })
	if at < 0 {
		at = len(p.files)
		p.files = append(p.files, patchedFile{path: patch.File, before: patch.before})
	}
	file := &p.files[at]
	if !bytes.Equal(file.before, patch.before) {
		return false, fmt.Errorf("%s has changed meanwhile: hunt again", patch.File)
	}
	known = true
	edits := slices.Clone(file.edits)
	for _, e := range udiff.Lines(string(patch.before), string(patch.after)) {
		if slices.Contains(file.edits, e) {
			continue
		}
		if slices.ContainsFunc(file.edits, func(other udiff.Edit) bool { return e.Start < other.End && other.Start < e.End }) {
			return false, fmt.Errorf("it changes the same lines as another patch, in another way: apply that one, and hunt again")
		}
		known = false
		edits = append(edits, e)
	}
	slices.SortStableFunc(edits, func(a, b udiff.Edit) int { return cmp.Or(cmp.Compare(a.Start, b.Start), cmp.Compare(a.End, b.End)) })
	file.edits = edits
	return known, nil
}

// Diff returns all changes as one unified diff, empty if there are none.
func (p *Patches) Diff(ctx context.Context) (string, error) {
	var diff strings.Builder
	for _, f := range p.files {
		after, err := udiff.ApplyBytes(f.before, f.edits)
		if err != nil {
			return "", fmt.Errorf("the patches of %s do not go together: %w", f.path, err)
		}
		name := p.app.repositoryName(ctx, f.path)
		diff.WriteString(udiff.Unified("a/"+name, "b/"+name, string(f.before), string(after)))
	}
	return diff.String(), nil
}
