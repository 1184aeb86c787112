package policy

import (
	"regexp"
	"slices"

	"deps.dev/util/semver"

	"zincdoor/internal/core/pattern"
)

// The formats that reports can be read as.
const (
	SARIF       = "sarif"
	Diagnostics = "diagnostics"
	Coverage    = "test-coverage" // Go's cover profile, an LCOV tracefile, Cobertura or JaCoCo XML
)

// The forms of diagnostic text. A report can be demanded to be of one.
const (
	GNU          = "gnu"           // path:line:column: warning: text [rule], and the same without a weight
	Brackets     = "brackets"      // path(line,column): error CODE: text
	Arrows       = "arrows"        // warning: text, and --> path:line:column on the next line
	SyntaxErrors = "syntax-errors" // a place, source, and at last SyntaxError: text
	CompilerJSON = "compiler-json" // arrays of gcc's, objects of go vet's
)

// Forms lists the forms of diagnostic text.
var Forms = []string{GNU, Brackets, Arrows, SyntaxErrors, CompilerJSON}

// Formats lists the names of all formats.
var Formats = append([]string{SARIF, Diagnostics, Coverage}, Forms...)

// IsDiagnostics reports whether a format is diagnostic text, of whatever form.
func IsDiagnostics(format string) bool {
	return format == Diagnostics || slices.Contains(Forms, format)
}

// Report is a report that the policy names: where a linter leaves it, and what to expect of it.
type Report struct {
	Name     string
	Files    []string       // paths from the repository's root, joined where there are several
	As       string         // one of Formats or a recipe, "" to find out
	Tool     string         // what the tool is called; "" for what it calls itself, or the format's name
	Version  Versions       // the versions of the tool that it may come from
	Ask      []string       // the command whose output tells the version, where the report doesn't; empty for none
	Fix      []string       // the command that fixes by itself the files it is given; empty for none
	Covers   []string       // globs of what the tool looked at, where the report doesn't say; empty for everything
	Except   []string       // globs of files that it doesn't look at, though Covers or the linter's files take them
	Outside  []string       // how paths begin that lie outside of the repository; nil for the system's folders and package caches
	Noise    *regexp.Regexp // lines of text that say nothing; nil for none
	Clean    bool           // an empty file means that the tool found nothing
	Errors   bool           // errors are findings like others, and don't tell that the tool stopped looking
	Sealed   []string       // names of seals, one of which must have sealed it for the judged tree; empty for none
	Optional bool           // it is judged along where it is there, and no door needs it by itself
	Run      *Run           // the linter that makes it, nil where others start that
}

// Versions are those that a constraint such as ">=2.1 <3" takes; the zero value takes all.
type Versions struct {
	text       string
	constraint *semver.Constraint
}

// ParseVersions reads a constraint.
func ParseVersions(text string) (Versions, error) {
	constraint, err := semver.DefaultSystem.ParseConstraint(text)
	return Versions{text, constraint}, err
}

// String gives the constraint as it is written, "" where there is none.
func (v Versions) String() string { return v.text }

var versionPart = pattern.Of(`\d+(\.\d+){0,2}`)

// Take reports whether a version is among them: by the first number in it, with up to two parts after it, whatever else
// a tool says of itself.
func (v Versions) Take(version string) bool {
	if v.constraint == nil {
		return true
	}
	number, err := semver.DefaultSystem.Parse(versionPart.FindString(version))
	return err == nil && v.constraint.MatchVersion(number)
}

// Report returns the report of that name.
func (p *Policy) Report(name string) (Report, bool) {
	i := slices.IndexFunc(p.Reports, func(r Report) bool { return r.Name == name })
	if i < 0 {
		return Report{}, false
	}
	return p.Reports[i], true
}

// Needed lists the reports that a door is judged by: those it names, else all, unless it needs sealed verdicts. Of these, the door
// needs those that it names, else those that aren't optional.
func (p *Policy) Needed(d Door) (reports []Report, needed map[string]bool) {
	needed = map[string]bool{}
	for _, r := range p.Reports {
		named := slices.Contains(d.Needs, r.Name)
		if named || len(d.Needs)+len(d.Verdicts) == 0 {
			reports = append(reports, r)
			needed[r.Name] = named || !r.Optional
		}
	}
	return reports, needed
}
