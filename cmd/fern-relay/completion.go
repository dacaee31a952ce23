package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/order"
	"fernrelay/internal/app"
)

// completeFrom returns a completion by the project that the command line names. Without a project there is none.
func completeFrom(words func(r *app.App, typed string) []cobra.Completion) cobra.CompletionFunc {
	return func(cmd *cobra.Command, _ []string, typed string) ([]cobra.Completion, cobra.ShellCompDirective) {
		dir, err := cmd.Flags().GetString("directory")
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		r, err := app.Open(cmd.Context(), dir, nil)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		defer r.Close()
		return words(r, typed), cobra.ShellCompDirectiveNoFileComp
	}
}

// mostCompleted bounds the completions that a shell is given.
const mostCompleted = 500

// completeID completes the ID of a test, or the ending of one.
var completeID = completeFrom(func(r *app.App, typed string) (found []cobra.Completion) {
	for i := range r.Catalog.Tests {
		id := r.Catalog.Tests[i].ID
		_, short, _ := strings.Cut(id, ":")
		for _, name := range []string{short, id} {
			if strings.HasPrefix(name, typed) && len(found) < mostCompleted {
				found = append(found, name)
				break
			}
		}
	}
	return found
})

// completeRun completes a run of the ledger, the latest first.
var completeRun = completeFrom(func(r *app.App, typed string) []cobra.Completion {
	found := []cobra.Completion{cobra.CompletionWithDesc("last", "the latest run")}
	runs, err := r.Ledger().List()
	if err != nil {
		return nil
	}
	for i := len(runs) - 1; i >= 0 && len(found) < mostCompleted; i-- {
		if number := fmt.Sprint(runs[i].Number); strings.HasPrefix(number, typed) {
			found = append(found, cobra.CompletionWithDesc(number, runs[i].Began.Format("2 Jan 15:04")))
		}
	}
	return found
})

// completePick completes the last word of a pick: tags, saved picks, fields and their values.
var completePick = completeFrom(func(r *app.App, typed string) (found []cobra.Completion) {
	runes := []rune(typed)
	from, candidates := r.Index.Complete(typed, len(runes))
	for _, c := range candidates[:min(len(candidates), mostCompleted)] {
		text := string(runes[:from]) + c.Text
		if c.Tests >= 0 {
			text = cobra.CompletionWithDesc(text, fmt.Sprint(c.Tests, " tests"))
		}
		found = append(found, text)
	}
	return found
})

// completeCrossing completes the values of a crossing.
var completeCrossing = completeFrom(func(r *app.App, typed string) (found []cobra.Completion) {
	if r.Project.Matrix == nil {
		return nil
	}
	for i := range r.Project.Matrix.Crossings {
		if key := r.Project.Matrix.Crossings[i].Key(); strings.HasPrefix(key, typed) {
			found = append(found, key)
		}
	}
	return found
})

// complete sets what the arguments and flags of all commands are completed with.
func complete(root *cobra.Command) {
	for path, function := range map[string]cobra.CompletionFunc{
		"run": completeID, "why": completeID, "hunt": completeID, "ledger test": completeID,
		"replay": completeRun, "report": completeRun, "ledger show": completeRun, "ledger causes": completeRun, "ledger compare": completeRun,
	} {
		if cmd, _, err := root.Find(strings.Fields(path)); err == nil {
			cmd.ValidArgsFunction = function
		}
	}
	completeFlags(root)
}

// flagCompletions complete the flags that several commands have.
var flagCompletions = map[string]cobra.CompletionFunc{
	"pick":  completePick,
	"at":    completeCrossing,
	"order": cobra.FixedCompletions(order.Names(), cobra.ShellCompDirectiveNoFileComp),
}

// completeFlags sets the completions of a command's own flags and of those of its commands.
func completeFlags(cmd *cobra.Command) {
	for name, function := range flagCompletions {
		if cmd.Flags().Lookup(name) != nil || cmd.PersistentFlags().Lookup(name) != nil {
			_ = cmd.RegisterFlagCompletionFunc(name, function) // it has the flag
		}
	}
	for _, sub := range cmd.Commands() {
		completeFlags(sub)
	}
}
