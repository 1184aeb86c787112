package policy

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
)

// Run is how a report comes about that Zinc Door makes by itself: the linter it starts, and on what.
type Run struct {
	Command     []string      // the program and its arguments; the files it is given stand after them
	Folder      string        // where it starts, from the repository's root; "" for the root
	Environment []string      // NAME=value, on top of what there is, sorted
	Timeout     time.Duration // after which it is ended
	Found       []int         // exit codes beside 0 that end a good run
	Failed      []int         // exit codes that tell that it failed; so does every other that isn't declared
	Output      string        // OnStdout or OnStderr; a report with files is read from these
	Files       []string      // globs of the files it is given; empty for a linter that finds its files by itself
	Changed     bool          // it is given those of the change alone
	PerFile     bool          // what it says of a file depends on that file, its inputs and its version alone
	Inputs      []string      // globs of files that it reads beside those it is given
	Base        bool          // it is run on the state before the change too
}

// Where a linter writes what it finds, unless it is a file.
const (
	OnStdout = "stdout"
	OnStderr = "stderr"
)

// Patience is how long a linter may take where its report doesn't say.
const Patience = 10 * time.Minute

// Declares reports whether a run that ended with a code is a good one.
func (r *Run) Declares(code int) bool {
	return !slices.Contains(r.Failed, code) && (code == 0 || slices.Contains(r.Found, code))
}

// TakesFiles reports whether the linter is given files as arguments.
func (r *Run) TakesFiles() bool { return len(r.Files) > 0 }

// runKeys reads the keys of a report that tell how it is made. Those that stand without run are returned.
func (r *reader) runKeys(report *Report) (read map[string]func(ast.Node), orphans func() []ast.Node) {
	run := &Run{Timeout: Patience, Output: OnStdout}
	var others []ast.Node
	of := func(do func(ast.Node)) func(ast.Node) {
		return func(n ast.Node) {
			others = append(others, n)
			do(n)
		}
	}
	read = map[string]func(ast.Node){
		"run": func(n ast.Node) { run.Command, report.Run = r.texts(n, "run"), run },
		"folder": of(func(n ast.Node) {
			run.Folder = r.text(n, "folder")
			r.checkInside(n, "folder", run.Folder)
		}),
		"environment": of(func(n ast.Node) { run.Environment = r.environment(n) }),
		"timeout":     of(func(n ast.Node) { run.Timeout = r.duration(n, "timeout") }),
		"exits": of(func(n ast.Node) {
			r.mapping(n, keys{what: "exits", read: map[string]func(ast.Node){
				"found":  func(n ast.Node) { run.Found = r.codes(n, "found") },
				"failed": func(n ast.Node) { run.Failed = r.codes(n, "failed") },
			}})
			for _, code := range run.Found {
				if slices.Contains(run.Failed, code) {
					r.complain(n, "exits: %d can't tell both that something was found and that the linter failed", code)
				}
			}
		}),
		"output": of(func(n ast.Node) { run.Output = oneOf(r, n, "output", []string{OnStdout, OnStderr}) }),
		"files":  of(func(n ast.Node) { run.Files = r.globs(n, "path") }),
		"only":   of(func(n ast.Node) { run.Changed = oneOf(r, n, "only", []string{"changed"}) != "" }),
		"per":    of(func(n ast.Node) { run.PerFile = oneOf(r, n, "per", []string{"file"}) != "" }),
		"inputs": of(func(n ast.Node) { run.Inputs = r.globs(n, "path") }),
		"base":   of(func(n ast.Node) { run.Base = r.boolean(n, "base") }),
	}
	return read, func() []ast.Node {
		if report.Run == nil {
			return others
		}
		if (run.Changed || run.PerFile) && len(run.Files) == 0 {
			run.Files = []string{"**"}
		}
		return nil
	}
}

// environment reads variables by their names.
func (r *reader) environment(n ast.Node) (all []string) {
	for _, f := range r.fields(n, "environment") {
		value, ok := scalar(r.resolve(f.value))
		switch {
		case f.name == "" || strings.ContainsAny(f.name, "=\x00"):
			r.complain(f.key, "%q can't be the name of a variable", f.name)
		case !ok:
			r.complain(f.value, "a variable is one value, not %s", kindOf(r.resolve(f.value)))
		default:
			all = append(all, f.name+"="+value)
		}
	}
	slices.Sort(all)
	return all
}

func (r *reader) duration(n ast.Node, what string) time.Duration {
	s := r.text(n, what)
	d, err := time.ParseDuration(s)
	if s != "" && (err != nil || d <= 0) {
		r.complain(n, "%s is a time like 90s or 2m, not %q", what, s)
	}
	return d
}

// codes reads exit codes, 0 to 255.
func (r *reader) codes(n ast.Node, what string) (all []int) {
	for _, s := range r.texts(n, what) {
		code, err := strconv.Atoi(s)
		if err != nil || code < 0 || code > 255 {
			r.complain(n, "exits: %s takes exit codes from 0 to 255, not %q", what, s)
			continue
		}
		all = append(all, code)
	}
	return all
}

// write adds the run's keys to those of its report.
func (r *Run) write(set func(key, value string)) {
	lists(set, []keyed{{"run", r.Command}})
	if r.Folder != "" {
		set("folder", word(r.Folder))
	}
	if len(r.Environment) > 0 {
		set("environment", flow(func(set func(key, value string)) {
			for _, pair := range r.Environment {
				name, value, _ := strings.Cut(pair, "=")
				set(word(name), strconv.Quote(value))
			}
		}))
	}
	set("timeout", word(r.Timeout.String()))
	if len(r.Found)+len(r.Failed) > 0 {
		set("exits", flow(func(set func(key, value string)) {
			lists(set, []keyed{{"found", numbers(r.Found)}, {"failed", numbers(r.Failed)}})
		}))
	}
	if r.Output != OnStdout {
		set("output", r.Output)
	}
	lists(set, []keyed{{"files", r.Files}, {"inputs", r.Inputs}})
	for _, part := range []struct {
		key, value string
		is         bool
	}{{"only", "changed", r.Changed}, {"per", "file", r.PerFile}, {"base", "true", r.Base}} {
		if part.is {
			set(part.key, part.value)
		}
	}
}

func numbers(list []int) (all []string) {
	for _, n := range list {
		all = append(all, strconv.Itoa(n))
	}
	return all
}
