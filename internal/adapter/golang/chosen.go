package golang

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"fernrelay/internal/owned"
)

// describeToolchain writes what decides which toolchain builds, and how: its program and its settings, some of which env replaces.
func describeToolchain(w io.Writer, env []string) error {
	toolchain, err := exec.LookPath("go")
	if err != nil {
		return fmt.Errorf("the Go toolchain is missing: %w: install it, or put its bin folder on PATH", err)
	}
	info, err := os.Stat(toolchain)
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "%s %d %d\n", toolchain, info.Size(), info.ModTime().UnixNano())
	for _, setting := range slices.Concat(os.Environ(), env) {
		if name, _, _ := strings.Cut(setting, "="); isToolchainSetting(name) {
			fmt.Fprintf(w, "%q\n", setting)
		}
	}
	kept, _ := os.ReadFile(settingsFile()) // most have none
	fmt.Fprintf(w, "%s\n", kept)
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
	if a.toolchain(context.Background(), nil, &root, io.Discard, "env", "GOROOT") != nil || root.Len() < 2 {
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
	if err != nil || describeToolchain(sum, a.toolchainEnv()) != nil || slices.ContainsFunc(a.workFiles(), exists) {
		return ""
	}
	sum.Write(mod)
	return hex.EncodeToString(sum.Sum(nil))
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
