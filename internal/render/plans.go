package render

import (
	"fmt"
	"io"
	"strings"
)

// Plan is a linter that would be started, for people to see.
type Plan struct {
	Name    string
	Command []string
	Where   string
	Folder  string
	Files   []string // that it would be asked about; nil where it finds its files by itself
	Known   int      // of how many more the answer is known
	Before  bool     // it would be run on the state before the change
	Refused string
	Skipped bool
}

// Plans shows which linters would be started on what.
func Plans(w io.Writer, all []Plan) error {
	s := &screen{look: lookFor(w), w: w}
	if len(all) == 0 {
		s.line("no linter would start: the policy names none for this door (run: in reports:)")
	}
	for _, p := range all {
		name := Safe(p.Name)
		if p.Before {
			name = "before the change: " + name
		}
		s.line("%s  %s", s.bold.Render(name), s.zinc.Render(Safe(ShellWords(p.Command))))
		where := p.Where
		if p.Folder != "" {
			where += ", in " + p.Folder
		}
		switch {
		case p.Refused != "":
			s.bullet("refused", Safe(p.Refused))
		case p.Skipped:
			s.bullet("skip", "no file for it")
			s.line("")
			continue
		}
		s.bullet("where", Safe(where))
		if p.Files == nil && p.Known == 0 {
			s.bullet("files", "found by the linter itself")
		} else {
			known := ""
			if p.Known > 0 {
				known = fmt.Sprintf(", and %d with kept answers", p.Known)
			}
			s.bullet("files", fmt.Sprintf("%d%s", len(p.Files), known))
			for _, file := range p.Files {
				s.line("%s%s", strings.Repeat(" ", indent), Safe(file))
			}
		}
		s.line("")
	}
	return s.err
}

// ShellWords writes a command as a person would type it.
func ShellWords(command []string) string {
	words := make([]string, len(command))
	for i, word := range command {
		words[i] = word
		if word == "" || strings.ContainsAny(word, " \t\n'\"\\$`*?[]{}()<>|&;#~!") {
			words[i] = "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
		}
	}
	return strings.Join(words, " ")
}
