package main

import (
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fernrelay/core/lazy"
)

// needs is a check of a command's arguments: from least to most of them, most below 0 for any number. what names them in words.
func needs(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) >= least && (most < 0 || len(args) <= most) {
			return nil
		}
		if len(args) > most && most >= 0 {
			return fmt.Errorf("%s takes %s, and %q is one too many: leave it out", cmd.CommandPath(), what, args[most])
		}
		return fmt.Errorf("%s takes %s; write it as in: %s", cmd.CommandPath(), what, strings.TrimSuffix(cmd.UseLine(), " [flags]"))
	}
}

// none refuses arguments. A word that nobody expects is often a test or a pick.
func none(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	if names := suggestions(cmd, args[0]); cmd.HasSubCommands() && len(names) > 0 {
		return fmt.Errorf("%s has no command %q: did you mean %s?", cmd.CommandPath(), args[0], strings.Join(names, " or "))
	}
	if cmd.HasSubCommands() {
		return fmt.Errorf("%s has no command %q: %s --help lists them", cmd.CommandPath(), args[0], cmd.CommandPath())
	}
	if cmd.Flags().Lookup("pick") != nil {
		return fmt.Errorf("%s takes no argument, and %q is one: a pick goes into -p, as in -p %q", cmd.CommandPath(), args[0], args[0])
	}
	return fmt.Errorf("%s takes no argument, and %q is one: leave it out", cmd.CommandPath(), args[0])
}

// folder checks the argument of the program itself: a folder, and no mistyped command.
func folder(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	if err := mistyped(cmd, args[0]); err != nil {
		return err
	}
	return needs(0, 1, "a folder")(cmd, args)
}

// mistyped returns an error for a word that is no folder: it names the commands that are spelled alike.
func mistyped(root *cobra.Command, word string) error {
	if _, err := os.Stat(word); err == nil || word == "" {
		return nil
	}
	if names := suggestions(root, word); len(names) > 0 {
		return fmt.Errorf("there is no command or folder %q: did you mean %s?", word, strings.Join(names, " or "))
	}
	return fmt.Errorf("there is no command or folder %q: fern-relay --help lists the commands", word)
}

// suggestions returns the commands that are spelled like a word, those with the same first letter first.
func suggestions(cmd *cobra.Command, word string) []string {
	cmd.SuggestionsMinimumDistance = 2
	names := cmd.SuggestionsFor(word)
	slices.Sort(names)
	alike := func(name string) int {
		if name[0] == word[0] {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(names, func(a, b string) int { return alike(a) - alike(b) })
	return names
}

// wrongFlag explains a flag that a command does not have: that of an earlier version, or of a mistyped command.
func wrongFlag(cmd *cobra.Command, err error) error {
	if !cmd.HasParent() {
		for _, word := range os.Args[1:] {
			if strings.HasPrefix(word, "-") {
				continue
			}
			if mistake := mistyped(cmd, word); mistake != nil {
				return mistake
			}
			break
		}
	}
	if parts := wrongValue().FindStringSubmatch(err.Error()); parts != nil {
		return fmt.Errorf("%s is %q: %s", parts[2], parts[1], expectedValue(cmd, parts[2]))
	}
	var unknown *pflag.NotExistError
	if errors.As(err, &unknown) && renamedFlags[unknown.GetSpecifiedName()] != "" {
		return fmt.Errorf("%w: write %s", err, renamedFlags[unknown.GetSpecifiedName()])
	}
	return fmt.Errorf("%w: %s --help lists the flags", err, cmd.CommandPath())
}

// wrongValue is how the package of flags reports a value that a flag cannot take.
var wrongValue = lazy.Regexp(`(?s)^invalid argument "(.*)" for "(?:-\w, )?(--[\w-]+)" flag: `)

// expectedValue says what a flag takes.
func expectedValue(cmd *cobra.Command, name string) string {
	flag := cmd.Flags().Lookup(strings.TrimPrefix(name, "--"))
	switch {
	case flag != nil && flag.Value.Type() == "int":
		return "a whole number is expected"
	case flag != nil && flag.Value.Type() == "duration":
		return "a time with its unit is expected, as in 30s or 2m"
	case flag != nil && flag.Value.Type() == "float64":
		return "a number is expected"
	}
	return fmt.Sprintf("%s --help says what it takes", cmd.CommandPath())
}

// version describes the program by what the toolchain knows of its build.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	settings := map[string]string{}
	for _, s := range info.Settings {
		settings[s.Key] = s.Value
	}
	text := info.Main.Version
	if revision := settings["vcs.revision"]; revision != "" {
		text = revision[:min(len(revision), 12)]
		if settings["vcs.modified"] == "true" {
			text += " with changes"
		}
		text += " of " + settings["vcs.time"]
	}
	return fmt.Sprintf("%s, %s %s/%s", text, info.GoVersion, settings["GOOS"], settings["GOARCH"])
}
