package golang

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// toolchainReads are variables that decide how the toolchain builds, beside those that begin with GO or CGO_.
var toolchainReads = []string{"CC", "CXX", "FC", "AR", "PKG_CONFIG", "PKG_CONFIG_PATH", "PKG_CONFIG_LIBDIR", "CPATH", "C_INCLUDE_PATH", "CPLUS_INCLUDE_PATH", "LIBRARY_PATH"}

// isToolchainSetting reports whether a variable decides how the toolchain builds.
func isToolchainSetting(name string) bool {
	return strings.HasPrefix(name, "GO") || strings.HasPrefix(name, "CGO_") || slices.Contains(toolchainReads, name)
}

// toolchainEnv returns the settings among those of the tests' environment that the toolchain reads. A value that differs from
// worker to worker is none.
func (a *Adapter) toolchainEnv() []string {
	var env []string
	for _, setting := range a.Env {
		if name, value, _ := strings.Cut(setting, "="); isToolchainSetting(name) && !strings.Contains(value, "{") {
			env = append(env, setting)
		}
	}
	return env
}

// setting returns the value of a setting of the toolchain: that of the tests' environment, of our own, or of "go env -w".
func (a *Adapter) setting(name string) string {
	if value := valueOf(a.toolchainEnv(), name); value != "" {
		return value
	}
	if value, ok := os.LookupEnv(name); ok {
		return value
	}
	kept, _ := os.ReadFile(settingsFile()) // most have none
	for line := range strings.Lines(string(kept)) {
		if value, ok := strings.CutPrefix(strings.TrimSpace(line), name+"="); ok {
			return value
		}
	}
	return ""
}

// settingsFile returns the file of "go env -w", which may not exist; "" if there can be none.
func settingsFile() string {
	if file := os.Getenv("GOENV"); file != "" {
		return file
	}
	config, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(config, "go", "env")
}

// allFlags are the flags of a build, those of the settings first.
func (a *Adapter) allFlags() []string {
	return slices.Concat(strings.Fields(a.setting("GOFLAGS")), a.BuildFlags)
}

// flagValue returns the last value of a flag of the build, "" if it has none.
func (a *Adapter) flagValue(name string) (last string) {
	flags := a.allFlags()
	for i, flag := range flags {
		if flagName(flag) != name {
			continue
		}
		_, value, inside := strings.Cut(flag, "=")
		switch {
		case inside:
			last = value
		case i+1 < len(flags):
			last = flags[i+1]
		}
	}
	return last
}

// withoutFlag returns flags without one and its value.
func withoutFlag(flags []string, name string) []string {
	var rest []string
	for i := 0; i < len(flags); i++ {
		switch {
		case flagName(flags[i]) != name:
			rest = append(rest, flags[i])
		case !strings.Contains(flags[i], "="):
			i++
		}
	}
	return rest
}

// readOverlay reads the overlay that the build flags name: by absolute path, the files that replace others, "" for none.
func (a *Adapter) readOverlay() error {
	name := a.flagValue("overlay")
	if name == "" {
		return nil
	}
	path := a.absolute(name)
	data, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("the build flag -overlay: %w", err)
	}
	var overlay struct{ Replace map[string]string }
	if err := json.Unmarshal(data, &overlay); err != nil {
		return fmt.Errorf("the build flag -overlay: %s: %w", path, err)
	}
	a.overlay = make(map[string]string, len(overlay.Replace))
	for file, by := range overlay.Replace {
		if by != "" {
			by = a.absolute(by)
		}
		a.overlay[a.absolute(file)] = by
	}
	return nil
}

// absolute returns a path as the toolchain sees it, which runs in the suite's folder.
func (a *Adapter) absolute(path string) string {
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(a.Dir, path)
}

// names returns the names of the files of a folder that a build sees, with those of the overlay.
func (a *Adapter) names(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !(os.IsNotExist(err) && a.overlay != nil) {
		return nil, err
	}
	var names []string
	for _, entry := range entries {
		if by, replaced := a.overlay[filepath.Join(dir, entry.Name())]; replaced && by == "" || !isFile(dir, entry) {
			continue
		}
		names = append(names, entry.Name())
	}
	for file, by := range a.overlay {
		if by != "" && filepath.Dir(file) == dir && !slices.Contains(names, filepath.Base(file)) {
			names = append(names, filepath.Base(file))
		}
	}
	slices.Sort(names)
	return names, nil
}

// read reads a file as a build sees it.
func (a *Adapter) read(path string) ([]byte, error) {
	if by := a.overlay[path]; by != "" {
		path = by
	}
	return os.ReadFile(path)
}
