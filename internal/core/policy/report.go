package policy

import (
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"
	"github.com/goccy/go-yaml/ast"

	"zincdoor/internal/core/house"
)

// The formats that reports can be read as.
const (
	SARIF       = "sarif"
	Diagnostics = "diagnostics"
)

// Formats lists the names of all formats.
var Formats = []string{SARIF, Diagnostics}

// Report is a report that the policy names: where a linter leaves it, and what to expect of it.
type Report struct {
	Name     string
	Files    []string // paths from the repository's root, joined where there are several
	As       string   // one of Formats or a recipe, "" to find out
	Tool     string   // what the tool is called; "" for what it calls itself, or the report's name
	Version  Versions // the versions of the tool that it may come from
	Ask      []string // the command whose output tells the version, where the report doesn't; empty for none
	Mend     []string // the command that mends by itself the files it is given; empty for none
	Covers   []string // globs of what the tool looked at, where the report doesn't say; empty for everything
	Clean    bool     // an empty file means that the tool found nothing
	Errors   bool     // errors are findings like others, and don't tell that the tool stopped looking
	Optional bool     // it is judged along where it is there, and no door needs it by itself
	Run      *Run     // the linter that makes it, nil where others start that
	At       Position
}

// Versions are those that a constraint such as ">=2.1 <3" takes; the zero value takes all.
type Versions struct {
	text       string
	constraint *semver.Constraints
}

func (v Versions) String() string { return v.text }

var versionPart = regexp.MustCompile(`\d+(\.\d+){0,2}`)

// Take reports whether a version is among them: by the first number in it, with up to two parts after it, whatever else
// a tool says of itself.
func (v Versions) Take(version string) bool {
	if v.constraint == nil {
		return true
	}
	number, err := semver.NewVersion(versionPart.FindString(version))
	return err == nil && v.constraint.Check(number)
}

// Report returns the report of that name.
func (p *Policy) Report(name string) (Report, bool) {
	i := slices.IndexFunc(p.Reports, func(r Report) bool { return r.Name == name })
	if i < 0 {
		return Report{}, false
	}
	return p.Reports[i], true
}

// Needed lists the reports that a door is judged by: those it names, else all. Of these, the door needs those that it
// names, else those that aren't optional.
func (p *Policy) Needed(d Door) (reports []Report, needed map[string]bool) {
	needed = map[string]bool{}
	for _, r := range p.Reports {
		named := slices.Contains(d.Needs, r.Name)
		if named || len(d.Needs) == 0 {
			reports = append(reports, r)
			needed[r.Name] = named || !r.Optional
		}
	}
	return reports, needed
}

func (r *reader) reports(n ast.Node) {
	for _, f := range r.fields(n, "reports") {
		if slices.Contains(Formats, f.name) {
			r.complain(f.key, "a report can't be called %q, which is a format's name", f.name)
		}
		if f.name == house.Tool {
			r.complain(f.key, "a report can't be called %q, which are our own checks", f.name)
		}
		report := Report{Name: f.name, At: r.position(f.key)}
		complaints := len(r.problems)
		runKeys, orphans := r.runKeys(&report)
		r.mapping(f.value, keys{
			what: "report " + f.name,
			read: with(runKeys, map[string]func(ast.Node){
				"file": func(n ast.Node) { report.Files = r.insidePaths(n) },
				"as": func(n ast.Node) {
					report.As = r.text(n, "as")
					r.formatNames = append(r.formatNames, named{n, []string{report.As}})
				},
				"tool":     func(n ast.Node) { report.Tool = r.text(n, "tool") },
				"version":  func(n ast.Node) { report.Version = r.versions(n) },
				"ask":      func(n ast.Node) { report.Ask = r.texts(n, "ask") },
				"mend":     func(n ast.Node) { report.Mend = r.texts(n, "mend") },
				"covers":   func(n ast.Node) { report.Covers = r.globs(n, "path") },
				"clean":    func(n ast.Node) { report.Clean = oneOf(r, n, "clean", []string{"empty"}) != "" },
				"errors":   func(n ast.Node) { report.Errors = oneOf(r, n, "errors", []string{"findings"}) != "" },
				"optional": func(n ast.Node) { report.Optional = r.boolean(n, "optional") },
			}),
		})
		if report.Run == nil && len(report.Files) == 0 && len(r.problems) == complaints {
			r.complain(f.value, "report %s needs one of the keys file, which a linter writes before, and run, the linter to start", f.name)
		}
		if report.Run != nil && len(report.Files) > 1 {
			r.complain(f.value, "a linter that is started writes one file; name its reports apart for more")
		}
		for _, n := range orphans() {
			r.complain(n, "this tells how a linter is started, and there is no run that starts one")
		}
		if report.Clean && (report.As == SARIF || report.As == "") && len(r.problems) == complaints {
			r.complain(f.value, "clean: empty goes with as: diagnostics and a recipe for text; an empty %s is broken", SARIF)
		}
		if len(report.Ask) > 0 && report.Version.text == "" && len(r.problems) == complaints {
			r.complain(f.value, "ask goes with version: it tells the version where the report doesn't")
		}
		r.policy.Reports = append(slices.DeleteFunc(r.policy.Reports, func(o Report) bool { return o.Name == f.name }), report)
	}
}

// with adds keys to others.
func with[M ~map[string]V, V any](others, own M) M {
	maps.Copy(own, others)
	return own
}

// insidePaths reads paths that stay in the repository.
func (r *reader) insidePaths(n ast.Node) []string {
	paths := r.texts(n, "file")
	for _, p := range paths {
		r.checkInside(n, "file", p)
	}
	return paths
}

func (r *reader) checkInside(n ast.Node, what, s string) {
	if path.IsAbs(s) || path.Clean(s) != s || s == "." || s == ".." || strings.HasPrefix(s, "../") || strings.Contains(s, `\`) {
		r.complain(n, "%s must be a plain path from the repository's root, not %q", what, s)
	}
}

func (r *reader) versions(n ast.Node) (v Versions) {
	v.text = r.text(n, "version")
	var err error
	if v.constraint, err = semver.NewConstraint(v.text); err != nil && v.text != "" {
		r.complain(n, "version is a range like >=2.1 <3, not %q", v.text)
	}
	return v
}

// needs reads which reports a door needs. They are looked up when all of the policy is read.
func (r *reader) needs(n ast.Node, door *Door) {
	for _, name := range r.texts(n, "needs") {
		if !slices.Contains(door.Needs, name) {
			door.Needs = append(slices.Clip(door.Needs), name)
		}
	}
	r.reportNames = append(r.reportNames, named{n, door.Needs})
}

// checkReports complains of needs that no report provides.
func (r *reader) checkReports() {
	known := []string{house.Tool}
	for _, report := range r.policy.Reports {
		known = append(known, report.Name)
	}
	r.lookUp(r.reportNames, known, "no report provides what this needs: there is no %q")
}
