// Package baseline knows the stored list of accepted findings: its entries, its file, and how a finding of today is
// recognised as one that was accepted. It doesn't know where the file is kept.
package baseline

import (
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// Path is where a repository keeps its baseline when the policy doesn't say.
const Path = ".zincdoor/baseline.jsonl"

// Baseline is the whole list. The zero value is an empty one that covers nothing.
type Baseline struct {
	Covers  []Cover
	Entries []Entry
}

// Cover says that all findings of a tool under some paths were taken: what isn't among the entries is new.
type Cover struct {
	Tool  string   `json:"tool"`
	Paths []string `json:"paths"` // globs from the repository's root

	Except []string `json:"except,omitempty"` // globs of files among them that the tool didn't look at, or gave up before it had seen all of them
}

// Why is the kind of reason for which a finding is accepted.
type Why string

// The reasons.
const (
	Debt     Why = "debt"     // true, but not now
	Mistaken Why = "mistaken" // not a fault
	Meant    Why = "meant"    // a deliberate exception
)

// Whys are the kinds of reason.
var Whys = []Why{Debt, Mistaken, Meant}

// Entry is one accepted finding. Dates are written YYYY-MM-DD, are UTC and include their day.
type Entry struct {
	Path         string `json:"path"`
	Tool         string `json:"tool"`
	Rule         string `json:"rule"`
	Line         int    `json:"line,omitempty"` // where it stood when accepted; a hint, never proof
	Message      string `json:"message"`
	Severity     string `json:"severity"`          // the severity it had when accepted
	Measure      string `json:"measure,omitempty"` // how bad it was when accepted, "" where its message has no measure
	Text         string `json:"text,omitempty"`    // hash of the code line, "" where the finding had no code
	Before       string `json:"before,omitempty"`  // hash of the nearest line above that isn't blank
	After        string `json:"after,omitempty"`   // hash of the nearest line below that isn't blank
	Twins        int    `json:"twins,omitempty"`   // how many other lines of the file had this text
	Fingerprints string `json:"prints,omitempty"`  // the tool's own fingerprints, as finding.Prints has them
	Why          Why    `json:"why"`
	Reason       string `json:"reason,omitempty"`
	By           string `json:"by,omitempty"`
	On           string `json:"on"`
	Until        string `json:"until,omitempty"`
	Link         string `json:"link,omitempty"`
	Owner        string `json:"owner,omitempty"` // who is to put it right, where that isn't the file's team
}

// EntryFor describes a finding of the given severity so that it is recognised later. Why, By, On and the rest are the
// caller's to add.
func EntryFor(f finding.Finding, severity string) Entry {
	e := Entry{
		Tool: f.Tool, Rule: f.Rule, Path: f.Path, Line: f.Region.Line, Message: f.Message, Severity: severity,
		Fingerprints: FingerprintsOf(&f),
	}
	if f.Code != (source.Code{}) {
		e.Text, e.Before, e.After = source.Hash(f.Code.Text), source.Hash(f.Code.Before), source.Hash(f.Code.After)
		e.Twins = f.Code.Alike - 1
	}
	return e
}

// For gives the entry the reasons of another: why, by whom, and until when it is accepted.
func (e Entry) For(reasons Entry) Entry {
	e.Why, e.Reason, e.By, e.On, e.Until, e.Link, e.Owner = reasons.Why, reasons.Reason, reasons.By, reasons.On, reasons.Until, reasons.Link, reasons.Owner
	return e
}

// Expired reports whether the entry's acceptance has run out on the day today.
func (e Entry) Expired(today string) bool { return e.Until != "" && e.Until < today }

// KnowsTool reports whether a take covered a tool, on whatever paths.
func (b *Baseline) KnowsTool(tool string) bool {
	return slices.ContainsFunc(b.Covers, func(c Cover) bool { return c.Tool == tool })
}

// CoversFinding reports whether a take covered the finding's tool and path. A finding without a file is covered
// wherever its tool is.
func (b *Baseline) CoversFinding(tool, path string) bool {
	for _, c := range b.Covers {
		if c.Tool == tool && (path == "" || c.Matches(path)) {
			return true
		}
	}
	return false
}

// Matches reports whether one of the cover's globs takes path, and no exception does.
func (c Cover) Matches(path string) bool {
	return matchesAny(c.Paths, path) && !matchesAny(c.Except, path)
}

// matchesAny reports whether a glob takes a path; one without a wildcard takes the folder of that name too.
func matchesAny(globs []string, path string) bool {
	for _, glob := range globs {
		if glob == Everywhere || glob == path || doublestar.MatchUnvalidated(glob, path) || inFolder(path, glob) {
			return true
		}
	}
	return false
}

func inFolder(path, folder string) bool {
	folder = strings.TrimSuffix(folder, "/")
	return len(path) > len(folder) && path[len(folder)] == '/' && path[:len(folder)] == folder && folder != ""
}

// Everywhere is the glob of a cover that takes every path.
const Everywhere = "**"

// PathGlob returns the glob that takes path and nothing else.
func PathGlob(path string) string { return globEscapes.Replace(path) }

var globEscapes = strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`, `{`, `\{`, `]`, `\]`, `}`, `\}`)
