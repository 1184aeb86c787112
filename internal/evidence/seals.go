package evidence

import (
	"hash"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/seal"
	"zincdoor/internal/sealed"
)

// mustBeSealed reports whether a report counts only with a seal.
func (o origin) mustBeSealed() bool { return len(o.terms.Sealed) > 0 }

// digest takes what is read, its SHA-256 and how many bytes it is.
type digest struct {
	hash.Hash
	size int64
}

func (d *digest) Write(p []byte) (int, error) {
	d.size += int64(len(p))
	return d.Hash.Write(p)
}

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
		if q.Sealed != nil && q.Target.Before && !r.from.mustBeSealed() && q.Policy.NeedsSeals(q.Door) {
			r.fail(judge.Foreign, "where reports must be sealed, one of the state before the change must be too: name it as the policy does (--base-report NAME=FILE), and seal it for that state")
		}
		if q.Sealed == nil || !r.from.mustBeSealed() || broken[terms.Name] && !r.state.Sound() {
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
	var paths []string
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
	paths = slices.DeleteFunc(slices.Clone(paths), func(path string) bool { return !r.state.LooksAt(path) })
	if outside := sealed.Beyond(r.key, paths); outside != "" {
		r.fail(judge.Foreign, "it "+outside)
	}
	return nil
}

// addContent notes what was read of a report, where somebody asked.
func (c *Collected) addContent(r *reading) {
	run := r.from.terms.Run // nil for our own checks
	started := r.from.runs && run != nil
	if r.report == nil || r.whole == nil && !started {
		return
	}
	content := seal.Report{Name: r.state.Name, Version: r.state.Version}
	if r.whole != nil {
		content.Files = []seal.File{*r.whole}
	}
	if len(r.report.Tools) == 1 {
		content.Tool = r.report.Tools[0].Name
	}
	if started {
		content.Command = words(run.Command)
	}
	c.Contents = append(c.Contents, content)
}
