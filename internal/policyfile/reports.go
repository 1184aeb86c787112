package policyfile

import (
	"maps"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/house"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
)

func (r *reader) reports(n *yaml.Node) {
	for _, f := range r.fields(n, "reports") {
		if slices.Contains(policy.Formats, f.name) {
			r.complain(f.key, "a report can't be called %q, which is a format's name", f.name)
		}
		if f.name == house.Tool {
			r.complain(f.key, "a report can't be called %q, which are our own checks", f.name)
		}
		if f.name == measure.Tool {
			r.complain(f.key, "a report can't be called %q, which is what numbers about code come from", f.name)
		}
		if strings.HasPrefix(f.name, policy.SealReport) {
			r.complain(f.key, "a report can't be called %q: what begins with %s is a sealed statement", f.name, policy.SealReport)
		}
		report := policy.Report{Name: f.name}
		complaints := len(r.problems)
		runKeys, orphans := r.runKeys(&report)
		r.mapping(f.value, keys{
			what: "report " + f.name,
			read: with(runKeys, map[string]func(*yaml.Node){
				"file": func(n *yaml.Node) { report.Files = r.insidePaths(n) },
				"as": func(n *yaml.Node) {
					report.As = r.text(n, "as")
					r.formatNames = append(r.formatNames, named{n, []string{report.As}})
				},
				"tool":     func(n *yaml.Node) { report.Tool = r.text(n, "tool") },
				"version":  func(n *yaml.Node) { report.Version = r.versions(n) },
				"ask":      func(n *yaml.Node) { report.Ask = r.texts(n, "ask") },
				"fix":      func(n *yaml.Node) { report.Fix = r.texts(n, "fix") },
				"covers":   func(n *yaml.Node) { report.Covers = r.globs(n, "path") },
				"except":   func(n *yaml.Node) { report.Except = r.pathsExcepted(n) },
				"outside":  func(n *yaml.Node) { report.Outside = r.prefixes(n) },
				"noise":    func(n *yaml.Node) { report.Noise = r.pattern(n, "noise") },
				"clean":    func(n *yaml.Node) { report.Clean = oneOf(r, n, "clean", []string{"empty"}) != "" },
				"errors":   func(n *yaml.Node) { report.Errors = oneOf(r, n, "errors", []string{"findings"}) != "" },
				"sealed":   func(n *yaml.Node) { report.Sealed = r.sealNames(n, "sealed") },
				"optional": func(n *yaml.Node) { report.Optional = r.boolean(n, "optional") },
			}),
		})
		if report.Run != nil {
			report.Run.Except = report.Except
		}
		if report.Run == nil && len(report.Files) == 0 && len(r.problems) == complaints {
			r.complain(f.value, "report %s needs one of the keys file, which a linter writes before, and run, the linter to start", f.name)
		}
		if report.Run != nil && len(report.Files) > 1 {
			r.complain(f.value, "a linter that is started writes one file; name its reports apart for more")
		}
		for _, n := range orphans() {
			r.complain(n, "this key is for a linter that is started, and there is no run: here")
		}
		if report.Clean && (report.As == policy.SARIF || report.As == "") && len(r.problems) == complaints {
			r.complain(f.value, "clean: empty goes with as: diagnostics and a recipe for text; an empty %s is broken", policy.SARIF)
		}
		if report.Noise != nil && !policy.IsDiagnostics(report.As) && len(r.problems) == complaints {
			r.complain(f.value, "noise goes with as: diagnostics; a recipe has a noise of its own")
		}
		if len(report.Ask) > 0 && report.Version.String() == "" && len(r.problems) == complaints {
			r.complain(f.value, "ask goes with version: it asks the tool where the report doesn't say")
		}
		r.checkFirmReport(f.key, report)
		r.file.Reports = append(
			slices.DeleteFunc(r.file.Reports, func(o Placed[policy.Report]) bool { return o.Value.Name == f.name }),
			Placed[policy.Report]{report, r.position(f.key)})
	}
}

// pathsExcepted reads which files a report doesn't speak of.
func (r *reader) pathsExcepted(n *yaml.Node) (globs []string) {
	r.mapping(n, keys{what: "except", need: []string{"path"}, read: map[string]func(*yaml.Node){
		"path": func(n *yaml.Node) { globs = r.globs(n, "path") },
	}})
	return globs
}

// with adds keys to others.
func with[M ~map[string]V, V any](others, own M) M {
	maps.Copy(own, others)
	return own
}

// insidePaths reads paths that stay in the repository.
func (r *reader) insidePaths(n *yaml.Node) []string {
	paths := r.texts(n, "file")
	for _, p := range paths {
		r.checkInside(n, "file", p)
	}
	return paths
}

// prefixes reads how paths begin that lie outside of the repository.
func (r *reader) prefixes(n *yaml.Node) []string {
	var all []string
	for _, p := range r.texts(n, "outside") {
		if clean := path.Clean(p); clean == "." || clean == "/" || strings.ContainsAny(p, `*?\`) {
			r.complain(n, "outside takes the folders that paths begin with, such as /usr or build/deps, not %q", p)
			continue
		}
		all = append(all, p)
	}
	return all
}

func (r *reader) checkInside(n *yaml.Node, what, s string) {
	if path.IsAbs(s) || path.Clean(s) != s || s == "." || s == ".." || strings.HasPrefix(s, "../") || strings.Contains(s, `\`) {
		r.complain(n, "%s must be a plain path from the repository's root, not %q", what, s)
	}
}

func (r *reader) versions(n *yaml.Node) policy.Versions {
	text := r.text(n, "version")
	if text == "" {
		return policy.Versions{}
	}
	v, err := policy.ParseVersions(text)
	if err != nil {
		r.complain(n, "version is a range like >=2.1 <3, not %q", text)
	}
	return v
}

// checkReports complains of needs that no report provides.
func (r *reader) checkReports() {
	known := []string{house.Tool, measure.Tool}
	for _, report := range r.file.Reports {
		known = append(known, report.Value.Name)
	}
	r.lookUp(r.reportNames, known, "no report provides what this needs: there is no %q")
}
