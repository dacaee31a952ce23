package main

import (
	"strings"

	"github.com/spf13/cobra"
)

// groups are the headings under which the commands are listed, with the commands.
var groups = []struct {
	id, title string
	commands  []string
}{
	{"start", "To start", []string{"demo", "init", "doctor"}},
	{"select", "To select and plan", []string{"list", "why", "split"}},
	{"run", "To run", []string{"run", "watch", "replay"}},
	{"hunt", "To hunt", []string{"hunt"}},
	{"history", "For the history and reports", []string{"ledger", "report", "merge", "draw"}},
	{"matrix", "For versions and services", []string{"matrix"}},
	{"fleet", "For many machines", []string{"fleet", "station"}},
}

// examples are two uses of each command, as the demo project has them.
var examples = map[string][]string{
	"demo":              {"demo", "demo --plain"},
	"init":              {"init", "init --list ./tests --run './check {name}'"},
	"doctor":            {"doctor", "doctor --json"},
	"list":              {"list -p 'frost not nightly'", "list --count group"},
	"why":               {"why drip#holds_when_dry -p 'valve not store'", "why counts_litres --json"},
	"split":             {"split --shards 4", "split --within 30s"},
	"run":               {"run -p 'in:irrigation/** took<1s' --workers 4", "run --shard 2/6 --junit report.xml"},
	"watch":             {"watch", "watch --fleet-run build-418"},
	"replay":            {"replay last", "replay 26 --worker 2"},
	"hunt":              {"hunt --from shard-2.jsonl", "hunt counts_litres --patch repair.diff"},
	"report":            {"report last -o run.html", "report 26 -o summary.md"},
	"merge":             {"merge shard-*.xml --junit all.xml", "merge parts/*.json -o matrix.html"},
	"draw":              {"draw timeline -o run.svg", "draw shards --shards 4 -o plan.pdf"},
	"matrix":            {"matrix", "matrix --json --pairs"},
	"matrix run":        {"matrix run --at store=shelf", "matrix run --as-ci"},
	"matrix jobs":       {"matrix jobs", "matrix jobs --shards 2"},
	"fleet status":      {"fleet status build-418", "fleet status build-418 --json"},
	"fleet collect":     {"fleet collect build-418 --junit all.xml", "fleet collect build-418 --timeout 30m"},
	"fleet list":        {"fleet list", "fleet list --fleet nats://127.0.0.1:4222"},
	"fleet forget":      {"fleet forget build-418", "fleet forget build-418 --fleet nats://127.0.0.1:4222"},
	"station":           {"station --store /var/lib/fern", "station --listen 0.0.0.0:4222 --token-file token"},
	"ledger runs":       {"ledger runs", "ledger runs -p crossing:store=shelf"},
	"ledger show":       {"ledger show last", "ledger show 26 --json"},
	"ledger test":       {"ledger test counts_litres", "ledger test counts_litres --json"},
	"ledger slow":       {"ledger slow", "ledger slow -p in:irrigation --most 5"},
	"ledger shaky":      {"ledger shaky", "ledger shaky --runs 10"},
	"ledger causes":     {"ledger causes", "ledger causes 26"},
	"ledger compare":    {"ledger compare last", "ledger compare 9 26"},
	"ledger quarantine": {"ledger quarantine quarantine.toml", "ledger quarantine quarantine.toml --json"},
	"ledger timings":    {"ledger timings -o timings.csv", "ledger timings"},
	"ledger import":     {"ledger import ci-reports/", "ledger import report.xml"},
	"ledger export":     {"ledger export -o past.csv", "ledger export --json -o past.jsonl"},
	"ledger pull":       {"ledger pull", "ledger pull --fleet nats://127.0.0.1:4222"},
	"ledger rename":     {"ledger rename unit go", "ledger rename go:old go:new"},
	"ledger forget":     {"ledger forget --runs 100", "ledger forget --days 90"},
	"ledger check":      {"ledger check", "ledger check -C ."},
}

// describe adds groups and examples to all commands.
func describe(root *cobra.Command) {
	for _, g := range groups {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title + ":"})
		for _, name := range g.commands {
			if cmd, _, err := root.Find([]string{name}); err == nil && cmd != root {
				cmd.GroupID = g.id
			}
		}
	}
	for path, lines := range examples {
		if cmd, _, err := root.Find(strings.Fields(path)); err == nil && cmd.CommandPath() == root.Name()+" "+path {
			cmd.Example = "  fern-relay " + strings.Join(lines, "\n  fern-relay ")
		}
	}
}
