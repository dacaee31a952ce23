package project

import (
	"context"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"time"

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
		Version: versionOf,
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

// How long a program may take to print its version, and how much of that is read.
const (
	versionTime = 5 * time.Second
	versionMost = 200
)

// versions has what programs printed about their versions, by their paths, so that each is asked once.
var versions sync.Map

// versionOf returns the first line that a program prints when it is asked for its version, "" if it cannot be asked.
func versionOf(program string) string {
	path, err := exec.LookPath(program)
	if err != nil {
		return ""
	}
	ask := func() string {
		ctx, cancel := context.WithTimeout(context.Background(), versionTime)
		defer cancel()
		cmd := exec.CommandContext(ctx, path, "--version")
		cmd.WaitDelay = versionTime
		out, err := cmd.CombinedOutput() // some print it as an error
		line, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
		if err != nil && line == "" {
			return ""
		}
		return line[:min(len(line), versionMost)]
	}
	once, _ := versions.LoadOrStore(path, sync.OnceValue(ask))
	return once.(func() string)()
}
