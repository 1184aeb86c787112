package lint

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// readsVariable is the environment variable in which gcc, and whatever else follows it, finds the file to write to what it
// reads: as rules of make, system headers aside.
const readsVariable = "DEPENDENCIES_OUTPUT"

// Reads are the files that a linter told that it reads, sorted, by the file that it was asked about. A file of which it
// told nothing isn't there.
type Reads map[string][]string

// readRules takes the rules of make in a file: the first file that a target depends on is the one asked about. Files of other
// folders than the site's are left out. Where there is no such file, or what it names isn't there, nothing is reported.
func (s *site) readRules(name, folder string) Reads {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil
	}
	all := Reads{}
	for rule := range strings.Lines(strings.ReplaceAll(string(text), "\\\n", " ")) {
		files := prerequisites(strings.TrimSuffix(rule, "\n"))
		if len(files) == 0 {
			continue
		}
		about := s.rooted(folder, files[0], "")
		for _, named := range files[1:] {
			file := s.rooted(folder, named, "")
			if filepath.IsAbs(file) {
				continue
			}
			if _, err := os.Stat(filepath.Join(s.dir, filepath.FromSlash(file))); err != nil {
				return nil
			}
			all[about] = append(all[about], file)
		}
		slices.Sort(all[about])
		all[about] = slices.Compact(all[about])
	}
	return all
}

// prerequisites are the files that a rule says its target depends on (the make utility of POSIX, "Target Rules", with the
// quoting of blanks, number signs and dollars that compilers use).
func prerequisites(rule string) (files []string) {
	var word strings.Builder
	behind := false // the colon
	end := func() {
		if behind && word.Len() > 0 {
			files = append(files, word.String())
		}
		word.Reset()
	}
	for i := 0; i < len(rule); i++ {
		next := byte(0)
		if i+1 < len(rule) {
			next = rule[i+1]
		}
		switch c := rule[i]; {
		case c == '\\' && (next == ' ' || next == '#') || c == '$' && next == '$':
			word.WriteByte(next)
			i++
		case c == ':' && !behind && (next == 0 || next == ' '):
			word.Reset()
			behind = true
		case c == ' ' || c == '\t' || c == '\r':
			end()
		default:
			word.WriteByte(c)
		}
	}
	end()
	return files
}

// of are the files asked about for which a file was read, sorted.
func (r Reads) of(file string) (all []string) {
	for about, read := range r {
		if slices.Contains(read, file) {
			all = append(all, about)
		}
	}
	slices.Sort(all)
	return all
}
