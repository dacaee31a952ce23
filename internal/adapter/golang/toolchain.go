package golang

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/core/catalog"
	"fernrelay/core/lazy"
	"fernrelay/core/run"
	"fernrelay/internal/adapter"
	"fernrelay/internal/process"
)

// said is what the toolchain says of a build.
type said struct {
	words  map[string][]string // its messages by import path; "" has those beside any
	failed map[string]bool     // the packages that it refuses, by import path
	causes map[string]string   // of those, the import path that the messages are under
}

// wordsFor returns the toolchain's messages about a package: those of the build that failed and its own; without any, those
// that name a file of its group, as about a missing import; and else all messages.
func (s *said) wordsFor(path, group string) []string {
	var own []string
	paths := []string{s.causes[path], path, path + "_test", path + ".test"}
	for i, from := range paths {
		if from != "" && !slices.Contains(paths[:i], from) {
			own = append(own, s.words[from]...)
		}
	}
	if len(own) > 0 {
		return own
	}
	var naming, all []string
	for _, path := range slices.Sorted(maps.Keys(s.words)) {
		words := s.words[path]
		all = append(all, words...)
		if slices.ContainsFunc(words, func(line string) bool { return strings.HasPrefix(line, group+"/") }) {
			naming = append(naming, words...)
		}
	}
	if len(naming) > 0 {
		return naming
	}
	return all
}

// errNotBuilt says that the toolchain could not build all packages.
var errNotBuilt = errors.New("not all packages were built")

// goTestC runs one "go test -c" with more settings, and with the toolchain's default checks if vet is true.
func (a *Adapter) goTestC(ctx context.Context, tags, overlay string, vet bool, groups []string, dir string, settings []string, flags ...string) (*said, error) {
	if err := a.makeFolder(dir); err != nil {
		return nil, err
	}
	args := []string{"test", "-c", "-json", "-overlay", overlay, "-o", dir + string(filepath.Separator)}
	args = slices.Concat(args, a.withoutDebug(), flags, a.flagsWith(tags)) // of two flags the last counts
	if !vet {
		args = append(args, "-vet=off")
	}
	for _, group := range groups {
		args = append(args, "./"+group)
	}
	var stdout, stderr bytes.Buffer
	err := a.toolchain(ctx, settings, &stdout, &stderr, args...)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	all := &said{words: map[string][]string{}, failed: map[string]bool{}, causes: map[string]string{}}
	decoder := json.NewDecoder(&stdout)
	for {
		var one struct{ ImportPath, Package, Action, Output, FailedBuild string }
		if decoder.Decode(&one) != nil {
			break
		}
		switch {
		case one.Action == "build-output":
			path, _, _ := strings.Cut(one.ImportPath, " ")
			all.words[path] = append(all.words[path], strings.TrimRight(one.Output, "\n"))
		case one.Action == "fail" && one.Package != "":
			all.failed[one.Package] = true
			all.causes[one.Package], _, _ = strings.Cut(one.FailedBuild, " ")
		}
	}
	if err == nil {
		return all, nil
	}
	if text := strings.TrimSpace(stderr.String()); text != "" {
		all.words[""] = strings.Split(text, "\n")
	}
	if len(all.words) == 0 {
		return nil, fmt.Errorf("cannot run the Go toolchain in %s: %w", a.Dir, err)
	}
	return all, errNotBuilt
}

// withoutDebug returns the flags that leave out what only a debugger reads, as the toolchain does when it runs tests itself:
// linking then takes half the time. It returns none if the suite asks for profiles, which need it, or has flags for the
// linker of its own.
func (a *Adapter) withoutDebug() []string {
	if slices.ContainsFunc(a.allFlags(), func(flag string) bool { return flagName(flag) == "ldflags" }) ||
		slices.ContainsFunc(a.Args, func(arg string) bool { return strings.HasSuffix(flagName(arg), "profile") }) {
		return nil
	}
	return []string{"-ldflags=-s -w"}
}

// flagsWith returns the suite's flags of a build with some tags more, joined by commas.
func (a *Adapter) flagsWith(tags string) []string {
	flags := withoutFlag(a.BuildFlags, "overlay") // ours has it
	if tags == "" {
		return flags
	}
	return append(slices.Clone(flags), "-tags="+strings.Join(slices.Concat(a.flagTags(), splitTags(tags)), ","))
}

// toolchain runs the Go toolchain with more settings. Its temporary files are in the store, from where they are removed even after
// it or this process was killed.
func (a *Adapter) toolchain(ctx context.Context, settings []string, stdout, stderr io.Writer, args ...string) error {
	return a.run(ctx, "go", settings, stdout, stderr, args...)
}

// run is toolchain for any program.
func (a *Adapter) run(ctx context.Context, program string, settings []string, stdout, stderr io.Writer, args ...string) error {
	record := process.BeginRecord()
	defer record.Close()
	cmd := process.Command(ctx, a.Dir, process.Slot{}.WithRecord(record), program, args...)
	cmd.Stdout, cmd.Stderr = stdout, stderr
	cmd.Env = slices.Concat(cmd.Env, a.toolchainEnv(), settings)
	if temp := filepath.Join(a.Store, "tmp"); a.makeFolder(temp) == nil {
		if folder, err := record.MakeFolder(temp); err == nil {
			cmd.Env = append(cmd.Env, "GOTMPDIR="+folder.Path())
			defer folder.Remove()
		}
	}
	return cmd.Run()
}

// compilerPlace finds the file and line of the first complaint of a compiler.
var compilerPlace = lazy.Regexp(`^(?:\./)?([^\s:]+\.go):(\d+)(?::\d+)?: (.*)$`)

// notBuilt says that a package does not compile, or that vet finds a mistake in it: with all of the toolchain's messages, and the
// place of the first.
func (a *Adapter) notBuilt(group string, words []string) run.Failure {
	f := run.Failure{Message: a.Suite + ":" + group + " does not compile"}
	var reasons []string
	for _, line := range words {
		if strings.HasPrefix(line, "# [") { // as the toolchain announces what vet finds
			f.Message = a.Suite + ":" + group + ": go vet finds a mistake (vet = false in fern.toml allows it)"
		}
		if line == "" || strings.HasPrefix(line, "# ") {
			continue // only names the package
		}
		place := compilerPlace().FindStringSubmatch(line)
		if place != nil && f.File == "" {
			f.File, f.Line = a.projectFile(filepath.Join(a.Dir, filepath.FromSlash(place[1]))), number(place[2])
		}
		if place != nil && reasons == nil {
			line = place[3]
		}
		reasons = append(reasons, line)
	}
	if reasons != nil {
		f.Message += ": " + strings.Join(reasons, "\n")
	}
	return f
}

// loseUnbuilt reports the tests of a package that is not built.
func (a *Adapter) loseUnbuilt(batch *adapter.Recorder, tests []catalog.Test, words []string) {
	f := a.notBuilt(tests[0].Group, words)
	f.Message, _, _ = strings.Cut(f.Message, "\n")
	for _, t := range tests {
		batch.Finished(run.Event{ID: t.ID, Outcome: run.Lost, Failure: f, Seconds: run.Took(0)})
	}
}
