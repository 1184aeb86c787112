package policy

import (
	"regexp"
	"slices"

	"zincdoor/internal/core/finding"
)

// The kinds of text that recipes read.
const (
	PlainText = "text"
	JSONText  = "json" // one value, or several one after another
	XMLText   = "xml"
	HTMLText  = "html"
	CSVText   = "csv"
	TSVText   = "tsv"
)

// RecipeFields are what a recipe can say about a finding.
var RecipeFields = []string{
	"path", "line", "column", "end_line", "end_column", "rule", "severity", "message", "tool", "measure", "help", "suggestion",
	Hits, Branches, Taken,
}

// The fields of recipes for what tests cover: how often they came to a line; how many ways on from it there are, and how many of them
// were taken, or without Branches how often one of them was. A recipe with Hits or Taken reads that, and not findings.
const (
	Hits     = "hits"
	Branches = "branches"
	Taken    = "taken"
)

// ReadsCoverage reports whether the recipe reads what tests cover.
func (r *Recipe) ReadsCoverage() bool {
	for _, name := range []string{Hits, Taken} {
		if _, has := r.Fields[name]; has {
			return true
		}
		for _, p := range []*regexp.Regexp{r.Match, r.Then} {
			if p != nil && slices.Contains(p.SubexpNames(), name) {
				return true
			}
		}
	}
	return false
}

// Recipe describes how to read a report whose format has no open standard.
type Recipe struct {
	Name string
	As   string // the kind of text

	Each   []string       // JSON, XML and HTML: what leads to a finding, each path from the nodes of the one before it
	Match  *regexp.Regexp // text: a line that begins a finding; its named groups are fields
	Then   *regexp.Regexp // text: a line that goes on with it; nil for none
	Header bool           // CSV and TSV: the first row names the columns

	Noise *regexp.Regexp // lines to pass by; nil for none
	Clean *regexp.Regexp // what is in a report of a tool that found nothing; nil for none

	Fields     map[string]Field
	Severities map[string]string // the severity of each word that the report writes

	ladder Ladder
	levels map[finding.Level]string
}

// Field is where a recipe finds one thing.
type Field struct {
	At     string         // a JSONPath, an XPath or a column's name
	Up     int            // so many levels of Each above the finding
	Member int            // JSON: the name of the enclosing member, the innermost being 1; 0 for none
	Nth    int            // CSV: the column's number, from 1; 0 for none
	Is     string         // always this
	Cut    *regexp.Regexp // its first group, or all that it takes, is the value; nil for the whole
	First  int            // the number that the report gives the first line or column
}

// Severity is the severity of a word that the report writes; known is false for a word that says nothing to the policy, which
// counts as the worst.
func (r *Recipe) Severity(word string) (severity string, known bool) {
	if severity, known = r.Severities[word]; known {
		return severity, true
	}
	if slices.Contains(r.ladder, word) {
		return word, true
	}
	if severity, known = r.levels[finding.Level(word)]; known {
		return severity, true
	}
	return r.ladder[0], false
}

// Recipe returns the recipe of that name, nil where there is none.
func (p *Policy) Recipe(name string) *Recipe {
	for _, r := range p.Recipes {
		if r.Name == name {
			bound := *r
			bound.ladder, bound.levels = p.Ladder, p.Levels
			return &bound
		}
	}
	return nil
}

// FormatNames lists the formats and the recipes.
func (p *Policy) FormatNames() []string {
	names := slices.Clone(Formats)
	for _, r := range p.Recipes {
		names = append(names, r.Name)
	}
	return names
}
