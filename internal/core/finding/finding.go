// Package finding knows what one finding is: what a tool said, and of which place in the code. It doesn't know how
// reports are written, nor what a team makes of the finding.
package finding

import (
	"cmp"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/processors"
	"zincdoor/internal/core/source"
)

// Level is the weight the tool itself gave a finding, in SARIF's words (SARIF 2.1.0, 3.27.10).
type Level string

// The four levels of SARIF.
const (
	Error   Level = "error"
	Warning Level = "warning"
	Note    Level = "note"
	None    Level = "none"
)

// Levels lists every level, worst first.
var Levels = []Level{Error, Warning, Note, None}

// Region is a stretch of a file. Lines and columns are 1-based; 0 says unknown. EndLine is inclusive, EndColumn is
// the column after the last character.
type Region struct {
	Line, Column, EndLine, EndColumn int
}

// Last returns the region's last line, 0 where it has no line.
func (r Region) Last() int { return max(r.Line, r.EndLine) }

// Remark is what a tool adds to a finding, often with a place of its own.
type Remark struct {
	Message string
	Path    string // relative to the repository's root, or as reported where it lies outside
	Region  Region
}

// Details are what a tool says of a finding beside what it is.
type Details struct {
	Notes         []Remark
	Flows         [][]Remark // the ways through the code that lead there, step by step (SARIF 2.1.0, 3.36)
	Fixes         []Fix      // what the tool suggests, the first being the best
	Logical       string     // the function or class it stands in, as the tool names it
	Help          string     // where the tool explains its rule: an address
	Suggestion    string     // what the tool suggests, for people, where the fixes themselves aren't known
	Justification string     // why its tool suppressed it
	Includers     []string   // the files that include the one it stands in, from the nearest to the one compiled; empty where that isn't said
}

// Detail gives the finding's details to be filled in.
func (f *Finding) Detail() *Details {
	if f.Extra == nil {
		f.Extra = &Details{}
	}
	return f.Extra
}

// EachPath shows each path of the details to be put right. There may be none.
func (d *Details) EachPath(see func(path *string)) {
	if d == nil {
		return
	}
	for i := range d.Notes {
		see(&d.Notes[i].Path)
	}
	for _, flow := range d.Flows {
		for i := range flow {
			see(&flow[i].Path)
		}
	}
	for _, fix := range d.Fixes {
		for i := range fix.Edits {
			see(&fix.Edits[i].Path)
		}
	}
	for i := range d.Includers {
		see(&d.Includers[i])
	}
}

// Clone is a copy of the details whose places may be put right: nil of nil.
func (d *Details) Clone() *Details {
	if d == nil {
		return nil
	}
	own := *d
	own.Notes, own.Includers, own.Fixes, own.Flows = slices.Clone(d.Notes), slices.Clone(d.Includers), slices.Clone(d.Fixes), slices.Clone(d.Flows)
	for i := range own.Fixes {
		own.Fixes[i].Edits = slices.Clone(own.Fixes[i].Edits)
	}
	for i := range own.Flows {
		own.Flows[i] = slices.Clone(own.Flows[i])
	}
	return &own
}

var noDetails Details

// Details gives the finding's details to be looked at.
func (f *Finding) Details() *Details {
	if f.Extra == nil {
		return &noDetails
	}
	return f.Extra
}

// Traits are what a tool says of how much a finding matters; those of a rule are shared by its findings.
type Traits struct {
	Tags     []string // of the rule and of the finding itself
	Rank     float64  // how much it matters, 0 to 100 (SARIF 2.1.0, 3.27.25); 0 where the tool doesn't say
	Security float64  // its rule's security severity, 0 to 10; 0 where the tool doesn't say
	Severity string   // the severity that a recipe gives it, "" where none does
	Measured string   // the number that tells how bad it is, where the tool gives it beside the message
}

var noTraits Traits

// Weight gives the finding's traits to be looked at.
func (f *Finding) Weight() *Traits {
	if f.Traits == nil {
		return &noTraits
	}
	return f.Traits
}

// Rule is what a tool says about one of its rules (SARIF 2.1.0, 3.49).
type Rule struct {
	Name     string
	Short    string // one sentence
	Full     string
	Help     string // how to fix it, as plain text
	Markdown string // the same as Markdown; "" where there is none
	Address  string
}

// IsWeb reports whether an address is one of a page.
func IsWeb(address string) bool {
	return strings.HasPrefix(address, "https://") || strings.HasPrefix(address, "http://")
}

// Finding is one thing a tool reported. There may be millions of them: what few have is kept apart.
type Finding struct {
	Tool    string // the tool's own name for itself
	Rule    string // the rule or flag; "" where the tool names none
	Level   Level
	Message string
	Path    string // relative to the repository's root, slash-separated; "" where the finding has no file
	Region  Region

	Traits *Traits  // nil where there is nothing
	Extra  *Details // what there is to show; nil where there is nothing

	Fingerprints Fingerprints // the tool's own fingerprints, by their names
	Snippet      string       // the code the report quotes at Region.Line, "" where it quotes none
	Code         source.Code  // the code at Region.Line as it stands in the repository

	Occurrences int      // how often the reports say exactly this, at least 1
	Sources     []string // the reports it came from

	Columns    source.Columns // the unit of the region's columns
	Unweighed  bool           // its tool has no word for its level, so that it is a finding only where Path is a file
	Generated  bool           // its file was generated, by a marker line in it
	Suppressed bool           // its tool suppressed it
	Fresh      bool           // it is known not to have been there before the change, wherever it stands
	Outside    bool           // Path lies outside the repository, or isn't tracked there; Path is as reported
}

// Fix is one way to put a finding right.
type Fix struct {
	Description string
	Edits       []Edit
}

// Edit puts a text in the place of a region.
type Edit struct {
	Path   string // as Finding.Path
	Region Region
	Bytes  bool    // the region's columns are counted in bytes, whatever the finding's are
	Offset *Offset // in the place of Region, where the tool counts from the file's beginning; nil where it doesn't
	Text   string
	Was    string // what the region holds, as the report quotes it; "" where it doesn't
	Hash   string // the SHA-256 of the file that it was made for, in hexadecimal digits; "" where the report doesn't tell
}

// Offset is a stretch of a file by its distance from the file's beginning, 0-based (SARIF 2.1.0, 3.30.9 to 3.30.12).
type Offset struct {
	At, Length int
	Bytes      bool // counted in bytes, else in the unit of the finding's columns
}

// Fingerprints are the fingerprints a tool gave a finding, by their names (SARIF 2.1.0, 3.27.16 and 3.27.17), packed into a
// string: there may be millions.
type Fingerprints string

// OwnFingerprint is the name under which verdicts written as SARIF have the ids of findings; it is no fingerprint of a tool's.
const OwnFingerprint = "zincdoor/id/v1"

// What is after a name, and after a value.
const (
	printName  = "\x00"
	printValue = "\x01"
)

// OneFingerprint is a single fingerprint.
func OneFingerprint(name, value string) Fingerprints {
	return Fingerprints(name + printName + value + printValue)
}

// PackFingerprints packs fingerprints.
func PackFingerprints(all map[string]string) (prints Fingerprints) {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		prints += OneFingerprint(name, all[name])
	}
	return prints
}

// All gives the names with their values.
func (p Fingerprints) All() iter.Seq2[string, string] {
	return func(yield func(name, value string) bool) {
		for one := range strings.SplitSeq(string(p), printValue) {
			if name, value, ok := strings.Cut(one, printName); ok && !yield(name, value) {
				return
			}
		}
	}
}

// Count names a number of findings: "1 finding", "3 findings".
func Count(n int) string { return CountOf(n, "finding") }

// CountOf names a number of things whose plural ends in s.
func CountOf(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return strconv.Itoa(n) + " " + thing + "s"
}

// Order sorts findings by path, line, column and rule, then by everything else that tells two apart, so that the
// order never depends on the reports' own.
func Order(a, b Finding) int { return compare(&a, &b) }

func compare(a, b *Finding) int {
	if by := strings.Compare(a.Path, b.Path); by != 0 {
		return by
	}
	if by := cmp.Or(cmp.Compare(a.Region.Line, b.Region.Line), cmp.Compare(a.Region.Column, b.Region.Column)); by != 0 {
		return by
	}
	if by := cmp.Or(strings.Compare(a.Rule, b.Rule), strings.Compare(a.Tool, b.Tool)); by != 0 {
		return by
	}
	if by := strings.Compare(a.Message, b.Message); by != 0 {
		return by
	}
	if a.Outside != b.Outside { // which are never merged
		if b.Outside {
			return -1
		}
		return 1
	}
	return strings.Compare(string(a.Level), string(b.Level))
}

// Merge sorts findings and makes those of the same tool, path, line, column, rule and message one, adding up their
// occurrences and joining their sources. The worst level of the merged ones stays. It takes over the slice.
func Merge(findings []Finding) []Finding {
	findings = sorted(findings)
	n := 0 // that are merged
	for i := range findings {
		f := &findings[i]
		f.Occurrences = max(f.Occurrences, 1)
		if n == 0 || !same(&findings[n-1], f) {
			if n != i {
				findings[n] = *f
			}
			n++
			continue
		}
		last := &findings[n-1]
		last.Occurrences += f.Occurrences
		last.Suppressed = last.Suppressed && f.Suppressed
		last.Sources = union(last.Sources, f.Sources)
		if slices.Index(Levels, f.Level) < slices.Index(Levels, last.Level) {
			last.Level = f.Level
		}
	}
	clear(findings[n:])
	return findings[:n]
}

// sorted puts findings in Order, equal ones as they were: path by path, the findings of each by a processor of its own.
func sorted(findings []Finding) []Finding {
	if slices.IsSortedFunc(findings, Order) {
		return findings
	}
	ranks := rankPaths(findings)
	ends := make([]int32, len(ranks)+1) // of each path's findings, once all are seated
	paths := make([]int32, len(findings))
	for i := range findings {
		if i > 0 && findings[i].Path == findings[i-1].Path {
			paths[i] = paths[i-1]
		} else {
			paths[i] = ranks[findings[i].Path]
		}
		ends[paths[i]+1]++
	}
	for rank := range len(ranks) {
		ends[rank+1] += ends[rank]
	}
	seats := make([]int32, len(findings))
	for i, path := range paths {
		seats[ends[path]] = int32(i)
		ends[path]++
	}
	all := make([]Finding, len(findings))
	processors.Each(len(ranks), func(_, rank int) {
		first := int32(0)
		if rank > 0 {
			first = ends[rank-1]
		}
		slices.SortStableFunc(seats[first:ends[rank]], func(a, b int32) int { return compare(&findings[a], &findings[b]) })
		for to := first; to < ends[rank]; to++ {
			all[to] = findings[seats[to]]
		}
	})
	return all
}

// rankPaths numbers the findings' paths in their order.
func rankPaths(findings []Finding) map[string]int32 {
	ranks := map[string]int32{}
	last := ""
	for i := range findings {
		if path := findings[i].Path; i == 0 || path != last {
			last, ranks[path] = path, 0
		}
	}
	for i, path := range slices.Sorted(maps.Keys(ranks)) {
		ranks[path] = int32(i)
	}
	return ranks
}

func same(a, b *Finding) bool {
	return a.Tool == b.Tool && a.Path == b.Path && a.Region.Line == b.Region.Line &&
		a.Region.Column == b.Region.Column && a.Rule == b.Rule && a.Message == b.Message && a.Outside == b.Outside
}

func union(a, b []string) []string {
	all := slices.Concat(a, b)
	slices.Sort(all)
	return slices.Compact(all)
}

// Suggested is what the tool suggests, for people: the first fix in its own words, else the texts that it would put in.
func (d *Details) Suggested() string {
	if d == nil {
		return ""
	}
	if len(d.Fixes) == 0 {
		return d.Suggestion
	}
	return d.Fixes[0].Words()
}

// Words says what a fix does: in its own words, else by the texts that it puts in.
func (f Fix) Words() string {
	if f.Description != "" {
		return f.Description
	}
	var texts []string
	for _, e := range f.Edits {
		if text := strings.TrimSpace(e.Text); text == "" {
			texts = append(texts, "remove what is marked")
		} else {
			texts = append(texts, text)
		}
	}
	return strings.Join(texts, "; ")
}
