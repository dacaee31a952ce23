package project

import (
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"

	"fernrelay/core/pick"
)

// Machine is this machine, for conditions. It finds out what takes time when it is first needed.
func Machine(dir string) *pick.Machine {
	return &pick.Machine{
		Env:  os.LookupEnv,
		OS:   runtime.GOOS,
		Arch: runtime.GOARCH,
		Program: func(name string) bool {
			_, err := exec.LookPath(name)
			return err == nil
		},
		Go: sync.OnceValue(func() string {
			cmd := exec.Command("go", "env", "GOVERSION")
			cmd.Dir = dir // a module may ask for its own toolchain
			out, err := cmd.Output()
			if err != nil {
				return ""
			}
			version, _, _ := strings.Cut(strings.TrimSpace(string(out)), " ")
			return version
		}),
	}
}
