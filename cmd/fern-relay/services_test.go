package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fernrelay/core/hunt"
	"fernrelay/internal/testfiles"
)

// servedProject is a project whose tests use Redis and PostgreSQL, with commands that print and reset what these hold, in two batches
// of shell scripts. What prepare makes in the database is there in each fresh state.
func servedProject(t *testing.T) string {
	t.Helper()
	needServers(t)
	dir := storesExample(t)
	testfiles.Write(t, dir, map[string]string{
		"fern.toml": `[[service]]
name = "redis"
start = "redis-server --bind 127.0.0.1 --port {port} --dir {data} --save ''"
ready = "redis-cli -p {port} ping"
every = "50ms"
env = { STOCK_REDIS = "{port}" }
state = "./keys {port}"
reset = "redis-cli -p {port} flushall"

[[service]]
name = "postgres"
create = "./postgres create {data}"
start = "./postgres start {data} {port}"
ready = "./postgres ready {port}"
every = "100ms"
within = "60s"
env = { STOCK_POSTGRES = "{port}" }
state = "psql -h 127.0.0.1 -p {port} -U postgres -At -F = -c 'select plant, litres from stock'"
reset = "psql -q -h 127.0.0.1 -p {port} -U postgres -c 'drop table if exists stock'"

[workers]
services = ["redis", "postgres"]
prepare = "./prepare"

[[suite]]
name = "stock"
kind = "command"
list = "printf 'looks\nsells_fern\ncounts\nbuys_tea\nno_tea\nsells_moss\nno_moss\n'"
run = "./check {name}"
`,
		"keys":    "#!/bin/sh\nredis-cli -p $1 --scan | while read -r key; do echo \"$key = $(redis-cli -p $1 get \"$key\")\"; done\n",
		"prepare": "#!/bin/sh\npsql -q -h 127.0.0.1 -p $STOCK_POSTGRES -U postgres -c 'create table if not exists stock (plant text, litres int)'\n",
		"check": `#!/bin/sh
redis="redis-cli -p $STOCK_REDIS"
sql() { psql -h 127.0.0.1 -p $STOCK_POSTGRES -U postgres -At -c "$1"; }
case $1 in
buys_tea) $redis set stock:tea 5;;
no_tea) test -z "$($redis get stock:tea)";;
counts) $redis incr visits;;
sells_fern) sql "delete from stock where plant = 'fern'";;
sells_moss) sql "insert into stock values ('moss', 7)";;
no_moss) test "$(sql "select count(*) from stock where plant = 'moss'")" = 0;;
esac
`})
	for _, name := range []string{"keys", "prepare", "check"} {
		if err := os.Chmod(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// TestServiceState hunts tests that fail because of a key in Redis and of a row in PostgreSQL: both are named, and proved.
func TestServiceState(t *testing.T) {
	dir := servedProject(t)
	if got := fern(t, dir, "run", "--order", "as-written", "--workers", "1"); got.status != 1 || !strings.Contains(got.stdout, "7 picked: 5 passed, 2 failed") {
		t.Fatalf("status %d\n%s%s", got.status, got.stdout, got.stderr)
	}
	got := fern(t, dir, "hunt", "--json", "--workers", "2")
	var found struct{ Victims []hunt.Finding }
	if err := json.Unmarshal([]byte(got.stdout), &found); err != nil || len(found.Victims) != 2 {
		t.Fatalf("%v\n%s%s", err, got.stdout, got.stderr)
	}
	want := map[string][]string{"stock:.#no_tea": {"stock:.#buys_tea", "stock:tea in redis", "5"}, "stock:.#no_moss": {"stock:.#sells_moss", "moss in postgres", "7"}}
	for _, f := range found.Victims {
		if len(f.Culprits) != 1 || len(f.Changed) != 1 {
			t.Errorf("%+v", f)
			continue
		}
		c := f.Changed[0]
		if got := []string{f.Culprits[0][0], c.Name, c.After}; !slices.Equal(got, want[f.ID]) || c.Kind != hunt.Service || c.Before != hunt.Absent || !c.Proved {
			t.Errorf("%s: %v, %+v; want %v", f.ID, got, c, want[f.ID])
		}
	}
	testfiles.Write(t, dir, map[string]string{"keys": "#!/bin/sh\necho broken >&2\nexit 3\n"})
	if got := fern(t, dir, "hunt", "no_tea"); !strings.Contains(got.stdout+got.stderr, `the service redis: exit status 3: state = "./keys`) {
		t.Errorf("a state command that fails: %d\n%s%s", got.status, got.stdout, got.stderr)
	}
}
