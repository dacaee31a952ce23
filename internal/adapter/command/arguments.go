package command

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"fernrelay/core/catalog"
	"fernrelay/internal/adapter"
	"fernrelay/internal/owned"
	"fernrelay/internal/process"
)

// share returns those of the tests that the next process runs.
func (s *session) share(tests []catalog.Test) []catalog.Test {
	tests = tests[:adapter.Shared(tests)]
	switch {
	case s.adapter.alone():
		return tests[:1]
	case s.adapter.holds("{file}"): // beside the names
		file := tests[0].File
		tests = slices.DeleteFunc(slices.Clone(tests), func(t catalog.Test) bool { return t.File != file })
	}
	return tests[:s.fitting(tests)]
}

// fitting counts the tests, at least one, whose names and files have room among the arguments of a program.
func (s *session) fitting(tests []catalog.Test) int {
	takesNames, takesFiles := s.adapter.holds("{names}"), s.adapter.holds("{files}")
	if !takesNames && !takesFiles {
		return len(tests)
	}
	room := process.ArgumentRoom(slices.Concat(os.Environ(), s.slot.Env, s.adapter.Config.Run))
	for i := range tests {
		if takesNames {
			room -= process.ArgumentSize(tests[i].Name)
		}
		if file := s.file(&tests[i]); takesFiles && file != "" && (i == 0 || tests[i].File != tests[i-1].File) {
			room -= process.ArgumentSize(file)
		}
		if room < 0 {
			return max(1, i)
		}
	}
	return len(tests)
}

// files makes the files that a process of tests writes and reads, by their placeholders, each with a path of its own, so that nobody
// reads the report of an earlier process. remove removes them.
func (s *session) files(tests []catalog.Test) (paths map[string]string, remove func(), err error) {
	if !s.adapter.holds("{report}") && !s.adapter.holds("{names-file}") {
		return nil, func() {}, nil
	}
	folder, err := owned.MakeFolder(s.slot.Temp)
	if err != nil {
		return nil, nil, err
	}
	remove = func() { _ = folder.Remove() } // else with the slot
	paths = map[string]string{}
	if s.adapter.holds("{report}") {
		paths["report"] = filepath.Join(folder.Path(), "report")
	}
	if !s.adapter.holds("{names-file}") {
		return paths, remove, nil
	}
	paths["names-file"] = filepath.Join(folder.Path(), "names")
	if err := os.WriteFile(paths["names-file"], []byte(process.NameLines(names(tests))), 0o600); err != nil {
		remove()
		return nil, nil, fmt.Errorf("the names of the tests cannot be written: %w", err)
	}
	return paths, remove, nil
}

// names returns the names of tests, in order.
func names(tests []catalog.Test) []string {
	names := make([]string, len(tests))
	for i := range tests {
		names[i] = tests[i].Name
	}
	return names
}

// words is the run command for some tests, with the paths of files by their placeholders.
func (s *session) words(tests []catalog.Test, paths map[string]string) []string {
	var files []string
	seen := map[string]bool{}
	for i := range tests {
		if file := s.file(&tests[i]); file != "" && !seen[file] {
			files, seen[file] = append(files, file), true
		}
	}
	values := s.slot.Values()
	maps.Copy(values, paths)
	if len(tests) > 0 {
		values["name"], values["file"] = tests[0].Name, s.file(&tests[0])
	}
	var words []string
	for _, word := range s.adapter.Config.Run {
		switch word {
		case "{names}":
			words = append(words, names(tests)...)
		case "{files}":
			words = append(words, files...)
		default:
			words = append(words, process.Fill(word, values))
		}
	}
	return words
}

// file is a test's file as seen from the suite's folder.
func (s *session) file(t *catalog.Test) string {
	file, err := filepath.Rel(filepath.FromSlash(s.adapter.Below), filepath.FromSlash(t.File))
	if err != nil || t.File == "" {
		return t.File
	}
	return file
}
