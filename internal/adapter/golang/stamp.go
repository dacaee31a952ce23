package golang

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"golang.org/x/mod/modfile"

	"fernrelay/internal/owned"
)

// fingerprint identifies the inputs of a build: the toolchain and its settings, the arguments, and name, size and
// time of every file of the module. It saves asking the toolchain whether its binaries are up to date, which takes
// longer than many a test run. It is empty if the module is built from folders outside of it, so that only the
// toolchain can know.
func (a *Adapter) fingerprint(tags string, groups []string) (string, error) {
	sum := sha256.New()
	if err := describeToolchain(sum); err != nil || !selfContained(a.root) {
		return "", err
	}
	fmt.Fprintf(sum, "%q %q %q %t %q %q\n", orderSource, a.BuildFlags, a.withoutDebug(), a.NoVet, tags, groups)
	err := filepath.WalkDir(a.root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() {
			if path != a.root && strings.HasPrefix(entry.Name(), ".") {
				return fs.SkipDir
			}
			return nil
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		fmt.Fprintf(sum, "%s %d %d\n", path, info.Size(), info.ModTime().UnixNano())
		return nil
	})
	if err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// describeToolchain writes what decides which toolchain builds, and how: its program and its settings.
func describeToolchain(w io.Writer) error {
	toolchain, err := exec.LookPath("go")
	if err != nil {
		return fmt.Errorf("the Go toolchain is missing: %w: install it, or put its bin folder on PATH", err)
	}
	info, err := os.Stat(toolchain)
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "%s %d\n", toolchain, info.ModTime().UnixNano())
	for _, setting := range os.Environ() {
		if name, _, _ := strings.Cut(setting, "="); strings.HasPrefix(name, "GO") || strings.HasPrefix(name, "CGO") || name == "CC" || name == "CXX" {
			fmt.Fprintf(w, "%s\n", setting)
		}
	}
	if config, err := os.UserConfigDir(); err == nil {
		kept, _ := os.ReadFile(filepath.Join(config, "go", "env")) // of "go env -w"; most have none
		fmt.Fprintf(w, "%s\n", kept)
	}
	return nil
}

// toolchainBin returns the folder of the toolchain's programs, "" if it is not known. It asks the toolchain, which takes
// longer than many a test run, only if something has changed since the last time.
func (a *Adapter) toolchainBin() string {
	file, key := filepath.Join(a.Store, "toolchain"), a.toolchainKey()
	kept, _ := os.ReadFile(file)
	if bin, same := strings.CutPrefix(string(kept), key+"\n"); same && key != "" {
		if _, err := os.Stat(bin); err == nil {
			return bin
		}
	}
	var root strings.Builder
	if a.toolchain(context.Background(), &root, io.Discard, "env", "GOROOT") != nil || root.Len() < 2 {
		return ""
	}
	bin := filepath.Join(strings.TrimSpace(root.String()), "bin")
	if key != "" {
		_ = owned.WriteData(file, []byte(key+"\n"+bin)) // otherwise the next run asks again
	}
	return bin
}

// toolchainKey identifies what decides which toolchain the module's go.mod chooses; "" if a workspace decides, too.
func (a *Adapter) toolchainKey() string {
	sum := sha256.New()
	mod, err := os.ReadFile(filepath.Join(a.root, "go.mod"))
	if err != nil || describeToolchain(sum) != nil || !selfContained(a.root) {
		return ""
	}
	sum.Write(mod)
	return hex.EncodeToString(sum.Sum(nil))
}

// selfContained reports whether a module is built from nothing but its own
// folder and the module cache: without a workspace and without replacements by
// folders.
func selfContained(root string) bool {
	if os.Getenv("GOWORK") != "off" {
		for dir := root; ; dir = filepath.Dir(dir) {
			if _, err := os.Stat(filepath.Join(dir, "go.work")); err == nil || os.Getenv("GOWORK") != "" {
				return false
			}
			if dir == filepath.Dir(dir) {
				break
			}
		}
	}
	path := filepath.Join(root, "go.mod")
	data, err := os.ReadFile(path)
	if err != nil {
		return false
	}
	mod, err := modfile.ParseLax(path, data, nil)
	if err != nil {
		return false
	}
	for _, r := range mod.Replace {
		if r.New.Version == "" {
			return false
		}
	}
	return true
}

// stampFile keeps the fingerprint of the build in a folder of binaries.
func stampFile(dir string) string { return filepath.Join(dir, "stamp") }

// upToDate reports whether the binaries in a folder are those of this fingerprint.
func upToDate(dir, fingerprint string) bool {
	kept, err := os.ReadFile(stampFile(dir))
	return err == nil && fingerprint != "" && string(kept) == fingerprint
}
