package evidence

import (
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/target"
)

// origin is where a report comes from, and what is expected of it.
type origin struct {
	name   string         // of the evidence
	file   string         // in the folder of the call, - for standard input
	tree   string         // in its place: a path of the work tree that the policy names
	format string         // "" to find out
	recipe *policy.Recipe // nil for none
	needed bool
	terms  policy.Report // what the policy says of the report; the zero value where it says nothing
	runs   bool          // in the place of a file, the linter that the policy names is started
	unsent bool          // it ought to have been sent
}

// isText reports whether a recipe for lines of text reads it.
func (o origin) isText() bool { return o.recipe != nil && o.recipe.As == policy.PlainText }

// origins are the reports that the call gives, and beside them those that the policy names and the call gives nothing in
// the place of. Of the state before a change there are only those of the call, and the linters that are run on it.
func (q Request) origins() ([]origin, error) {
	all, stood, err := q.givenOrigins()
	if err != nil || q.Given.Alone && !q.Given.Start {
		return all, err
	}
	before := q.Target.Before
	reports, needed := q.Policy.Needed(q.Door)
	for _, terms := range reports {
		if stood[terms.Name] {
			continue
		}
		from := origin{name: terms.Name, format: terms.As, recipe: q.Policy.Recipe(terms.As), needed: needed[terms.Name], terms: terms}
		if q.Given.Sent {
			if from.unsent = true; from.needed && (!before || terms.Run != nil && terms.Run.Base) {
				all = append(all, from)
			}
			continue
		}
		if terms.Run != nil {
			if from.runs = true; !before || terms.Run.Base {
				all = append(all, from)
			}
			continue
		}
		if q.Given.Alone {
			continue
		}
		for _, file := range terms.Files {
			from.name, from.tree = terms.Name, file
			if len(terms.Files) > 1 {
				from.name += ": " + file
			}
			if !before && (from.needed || q.onDisk(file)) {
				all = append(all, from)
			}
		}
	}
	return all, nil
}

// givenOrigins are the reports that the call gives, and the names of those of the policy that they stand in for.
func (q Request) givenOrigins() (all []origin, stood map[string]bool, err error) {
	p := q.Policy
	stood = map[string]bool{}
	for _, given := range q.Given.Files {
		from := origin{name: target.FileName(given.Path), file: given.Path, needed: true}
		if q.Given.Alone {
			from.name = filepath.Base(given.Path)
		}
		terms, named := p.Report(given.Name)
		if stem, _, _ := strings.Cut(from.name, "."); q.Given.Alone && given.Name == "" {
			if terms, named = p.Report(stem); named {
				given.Name = stem
			}
		}
		switch {
		case given.Name == "":
		case slices.Contains(p.FormatNames(), given.Name):
			from.format = given.Name
		case named:
			from.name, from.format, from.terms, stood[given.Name] = terms.Name, terms.As, terms, true
		default:
			return nil, nil, target.WrongCall("--report %s=%s: no format and no report of the policy is called %q; there are %s", given.Name, given.Path, given.Name, listReports(p))
		}
		from.recipe = p.Recipe(from.format)
		all = append(all, from)
	}
	return all, stood, nil
}

func listReports(p *policy.Policy) string {
	names := p.FormatNames()
	for _, r := range p.Reports {
		names = append(names, r.Name)
	}
	return strings.Join(names, ", ")
}

func (q Request) onDisk(file string) bool {
	_, err := os.Lstat(target.InDir(q.Target.Root, filepath.FromSlash(file)))
	return err == nil
}

// open opens a report for reading. What the policy names is never read from outside the work tree.
func (q Request) open(from origin) (io.ReadCloser, error) {
	switch {
	case from.file == "-":
		return io.NopCloser(q.Given.Stdin), nil
	case from.tree == "":
		return os.Open(target.InDir(q.Given.Dir, from.file))
	}
	root, err := os.OpenRoot(q.Target.Root)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.Open(filepath.FromSlash(from.tree))
}
