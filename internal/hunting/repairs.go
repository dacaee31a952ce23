package hunting

import (
	"context"
	"slices"
	"strings"

	"fernrelay/core/hunt"
	"fernrelay/internal/project"
)

// repairs returns the changes since a hunt of which one repaired the victim: those of its lines and its culprits', or else of
// their files and of those of the state, or else the only commit since then. It returns none if git cannot say.
//
// Suppose the hunt found at revision 4f2a9c1 that TestDrip fails after TestFill, and now it does not. Candidates are, in this
// order, what is not committed yet, the commits that changed lines of the two tests, those that changed their files or the file of
// the variable that TestFill leaves, and the only commit since 4f2a9c1.
func (a Hunting) repairs(ctx context.Context, f *hunt.Finding) (repairs []hunt.Repair) {
	if f.Revision == "" {
		return nil
	}
	dir := a.Project.Dir
	tests := a.TestsOf(append(slices.Concat(f.Culprits...), f.ID))
	var files []string
	for _, t := range tests {
		files = append(files, t.File)
	}
	for _, c := range f.Changed {
		files = append(files, c.File)
	}
	slices.Sort(files)
	files = slices.DeleteFunc(slices.Compact(files), func(file string) bool { return file == "" })
	if len(files) == 0 {
		return nil
	}
	uncommitted := project.Uncommitted(ctx, dir, files...)
	if len(uncommitted) > 0 {
		repairs = append(repairs, hunt.Repair{Subject: strings.Join(uncommitted, " ")})
	}
	add := func(commits []project.Commit) {
		for _, c := range commits {
			if r := (hunt.Repair{Revision: c.Revision, Subject: c.Subject}); !slices.Contains(repairs, r) {
				repairs = append(repairs, r)
			}
		}
	}
	for _, t := range tests {
		if t.End > 0 && !slices.Contains(uncommitted, t.File) { // else its lines are not those of the latest commit
			add(project.LineCommits(ctx, dir, f.Revision, t.File, t.Line, t.End))
		}
	}
	if len(repairs) == 0 {
		add(project.Commits(ctx, dir, f.Revision, files...))
	}
	if len(repairs) > 0 {
		return repairs
	}
	if all := project.Commits(ctx, dir, f.Revision); len(all) == 1 {
		add(all)
	}
	return repairs
}
