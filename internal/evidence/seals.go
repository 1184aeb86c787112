package evidence

import (
	"fmt"
	"strings"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/seal"
)

// sealedHere reports whether a report must be sealed.
func (q Request) sealedHere(from origin) bool { return len(from.terms.Sealed) > 0 }

// checkSeals takes reports that must be sealed for foreign where they aren't, all files of one name at once: none may be left out.
func (q Request) checkSeals(all []*reading) {
	files := map[string][]seal.File{}
	broken := map[string]bool{}
	for _, r := range all {
		if name := r.from.terms.Name; r.whole != nil {
			files[name] = append(files[name], *r.whole)
		} else if !r.from.runs {
			broken[name] = true
		}
	}
	for _, r := range all {
		terms := r.from.terms
		if q.Sealed != nil && q.Target.Before && !q.sealedHere(r.from) && q.Policy.NeedsSeals(q.Door) {
			r.fail(judge.Foreign, "where reports must be sealed, one of the state before the change must be too: name it as the policy does (--base-report NAME=FILE), and seal it for that state")
		}
		if q.Sealed == nil || !q.sealedHere(r.from) || broken[terms.Name] && !r.state.Sound() {
			continue
		}
		var by, why string
		if r.from.runs {
			by, r.key, why = q.Sealed.Made(terms)
		} else {
			by, r.key, why = q.Sealed.Report(terms, files[terms.Name])
		}
		if r.state.Sealed = by; why != "" {
			r.fail(judge.Foreign, why)
		}
	}
}

// checkKeyPaths takes a report for foreign whose key speaks for some files alone, where its tool looks at others of the change.
func (c *collector) checkKeyPaths(r *reading) error {
	if len(r.key.Paths) == 0 {
		return nil
	}
	files, err := c.Target.Files()
	if err != nil {
		return err
	}
	paths := make([]string, 0, len(files))
	for _, f := range files {
		if f.Status != change.Deleted {
			paths = append(paths, f.Path)
		}
	}
	if c.Target.Diff == nil {
		if paths, err = c.paths(); err != nil {
			return err
		}
	}
	for _, path := range paths {
		if r.state.LooksAt(path) && !policy.MatchPath(r.key.Paths, path) {
			r.fail(judge.Foreign, fmt.Sprintf("it is sealed by a key that speaks for %s alone, and the change touches %s", strings.Join(r.key.Paths, ", "), path))
			return nil
		}
	}
	return nil
}

// addContent notes what was read of a report, where somebody asked.
func (c *Collected) addContent(r *reading) {
	run := r.from.terms.Run
	if r.report == nil || r.whole == nil && (!r.from.runs || run == nil) {
		return
	}
	content := seal.Report{Name: r.state.Name, Version: r.state.Version}
	if r.whole != nil {
		content.Files = []seal.File{*r.whole}
	}
	if len(r.report.Tools) == 1 {
		content.Tool = r.report.Tools[0].Name
	}
	if r.from.runs && run != nil {
		content.Command = words(run.Command)
	}
	c.Contents = append(c.Contents, content)
}
