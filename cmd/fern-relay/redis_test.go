package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestRedisExample runs the example on a real server: four workers never meet in it
// and leave nothing behind; without their spaces they would.
func TestRedisExample(t *testing.T) {
	const example = "../../examples/redis"
	port := os.Getenv("TANKS_PORT")
	if port == "" {
		if got := fern(t, example, "run", "-C", copied(t, example)); got.status != 0 || !strings.Contains(got.stdout, "it runs only if env:TANKS_PORT") {
			t.Errorf("without a server: status %d\n%s%s", got.status, got.stdout, got.stderr)
		}
		t.Skip("TANKS_PORT does not say where a Redis server is: .ci/run starts one")
	}
	dir := copied(t, example)
	got := fern(t, dir, "run", "--repeat", "2")
	if got.status != 0 || strings.Count(got.stdout, "12 passed; ") != 2 {
		t.Errorf("status %d:\n%s%s", got.status, got.stdout, got.stderr)
	}
	if keys, err := exec.Command("redis-cli", "-p", port, "keys", "fern*").Output(); err != nil || strings.TrimSpace(string(keys)) != "" {
		t.Errorf("left are %s, %v", keys, err)
	}
	config := filepath.Join(dir, "fern.toml")
	text, err := os.ReadFile(config)
	if err != nil {
		t.Fatal(err)
	}
	shared := strings.Replace(string(text), `TANKS_SPACE = "{space}"`, `TANKS_SPACE = "fern_shared_"`, 1)
	if err := os.WriteFile(config, []byte(shared), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := fern(t, dir, "run", "-p", "name:drain"); got.status != 1 || !strings.Contains(got.stdout, "the level: got ") {
		t.Errorf("in one space for all: status %d:\n%s", got.status, got.stdout)
	}
	_ = exec.Command("redis-cli", "-p", port, "del", "fern_shared_level").Run()
}

// copied copies a project into a folder of the test's own.
func copied(t *testing.T, project string) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS(project)); err != nil {
		t.Fatal(err)
	}
	return dir
}
