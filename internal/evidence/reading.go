package evidence

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/git"
	"zincdoor/internal/lint"
	"zincdoor/internal/memory"
	"zincdoor/internal/process"
	"zincdoor/internal/report"
	"zincdoor/internal/seal"
	"zincdoor/internal/target"
)

// reading is one report on its way.
type reading struct {
	from   origin
	state  judge.Evidence
	report *report.Report // nil where it couldn't be read
	files  []string       // that the linter was asked about, where it takes files
	placed []bool         // by finding: its path is in the tree the report speaks of
	tree   *reportTree    // nil where it speaks of an unknown one
	whole  *seal.File     // its content as it was read to the end; nil where it wasn't, or nobody asks
	key    policy.Key     // that sealed it

	laid      []string // the linter's own files that aren't the judged state's
	waits     bool     // its linter might not be started, and its answer isn't known
	forgotten string   // why not all of a linter's answers are remembered, "" where they are
}

func newReading(from origin) *reading {
	return &reading{from: from, state: judge.Evidence{Name: from.name, Format: from.format, State: judge.Read, Optional: !from.needed, Pinned: from.terms.Tool != ""}}
}

// fail makes the report no evidence, for the first reason that is found.
func (r *reading) fail(state judge.State, problem string) {
	if r.state.Sound() {
		r.state.State, r.state.Problem = state, problem
	}
}

// toolName is what a tool is called that doesn't name itself.
func (r *reading) toolName() string {
	return cmp.Or(r.from.terms.Tool, r.report.Format)
}

// read reads all reports, in the order of their origins. Linters are started at once, before any file is read.
func (q Request) read(ctx context.Context, origins []origin) (all []*reading, notices []string, err error) {
	linted, notices, err := q.runLinters(ctx, origins)
	if err != nil {
		return nil, nil, err
	}
	for i, from := range origins {
		r := linted[i]
		if r == nil {
			ended := q.begin("reading " + from.name)
			r = q.readFile(ctx, from)
			ended()
			if r.report != nil {
				notices = append(notices, noticesOf(r)...)
			}
		}
		all = append(all, r)
	}
	q.checkSeals(all)
	return all, notices, nil
}

// Rules reads the reports that are files, as far as that goes, and gives what they have of rules: findings of no more than
// tool, rule and traits. No linter is started.
func Rules(ctx context.Context, q Request) (all []finding.Finding, err error) {
	origins, err := q.origins()
	if err != nil {
		return nil, err
	}
	for _, from := range origins {
		if from.runs {
			continue
		}
		if r := q.readFile(ctx, from); r.report != nil {
			for _, f := range r.report.Findings {
				all = append(all, finding.Finding{Tool: cmp.Or(f.Tool, r.toolName()), Rule: f.Rule, Traits: f.Traits})
			}
		}
	}
	return all, nil
}

// noticesOf is what people should know of how a report was read.
func noticesOf(r *reading) (all []string) {
	for _, notice := range r.report.Notices {
		all = append(all, r.from.name+": "+notice)
	}
	return all
}

// readFile reads the report in a file.
func (q Request) readFile(ctx context.Context, from origin) *reading {
	defer memory.Doing("the report " + from.name)()
	r := newReading(from)
	if from.unsent {
		r.fail(judge.Missing, fmt.Sprintf("it hasn't been sent: zincdoor report send --report %s=FILE", from.name))
		return r
	}
	in, err := q.open(from)
	switch {
	case errors.Is(err, fs.ErrNotExist) && from.tree != "":
		r.fail(judge.Missing, fmt.Sprintf("the file %s is missing; run the linter that writes it, or name another file: --report %s=FILE", from.tree, from.terms.Name))
		return r
	case errors.Is(err, fs.ErrNotExist):
		r.fail(judge.Missing, "there is no such file; run what writes it")
		return r
	case err != nil:
		r.fail(judge.Missing, fmt.Sprintf("it can't be read: %v", errors.Unwrap(err)))
		return r
	}
	defer in.Close()
	whole := &untilDone{ReadCloser: in, ctx: ctx}
	if q.Keep != nil && !q.Target.Before {
		var end func(bool)
		whole.seen, end = q.Keep(from.name, from.format)
		defer func() { end(r.report != nil && whole.end()) }()
	}
	if q.Digests || from.mustBeSealed() {
		sum := digest{Hash: sha256.New()}
		if whole.seen == nil {
			whole.seen = &sum
		} else {
			whole.seen = io.MultiWriter(whole.seen, &sum)
		}
		defer func() {
			if whole.end() {
				r.whole = &seal.File{SHA256: hex.EncodeToString(sum.Sum(nil)), Bytes: sum.size}
			}
		}()
	}
	read, err := report.Read(whole, report.Form{Format: from.format, Recipe: from.recipe, Noise: from.terms.Noise, Flows: q.Policy.Place.Flows})
	switch {
	case errors.Is(err, report.ErrTooMuch):
		r.fail(judge.Failed, strings.TrimSuffix(err.Error(), ": "+report.ErrTooMuch.Error()))
		return r
	case errors.Is(err, report.ErrMalformed):
		what := "linter"
		if from.format == policy.Coverage {
			what = "tests"
		}
		r.fail(judge.Failed, fmt.Sprintf("%v; run the %s again, and keep all of its output", err, what))
		return r
	case err != nil:
		r.fail(judge.Missing, fmt.Sprintf("it can't be read: %v", err))
		return r
	}
	r.report = read
	q.assess(ctx, r, read.Clean || from.terms.Clean || q.Given.EmptyIsClean && (policy.IsDiagnostics(from.format) || from.isText()))
	return r
}

// untilDone is a file that can't be read any more once a call is called off.
type untilDone struct {
	io.ReadCloser
	ctx  context.Context
	seen io.Writer // gets what was read; nil for nobody
}

func (u *untilDone) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := u.ReadCloser.Read(p)
	if u.seen != nil {
		u.seen.Write(p[:n])
	}
	return n, err
}

// end reads what nobody asked for, and reports whether all was read.
func (u *untilDone) end() bool {
	_, err := io.Copy(io.Discard, u)
	return err == nil
}

// Stat is that of the file, as far as it is one.
func (u *untilDone) Stat() (fs.FileInfo, error) {
	if file, ok := u.ReadCloser.(fs.File); ok {
		return file.Stat()
	}
	return nil, fs.ErrInvalid
}

// assess settles what a report is worth by its own word. One without a finding counts as an empty one where its tool is
// known to have run, which clean says.
func (q Request) assess(ctx context.Context, r *reading, clean bool) {
	from, said := r.from, r.report
	r.state.Format = said.Format
	r.state.Findings, r.state.Forms = len(said.Findings), said.Forms
	lines := said.Format == policy.Diagnostics || from.isText()
	named := q.unreadOfChanged(said)
	switch {
	case !r.state.Sound():
	case said.Failure != "":
		r.fail(judge.Failed, said.Failure)
	case said.Stopped != "" && !from.terms.Errors:
		r.fail(judge.Failed, said.Stopped+"; fix that, and run it again")
	case named != "":
		r.fail(judge.Failed, named)
	case said.Coverage != nil, len(said.Findings) > 0 || !lines && !said.Clean:
	case clean:
		r.state.State = judge.Empty
	case from.terms.Name != "":
		r.fail(judge.Failed, "it has no findings, so perhaps nothing ran; if an empty file means that nothing was found, write clean: empty in the report")
	default:
		r.fail(judge.Failed, fmt.Sprintf("it has no findings, so perhaps nothing ran; if the tool ran and found nothing: --report %s=FILE --empty-is-clean", said.Format))
	}
	q.checkTool(ctx, r)
}

// unreadOfChanged says why a text is no evidence in which a line that can't be read names a changed file, "" where none does:
// it may be a finding there.
func (q Request) unreadOfChanged(said *report.Report) string {
	if said.Format != policy.Diagnostics || said.UnreadCount == 0 {
		return ""
	}
	files, err := q.Target.Files()
	if err != nil {
		return "" // which stops the judging elsewhere
	}
	for _, unread := range said.Unread {
		for _, f := range files {
			if f.Status != change.Deleted && hasName(unread.Text, path.Base(f.Path)) {
				return fmt.Sprintf("%s names the changed %s and isn't understood: %q; make the tool write SARIF, or read the report by a recipe", unread.At, f.Path, clip(unread.Text))
			}
		}
	}
	return ""
}

// hasName reports whether a name stands in a text by itself, and not within a longer one.
func hasName(text, name string) bool {
	for from := 0; ; {
		at := strings.Index(text[from:], name)
		if at < 0 {
			return false
		}
		at += from
		before, _ := utf8.DecodeLastRuneInString(text[:at])
		after, _ := utf8.DecodeRuneInString(text[at+len(name):])
		if !source.InName(before) && !source.InName(after) {
			return true
		}
		from = at + 1
	}
}

// checkTool holds a report against the tool and the versions that the policy expects it from.
func (q Request) checkTool(ctx context.Context, r *reading) {
	terms := r.from.terms
	for _, tool := range r.report.Tools {
		if tool.Version == "" && len(terms.Ask) > 0 && r.state.Sound() && r.state.Version == "" {
			var problem string
			if r.state.Version, problem = q.askVersion(ctx, terms); problem != "" {
				r.fail(judge.Missing, problem)
			}
		}
		tool.Version = cmp.Or(tool.Version, r.state.Version)
		r.state.Version = tool.Version
		switch {
		case !r.state.Sound():
		case terms.Tool != "" && tool.Name != "" && !strings.EqualFold(terms.Tool, tool.Name):
			r.fail(judge.Foreign, fmt.Sprintf("it comes from %s, where the policy expects %s", tool.Name, terms.Tool))
		case terms.Version.Take(tool.Version):
		case tool.Version == "":
			r.fail(judge.Foreign, fmt.Sprintf("it doesn't say the version of its tool; the policy expects %s", terms.Version))
		default:
			r.fail(judge.Foreign, fmt.Sprintf("it comes from version %s, and the policy expects %s; use that version, or change the policy first, in a change of its own", clip(tool.Version), terms.Version))
		}
	}
}

// patience is how long a tool may take to tell its version.
const patience = 20 * time.Second

// askVersion asks the tool itself, by the command that the policy names, or says why it can't.
func (q Request) askVersion(ctx context.Context, terms policy.Report) (version, problem string) {
	if why := q.Refusal(); why != "" {
		return "", fmt.Sprintf("its version comes from %q, and %s", words(terms.Ask), why)
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	dir, end, err := q.askIn(terms)
	if err != nil {
		return "", fmt.Sprintf("its version isn't known: %v", err)
	}
	defer end()
	cmd := exec.CommandContext(ctx, terms.Ask[0], terms.Ask[1:]...)
	cmd.Dir, cmd.Env, cmd.WaitDelay = dir, git.Unbound(os.Environ()), time.Second
	out, _, err := process.Output(cmd)
	version, _, _ = strings.Cut(strings.TrimSpace(string(out)), "\n")
	switch {
	case err != nil:
		return "", fmt.Sprintf("its version isn't known: %q: %v", words(terms.Ask), err)
	case version == "":
		return "", fmt.Sprintf("its version isn't known: %q prints nothing", words(terms.Ask))
	}
	return version, ""
}

// askIn is the folder in which a tool is asked for its version: the root, or where the change alters what the command names, one
// with these files as they are trusted.
func (q Request) askIn(terms policy.Report) (dir string, end func() error, err error) {
	nothing := func() error { return nil }
	if q.Trusted.Side == "" {
		return q.Target.Root, nothing, nil
	}
	entries, err := q.Target.Repo.Entries(q.Target.Side)
	if err != nil {
		return "", nothing, err
	}
	laid, err := lint.LayTrusted(q.Target.Repo, q.Trusted.Side, q.Target.Side, entries, []policy.Report{{Ask: terms.Ask}})
	if err != nil || len(laid) == 0 {
		return q.Target.Root, nothing, err
	}
	bench, err := lint.NewBench()
	if err != nil {
		return "", nothing, err
	}
	if dir, err = bench.Place(); err == nil {
		err = laid.Lay(q.Target.Repo, q.Trusted.Side, dir, nil)
	}
	return dir, bench.Close, err
}

// checkFile takes a report for foreign whose file the change itself brings, or is too old for it.
func (c *collector) checkFile(r *reading) error {
	at := c.fileOf(r)
	if at == "" || c.Target.IsPatch || c.Target.Kind == policy.Tree {
		return nil
	}
	files, err := c.Target.Files()
	if err != nil {
		return err
	}
	own, err := filepath.Rel(c.Target.Root, at)
	if err != nil {
		own = "" // on another drive
	}
	own = filepath.ToSlash(own)
	for _, f := range files {
		untracked := c.Target.Kind == policy.Worktree && f.Status == change.Added // or not committed yet, where nobody else judges
		if f.Status != change.Deleted && !untracked && f.Path == own {
			r.fail(judge.Foreign, fmt.Sprintf("the change itself brings %s, so it can't be trusted; have the linter write its report to a file that git ignores", f.Path))
			return nil
		}
	}
	if written, err := modified(at); err == nil { // else it was read, and is gone since
		c.checkAge(r, written, files)
	}
	return nil
}

// checkAge takes a report for foreign that is older than a file of a local change that its tool looks at: the linter hasn't
// seen that yet. Elsewhere the times of files prove nothing, and are told where they may mean something.
func (c *collector) checkAge(r *reading, written time.Time, files []change.File) {
	local := c.Target.Kind == policy.Staged || c.Target.Kind == policy.Worktree
	if !local && !c.checkedOut(r) {
		return
	}
	var first, last time.Time
	newest := ""
	for _, f := range files {
		if f.Status == change.Deleted || c.Policy.Own(f.Path) || f.Path == policy.Attributes || !r.state.LooksAt(f.Path) || slices.Contains(r.from.terms.Files, f.Path) {
			continue
		}
		at, err := modified(target.InDir(c.Target.Root, filepath.FromSlash(f.Path)))
		if err != nil {
			continue
		}
		if first.IsZero() || at.Before(first) {
			first = at
		}
		if at.After(last) {
			last, newest = at, f.Path
		}
	}
	switch {
	case !last.After(written):
	case local:
		r.fail(judge.Foreign, fmt.Sprintf("%s was changed after the report was written; run the linter again", newest))
	case last.Sub(first) > checkoutTime:
		c.notices = append(c.notices, fmt.Sprintf("%s is older than the changed %s, and doesn't say which commit it is of; if it is of an earlier one, run the linter again", r.state.Name, newest))
	}
}

// checkedOut reports whether what is judged is what is checked out, and a report doesn't say of which commit it is.
func (c *collector) checkedOut(r *reading) bool {
	if c.Target.Repo == nil || r.report.Commit != "" || c.Given.Commit != "" {
		return false
	}
	head, ok := c.Target.Repo.Head()
	return ok && head == string(c.Target.Side)
}

// checkoutTime is by how much the times of files differ that one checkout wrote, at most; where they differ by more, they are
// those of the changes themselves.
const checkoutTime = 2 * time.Minute

// checkNames takes text for no evidence where a changed file has a name that text can't carry, and the tool looks at files of
// its kind: what it says of that file would be lost.
func (c *collector) checkNames(r *reading) error {
	if r.report.Format != policy.Diagnostics {
		return nil
	}
	files, err := c.Target.Files()
	kinds := map[string]bool{}
	for _, f := range files {
		if f.Status == change.Deleted || report.TextCarries(f.Path) {
			continue
		}
		if len(kinds) == 0 {
			for i := range r.report.Findings {
				kinds[path.Ext(r.report.Findings[i].Path)] = true
			}
		}
		told := slices.ContainsFunc(r.state.Covers, func(c baseline.Cover) bool {
			return !slices.Contains(c.Paths, baseline.Everywhere) && c.Matches(f.Path)
		})
		if told || kinds[path.Ext(f.Path)] {
			r.fail(judge.Failed, fmt.Sprintf("diagnostic text can't carry the file name %q; make the tool write SARIF, or rename the file", f.Path))
			return nil
		}
	}
	return err
}

// fileOf is the file that a report was read from, links on the way to it followed; "" where it is none.
func (c *collector) fileOf(r *reading) string {
	file := ""
	switch {
	case r.from.runs || r.from.format == house.Tool || r.from.file == "-":
		return ""
	case r.from.tree != "":
		file = target.InDir(c.Target.Root, filepath.FromSlash(r.from.tree))
	default:
		file = target.InDir(c.Given.Dir, r.from.file)
	}
	if real, err := filepath.EvalSymlinks(file); err == nil {
		return real
	}
	return file
}

func modified(file string) (time.Time, error) {
	info, err := os.Lstat(file)
	if err != nil {
		return time.Time{}, err
	}
	if info.Mode()&(fs.ModeDevice|fs.ModeNamedPipe|fs.ModeSocket) != 0 {
		return time.Time{}, fs.ErrInvalid // whose time says nothing of what was read
	}
	return info.ModTime(), nil
}
