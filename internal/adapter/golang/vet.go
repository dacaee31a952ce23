package golang

import (
	"bytes"
	"context"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// firstWithOverlay is the first minor version of Go 1 whose vet reads files of an overlay.
const firstWithOverlay = 24

// vetChecks are the checks of vet that go test does.
var vetChecks = []string{"-atomic", "-bool", "-buildtags", "-directive", "-errorsas", "-ifaceassert", "-nilfunc", "-printf", "-stringintconv"}

// vetsApart reports whether vet has to look at the sources by itself, without our overlay, as it does not read that.
func (a *Adapter) vetsApart() bool {
	text, err := os.ReadFile(filepath.Join(filepath.Dir(a.bin()), "VERSION"))
	if err != nil {
		return false
	}
	version, _, _ := strings.Cut(string(text), "\n")
	minor, found := strings.CutPrefix(version, "go1.")
	minor, _, _ = strings.Cut(minor, ".")
	n, err := strconv.Atoi(minor)
	return found && err == nil && n < firstWithOverlay
}

// vet checks packages whose binaries are in a folder, as go test does, and adds its complaints to what the build says. It reports
// whether it has any.
func (a *Adapter) vet(ctx context.Context, tags string, groups []string, dir string, built *said) bool {
	args := append([]string{"vet"}, vetChecks...)
	args = append(args, withoutFlags(a.flagsWith(tags), "c", "o", "vet", "exec", "json", "run", "cover", "covermode", "coverpkg")...)
	for _, group := range groups {
		args = append(args, "./"+group)
	}
	var out bytes.Buffer
	if a.toolchain(ctx, nil, &out, &out, args...) == nil {
		return false
	}
	missing, found := a.missing(tags, groups, dir), false
	for group, words := range a.vetWords(out.String(), groups) {
		if slices.Contains(missing, group) { // it does not compile, which vet says again
			continue
		}
		name := a.importPath(group)
		built.failed[name], found = true, true
		built.words[name] = append(built.words[name], append([]string{"# [" + name + "]"}, words...)...)
	}
	return found
}

// vetWords returns the complaints of vet by group: by the folder of the file that they name, or else by the line that names the
// package before them, which not every version prints.
func (a *Adapter) vetWords(text string, groups []string) map[string][]string {
	words := map[string][]string{}
	byPath := map[string]string{}
	for _, group := range groups {
		byPath[a.importPath(group)] = group
	}
	named, known := "", false
	for line := range strings.Lines(text) {
		line = strings.TrimPrefix(strings.TrimRight(line, "\n"), "vet: ")
		if name, isName := strings.CutPrefix(line, "# "); isName {
			name, _, _ = strings.Cut(strings.Trim(name, "[]"), " ")
			named, known = byPath[name]
			continue
		}
		group, ok := named, known
		if place := compilerPlace().FindStringSubmatch(line); place != nil && slices.Contains(groups, path.Dir(place[1])) {
			group, ok = path.Dir(place[1]), true
		}
		if ok && line != "" {
			words[group] = append(words[group], line)
		}
	}
	return words
}
