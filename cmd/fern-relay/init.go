package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernrelay/core/plain"
	"fernrelay/internal/app"
	"fernrelay/internal/project"
	"fernrelay/internal/scaffold"
	"fernrelay/internal/tui"
	"fernrelay/internal/wording"
)

// initFlags are the flags of the command init.
type initFlags struct {
	list, run, results, host, name string
	print, force                   bool
}

func newInit(s *settings) *cobra.Command {
	f := &initFlags{}
	cmd := &cobra.Command{
		Use:   "init",
		Short: "Write a commented fern.toml from what is found here",
		Long: "Init looks for Go modules, for folders of executable scripts, and for plain tests in\n" +
			"Python and JavaScript, writes a fern.toml that works at once with the main program and the\n" +
			"library that such tests need, and lists the tests once. A program of another kind is added\n" +
			"with --list, --run and --results, a test host with --host.",
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error { return f.init(cmd, s) },
	}
	flags := cmd.Flags()
	flags.StringVar(&f.list, "list", "", "list the tests with this `COMMAND`")
	flags.StringVar(&f.run, "run", "", "run tests with this `COMMAND`; it has {name} or {names}")
	flags.StringVar(&f.results, "results", "", "read results in `FORMAT`: exit, tap, junit, gojson, events")
	flags.StringVar(&f.host, "host", "", "start the test host with this `COMMAND`")
	flags.StringVar(&f.name, "name", "", "the `name` of the suite that is added; default program")
	flags.BoolVar(&f.print, "print", false, "print fern.toml and write nothing")
	flags.BoolVar(&f.force, "force", false, "replace a fern.toml that is there")
	return cmd
}

func (f *initFlags) init(cmd *cobra.Command, s *settings) error {
	dir, err := filepath.Abs(s.dir)
	if err != nil {
		return err
	}
	file := filepath.Join(s.dir, project.FileName)
	if _, err := os.Lstat(file); err == nil && !f.force && !f.print {
		return fmt.Errorf("%s is there already: --print shows what init would write, --force replaces it", file)
	}
	shape, err := f.shape(s.dir)
	if err != nil {
		return err
	}
	if f.asks() {
		wrote, err := tui.Begin(cmd.Context(), dir, shape, func(s *scaffold.Shape) error { return writeShape(dir, s) })
		if err != nil || !wrote {
			return err
		}
		return printFound(cmd, s, file)
	}
	for _, note := range shape.Notes {
		fmt.Fprintln(stderr, "fern-relay: note:", plain.Line(note))
	}
	if len(shape.Suites) == 0 {
		return fmt.Errorf("nothing that looks like tests is in %s, of %s looked at: no Go module, no executable scripts in folders like tests or checks, and no plain tests in files like test_beds.py or test_beds.js. Describe a program with --list and --run, or a test host with --host",
			plain.Line(s.dir), wording.Plural(shape.Looked, "folder"))
	}
	if f.print {
		_, err := io.WriteString(dataOutput(), shape.Config())
		return err
	}
	if err := writeShape(s.dir, shape); err != nil {
		return err
	}
	return printFound(cmd, s, file)
}

// asks reports whether there is a terminal to choose and describe suites on, and no flag has done so.
func (f *initFlags) asks() bool {
	return needTerminal("") == nil && !f.print && f.list == "" && f.run == "" && f.host == ""
}

// writeShape writes the fern.toml of a folder and what its suites need, and says which other files it wrote.
func writeShape(dir string, shape *scaffold.Shape) error {
	written, err := shape.Write(dir)
	if len(written) > 0 {
		fmt.Fprintln(stderr, "fern-relay: note: also written:", plain.Line(strings.Join(written, ", ")))
	}
	return err
}

// shape looks at the folder, and adds the suite that flags describe.
func (f *initFlags) shape(dir string) (*scaffold.Shape, error) {
	shape, err := scaffold.Look(dir)
	if err != nil {
		return nil, err
	}
	switch {
	case f.host != "":
		return shape, shape.Add(scaffold.Suite{Name: f.name, Kind: "host", Dir: ".", Run: f.host})
	case (f.list == "") != (f.run == ""):
		return nil, errors.New("--list and --run go together: one lists the tests, the other runs them")
	case f.list != "":
		return shape, shape.Add(scaffold.Suite{Name: f.name, Kind: "command", Dir: ".", List: f.list, Run: f.run, Results: f.results})
	}
	return shape, nil
}

// printFound lists the tests once and prints what there is.
func printFound(cmd *cobra.Command, s *settings, file string) error {
	r, err := app.Open(cmd.Context(), s.dir, nil)
	if err != nil {
		return fmt.Errorf("%s is written, and its tests cannot be listed yet: %w", file, err)
	}
	defer r.Close()
	s.note(r.Notes)
	out := cmd.OutOrStdout()
	tests, err := r.Pick("")
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "%s is written: %s\n", file, wording.Plural(len(tests), "test"))
	seen := map[string]int{}
	for i := range tests {
		seen[tests[i].Suite]++
	}
	for i := range tests {
		t := &tests[i]
		if n := seen[t.Suite]; n > 0 {
			fmt.Fprintf(out, "    suite %s: %s, such as %s\n", plain.Line(t.Suite), wording.Plural(n, "test"), plain.Line(t.ID))
			seen[t.Suite] = 0
		}
	}
	if words := r.Behind(""); words != "" {
		fmt.Fprintf(out, "    %s\n", words)
	}
	if tags := r.Index.Tags(); len(tags) > 0 {
		fmt.Fprintf(out, "    tags: %s; fern-relay list -p %s picks by one\n", plain.Line(strings.Join(tags[:min(len(tags), 8)], " ")), plain.Line(tags[0]))
	}
	fmt.Fprintf(out, "next: fern-relay run runs them on %s, fern-relay opens the application\n", wording.Plural(r.Workers(), "worker"))
	return nil
}
