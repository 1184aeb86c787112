// Package house knows Zinc Door's own checks, which go by the text of files whatever their language: what each looks for,
// why, and how it is fixed where that is safe. It knows files by their contents and modes, not where they come from.
package house

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/spelling"
)

// Tool is what the checks are called as a tool, and as a report.
const Tool = "house"

// Rule is one check.
type Rule struct {
	Name  string
	Level finding.Level
	Short string // what it finds
	Why   string
	Bad   string // an example, and the same fixed
	Good  string
	Space bool // it is about white space, so that lines which differ in nothing else are the author's
	Takes []string
	lines func(t *text, s *Setting)
	file  func(t *text, s *Setting)
}

// Text is what a tool would say about the rule.
func (r Rule) Text() finding.Rule {
	full := r.Why
	if r.Bad != "" {
		full += "\n\nBad:\n\n    " + strings.ReplaceAll(r.Bad, "\n", "\n    ") + "\n\nGood:\n\n    " + strings.ReplaceAll(r.Good, "\n", "\n    ")
	}
	return finding.Rule{Short: r.Short, Full: full}
}

// The names of the rules that a policy defines by itself: text that is forbidden, and text that each file must have.
const (
	Forbid  = "forbid"
	Require = "require"
)

// Setting is a rule as a policy has it on.
type Setting struct {
	Name   string   // what its findings are called: one of Rules, or the policy's own name
	Kind   string   // one of Rules, Forbid or Require
	Paths  []string // globs; empty for all files
	Except []string // globs
	Most   int      // columns, or bytes
	Tab    int      // how wide a tab is
	Want   string   // which line ends: lf, crlf, or "" for the file's own habit
	Find   *regexp.Regexp
	Match  *regexp.Regexp // what is found, or a file's name, must match it
	Say    string
	With   string // what takes the place of a forbidden text
	Fixes  bool   // With is set

	Spelling *spelling.Setting // of the check on spelling, else nil
}

// Mode is what a file is.
type Mode byte

// The modes.
const (
	Plain Mode = iota
	Executable
	Link
)

// File is a file as it is checked. Data is a link's target.
type File struct {
	Path string
	Mode Mode
	Data []byte
	Size int64
}

// Flaw is where a text can't be read: line and column are 1-based, 0 where they aren't known.
type Flaw struct {
	Line, Column int
	Text         string
	Unread       bool // the text wasn't looked at, for the reason that Text gives
}

// Parser looks for the first flaw of a text, nil where it is well-formed. It may be called for several texts at once.
type Parser func(data []byte) *Flaw

// Parsers are what the checks on syntax are made with, by the names of their rules. One that isn't there finds nothing.
type Parsers map[string]Parser

// The bounds of the checks. What is longer isn't looked at, which a finding of the least weight says. They take time in proportion to a
// file's length.
const (
	mostFound = 1000     // findings of one rule in a file that are kept; the rest is counted
	mostBytes = 32 << 20 // of a file whose lines or whose syntax is checked
	mostLines = 4 << 20  // of a file whose lines are checked
)

// text is a file on its way through the checks.
type text struct {
	File
	lines  [][]byte // without their line feeds
	ended  bool     // the last line has its line feed
	found  []finding.Finding
	counts map[string]int
	syntax Parsers
}

// Check holds a file against the settings that take it. The findings have their columns in bytes.
func Check(f File, settings []Setting, syntax Parsers) []finding.Finding {
	t := &text{File: f, counts: map[string]int{}, syntax: syntax}
	binary := f.Mode == Link || bytes.IndexByte(f.Data[:min(len(f.Data), 8000)], 0) >= 0
	for i := range settings {
		s := &settings[i]
		rule := RuleOf(s.Kind)
		switch {
		case rule == nil:
		case rule.file != nil:
			rule.file(t, s)
		case !binary && rule.lines != nil:
			if t.cut() {
				rule.lines(t, s)
			} else {
				t.unread(s, fmt.Sprintf("it is over %d MiB or %d lines long", mostBytes>>20, mostLines))
			}
		}
	}
	for i := range settings {
		if more := t.counts[settings[i].Name] - mostFound; more > 0 {
			t.found = append(t.found, finding.Finding{
				Tool: Tool, Rule: settings[i].Name, Level: RuleOf(settings[i].Kind).Level, Path: f.Path, Columns: source.Bytes, Occurrences: 1,
				Message: fmt.Sprintf("and %d more like this in the file", more),
			})
		}
	}
	return t.found
}

// unread says that a file wasn't looked at, and why.
func (t *text) unread(s *Setting, why string) {
	t.find(s, 0, 0, 0, nil, "the file wasn't checked: %s", why)
	t.found[len(t.found)-1].Level = finding.Note
}

// cut cuts the file into lines, once; false where it is too long.
func (t *text) cut() bool {
	data := t.Data
	if t.lines != nil || len(data) == 0 {
		return true
	}
	if len(data) > mostBytes || bytes.Count(data, []byte{'\n'}) > mostLines {
		return false
	}
	t.ended = data[len(data)-1] == '\n'
	t.lines = bytes.Split(data, []byte{'\n'})
	if t.ended {
		t.lines = t.lines[:len(t.lines)-1]
	}
	return true
}

// find notes a finding at bytes from to to of a line (1-based line, 0-based bytes; 0 for no line), with the text that fixes
// it; nil where that isn't known.
func (t *text) find(s *Setting, line, from, to int, with *string, format string, args ...any) {
	if t.counts[s.Name]++; t.counts[s.Name] > mostFound {
		return
	}
	f := finding.Finding{Tool: Tool, Rule: s.Name, Level: RuleOf(s.Kind).Level, Message: fmt.Sprintf(format, args...), Path: t.Path, Columns: source.Bytes, Occurrences: 1}
	if line > 0 {
		f.Region = finding.Region{Line: line, Column: from + 1, EndLine: line, EndColumn: to + 1}
	}
	if with != nil {
		about := fmt.Sprintf("put %q in its place", *with)
		switch *with {
		case "":
			about = "remove it"
		case "\n", "\r\n", "\r":
			about = "end the line"
		}
		f.Detail().Fixes = []finding.Fix{{Description: about, Edits: []finding.Edit{{Path: t.Path, Region: f.Region, Text: *with}}}}
	}
	t.found = append(t.found, f)
}

// RuleOf is the rule of that name, nil where there is none.
func RuleOf(name string) *Rule {
	if i := slices.IndexFunc(Rules, func(r Rule) bool { return r.Name == name }); i >= 0 {
		return &Rules[i]
	}
	return nil
}

// AboutSyntax reports whether a rule is about the file as a whole, whose fault may show far from where it was made.
func AboutSyntax(name string) bool { return strings.HasSuffix(name, "-syntax") && RuleOf(name) != nil }

// AboutTree reports whether a rule holds a file against the other files of its tree.
func AboutTree(name string) bool { return name == "case-twins" || name == "broken-link" }

// AboutSpace reports whether a rule is about white space.
func AboutSpace(name string) bool {
	r := RuleOf(name)
	return r != nil && r.Space
}
