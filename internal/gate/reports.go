package gate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/report"
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
}

// sources are the reports that the call gives, and beside them those that the policy names and the call gives nothing in
// the place of. Of the state before a change there are only those of the call.
func (s *scene) sources(q Request, r *rules) ([]origin, error) {
	p := r.policy
	var all []origin
	stood := map[string]bool{}
	for _, given := range q.Reports {
		from := origin{name: nameOf(given.File), file: given.File, needed: true}
		if q.Apart {
			from.name = filepath.Base(given.File)
		}
		terms, named := p.Report(given.Name)
		if stem, _, _ := strings.Cut(from.name, "."); q.Apart && given.Name == "" {
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
			return nil, wrongCall("--report %s=%s: no format and no report of the policy is called %q; there are %s", given.Name, given.File, given.Name, listReports(p))
		}
		from.recipe = p.Recipe(from.format)
		all = append(all, from)
	}
	if q.Apart {
		return all, nil
	}
	reports, needed := p.Needed(r.door)
	for _, terms := range reports {
		if terms.Run != nil {
			if !stood[terms.Name] && (!s.before || terms.Run.Base) {
				all = append(all, origin{name: terms.Name, format: terms.As, recipe: p.Recipe(terms.As), needed: needed[terms.Name], terms: terms, runs: true})
			}
			continue
		}
		if s.before {
			continue
		}
		for _, file := range terms.Files {
			from := origin{name: terms.Name, tree: file, format: terms.As, recipe: p.Recipe(terms.As), needed: needed[terms.Name], terms: terms}
			if len(terms.Files) > 1 {
				from.name += ": " + file
			}
			if !stood[terms.Name] && (from.needed || s.onDisk(file)) {
				all = append(all, from)
			}
		}
	}
	return all, nil
}

func listReports(p *policy.Policy) string {
	names := p.FormatNames()
	for _, r := range p.Reports {
		names = append(names, r.Name)
	}
	return strings.Join(names, ", ")
}

func (s *scene) onDisk(file string) bool {
	_, err := os.Lstat(inDir(s.root, filepath.FromSlash(file)))
	return err == nil
}

// open opens a report for reading. What the policy names is never read from outside the work tree.
func (w *witness) open(from origin) (io.ReadCloser, error) {
	switch {
	case from.file == "-":
		return io.NopCloser(w.request.Stdin), nil
	case from.tree == "":
		return os.Open(inDir(w.request.Dir, from.file))
	}
	root, err := os.OpenRoot(w.root)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.Open(filepath.FromSlash(from.tree))
}

// read reads a report.
func (w *witness) read(from origin) *testimony {
	t := &testimony{from: from, evidence: judge.Evidence{Name: from.name, Format: from.format, State: judge.Read, Optional: !from.needed}}
	in, err := w.open(from)
	switch {
	case errors.Is(err, fs.ErrNotExist) && from.tree != "":
		return t.fail(judge.Missing, fmt.Sprintf("there is no %s in the work tree, where the policy looks for it; did the linter run, and write it there? Another file: --report %s=FILE", from.tree, from.terms.Name))
	case errors.Is(err, fs.ErrNotExist):
		return t.fail(judge.Missing, "there is no such file; did the linter run, and write it there?")
	case err != nil:
		return t.fail(judge.Missing, fmt.Sprintf("it can't be read: %v", errors.Unwrap(err)))
	}
	defer in.Close()
	read, err := report.Read(in, report.Form{Format: from.format, Recipe: from.recipe, Flows: w.rules.policy.Place.Flows})
	switch {
	case errors.Is(err, report.ErrMalformed):
		return t.fail(judge.Failed, fmt.Sprintf("%v; run the linter again and keep all of its output", err))
	case err != nil:
		return t.fail(judge.Missing, fmt.Sprintf("it can't be read: %v", err))
	}
	t.report = read
	clean := read.Clean || from.terms.Clean || from.format == policy.Diagnostics && w.request.EmptyIsClean
	return w.assess(t, clean)
}

// assess settles what a report is worth by its own word. One without a finding is so much as an empty one where its tool
// is known to have run.
func (w *witness) assess(t *testimony, clean bool) *testimony {
	from, report := t.from, t.report
	t.evidence.Format = report.Format
	t.evidence.Findings = len(report.Findings)
	for _, notice := range report.Notices {
		w.notices = append(w.notices, from.name+": "+notice)
	}
	lines := report.Format == policy.Diagnostics || from.recipe != nil && from.recipe.As == policy.PlainText
	switch {
	case !t.evidence.Sound():
	case report.Failure != "":
		t.fail(judge.Failed, report.Failure)
	case report.Stopped != "" && !from.terms.Errors:
		t.fail(judge.Failed, report.Stopped)
	case len(report.Findings) > 0 || !lines && !report.Clean:
	case clean:
		t.evidence.State = judge.Empty
	case from.terms.Name != "":
		t.fail(judge.Failed, "it holds no finding, which may mean that nothing ran; where an empty file means that the tool found nothing, the policy says so with clean: empty")
	default:
		t.fail(judge.Failed, "it holds no finding, which may mean that nothing ran; if the tool ran and found nothing, say so: --report diagnostics=FILE --empty-is-clean")
	}
	w.checkTool(t)
	return t
}

// checkTool holds a report against the tool and the versions that the policy expects it from.
func (w *witness) checkTool(t *testimony) {
	terms := t.from.terms
	for _, tool := range t.report.Tools {
		if tool.Version == "" && len(terms.Ask) > 0 && t.evidence.Sound() && t.evidence.Version == "" {
			var problem string
			if t.evidence.Version, problem = w.askVersion(terms); problem != "" {
				t.fail(judge.Missing, problem)
			}
		}
		tool.Version = cmp.Or(tool.Version, t.evidence.Version)
		t.evidence.Version = tool.Version
		switch {
		case !t.evidence.Sound():
		case terms.Tool != "" && tool.Name != "" && !strings.EqualFold(terms.Tool, tool.Name):
			t.fail(judge.Foreign, fmt.Sprintf("it comes from %s, where the policy expects %s", tool.Name, terms.Tool))
		case terms.Version.Take(tool.Version):
		case tool.Version == "":
			t.fail(judge.Foreign, fmt.Sprintf("it doesn't tell the version of its tool, which the policy wants to be %s", terms.Version))
		default:
			t.fail(judge.Foreign, fmt.Sprintf("it comes from version %s, where the policy wants %s: run that one, or alter the policy in a change of its own first", clip(tool.Version), terms.Version))
		}
	}
}

// patience is how long a tool may take to tell its version.
const patience = 20 * time.Second

// askVersion asks the tool itself, by the command that the policy names, or says why it can't.
func (w *witness) askVersion(terms policy.Report) (version, problem string) {
	command := strings.Join(terms.Ask, " ")
	if why := w.refusal(w.request, w.rules); why != "" {
		return "", fmt.Sprintf("its version must be asked of %q, and %s", clip(command), why)
	}
	ctx, cancel := context.WithTimeout(w.context(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, terms.Ask[0], terms.Ask[1:]...)
	cmd.Dir, cmd.Env, cmd.WaitDelay = w.root, git.Unbound(os.Environ()), time.Second
	out, err := cmd.Output()
	version, _, _ = strings.Cut(strings.TrimSpace(string(out)), "\n")
	switch {
	case err != nil:
		return "", fmt.Sprintf("its version can't be asked: %q: %v", clip(command), err)
	case version == "":
		return "", fmt.Sprintf("its version can't be asked: %q says nothing", clip(command))
	}
	return version, ""
}

// checkAge takes a report for foreign that the policy names and that is older than a file of a local change that its tool
// looks at: the linter hasn't seen that yet.
func (w *witness) checkAge(t *testimony) error {
	if t.from.tree == "" || t.from.runs || w.kind != policy.Staged && w.kind != policy.Worktree {
		return nil
	}
	written, err := w.modified(t.from.tree)
	if err != nil {
		return nil // it was read, and is gone since
	}
	files, err := w.changed()
	for _, f := range files {
		looksAt := func(c baseline.Cover) bool { return c.Matches(f.Path) }
		if f.Status == change.Deleted || strings.HasPrefix(f.Path, policy.Folder+"/") || !slices.ContainsFunc(t.evidence.Covers, looksAt) {
			continue
		}
		if at, err := w.modified(f.Path); err == nil && at.After(written) && !slices.Contains(t.from.terms.Files, f.Path) {
			t.fail(judge.Foreign, fmt.Sprintf("%s was altered after it was written; run the linter again", f.Path))
			break
		}
	}
	return err
}

func (w *witness) modified(file string) (time.Time, error) {
	info, err := os.Lstat(inDir(w.root, filepath.FromSlash(file)))
	if err != nil {
		return time.Time{}, err
	}
	return info.ModTime(), nil
}
