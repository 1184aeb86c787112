package report

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
)

// recipeReader reads a report as a recipe says.
type recipeReader struct {
	*policy.Recipe
	report  *Report
	unknown map[string]bool // severities that say nothing to the policy

	covers bool // it reads what tests cover
	room   int  // how many more lines there may be of that

	cleanLine *regexp.Regexp // the whole line by which a text says that nothing was found; nil for none
}

func readRecipe(in *bufio.Reader, recipe *policy.Recipe) (*Report, error) {
	c := &recipeReader{Recipe: recipe, report: &Report{Format: recipe.Name, Tools: []Tool{{}}}, unknown: map[string]bool{}}
	if c.covers = recipe.ReadsCoverage(); c.covers {
		c.report.Format, c.report.Coverage, c.room = policy.Coverage, measure.Coverage{}, mostLines()
	}
	head, err := in.Peek(in.Size())
	if err != nil && err != io.EOF && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, err
	}
	empty := len(bytes.TrimSpace(head)) == 0
	switch {
	case recipe.Clean == nil || empty:
	case recipe.As == policy.PlainText:
		c.cleanLine = regexp.MustCompile("^(?:" + recipe.Clean.String() + ")$")
	default:
		c.report.Clean = recipe.Clean.Match(bytes.TrimSpace(head))
	}
	if recipe.Noise != nil {
		in = bufio.NewReaderSize(&quiet{in: in, noise: recipe.Noise}, 1<<16)
	}
	read := map[string]func(*bufio.Reader) error{
		policy.PlainText: c.text, policy.JSONText: c.json, policy.XMLText: c.xml, policy.HTMLText: c.html, policy.CSVText: c.table, policy.TSVText: c.table,
	}[recipe.As]
	if err := read(in); err != nil {
		return nil, err
	}
	if recipe.As == policy.PlainText && c.report.UnreadCount > 0 {
		c.report.Clean = false // it says more than that nothing was found
	}
	switch {
	case c.covers && len(c.report.Coverage) > 0 && c.report.UnreadCount == 0:
		c.report.Tools[0].Targets = c.report.Coverage.Paths()
		return c.report, nil
	case c.covers && !empty:
		c.report.fail("the recipe %s finds no lines that tests came to, or can't read all of it%s", recipe.Name, c.example())
	case len(c.report.Findings) > 0 || c.report.Clean:
	case !empty:
		c.report.Failure = fmt.Sprintf("the recipe %s finds nothing in it%s; if that means that the tool found nothing, add clean: to the recipe, with what the report says then", recipe.Name, c.example())
	case recipe.As != policy.PlainText:
		return nil, fmt.Errorf("byte 0: it is empty, which is no %s: %w", strings.ToUpper(recipe.As), ErrMalformed)
	}
	for word := range c.unknown {
		severity, _ := recipe.Severity(word)
		c.report.Notices = append(c.report.Notices, fmt.Sprintf("the recipe %s has no severity for %q, so it counts as %s", recipe.Name, clip(word), severity))
	}
	slices.Sort(c.report.Notices)
	if n := c.report.UnreadCount; n > 0 && len(c.report.Findings) > 0 {
		c.report.Notices = append(c.report.Notices, fmt.Sprintf("the recipe %s skips what it can't read: %d%s; for lines that say nothing, add noise: to the recipe", recipe.Name, n, c.example()))
	}
	return c.report, nil
}

func (c *recipeReader) example() string {
	if len(c.report.Unread) == 0 {
		return ""
	}
	return fmt.Sprintf(" (%s: %q)", c.report.Unread[0].At, clip(c.report.Unread[0].Text))
}

// quiet leaves out the lines that a pattern takes.
type quiet struct {
	in    *bufio.Reader
	noise *regexp.Regexp
	left  []byte
	end   error
}

func (q *quiet) Read(p []byte) (int, error) {
	for len(q.left) == 0 {
		if q.end != nil {
			return 0, q.end
		}
		var line []byte
		line, q.end = q.in.ReadBytes('\n')
		if !q.noise.Match(bytes.TrimRight(line, "\r\n")) {
			q.left = line
		} else if bytes.HasSuffix(line, []byte("\n")) {
			q.left = line[len(line)-1:] // line numbers stay
		}
	}
	n := copy(p, q.left)
	q.left = q.left[n:]
	return n, nil
}

// values are a finding's fields as the report has them.
type values map[string]string

// add makes values a finding. at says where they stand.
func (c *recipeReader) add(v values, at string) error {
	if c.covers {
		return c.addLine(v, at)
	}
	f := finding.Finding{
		Path: cleanLocation(v["path"]), Rule: v["rule"], Message: v["message"], Tool: v["tool"],
		Columns: source.CodePoints, Level: finding.Warning, Occurrences: 1,
	}
	f.Message = cmp.Or(f.Message, f.Rule, "the report gives no message") // what it counts as a finding is never left out
	if v["help"] != "" {
		f.Detail().Help = v["help"]
	}
	numbers := []*int{&f.Region.Line, &f.Region.Column, &f.Region.EndLine, &f.Region.EndColumn}
	for i, name := range []string{"line", "column", "end_line", "end_column"} {
		number, err := c.number(name, v[name])
		if err != nil {
			return fmt.Errorf("%s: %s is %q, which is no number: %w", at, name, clip(v[name]), ErrMalformed)
		}
		*numbers[i] = number
	}
	if f.Region.EndColumn > 0 {
		f.Region.EndColumn++ // tools name the last character, a region the one after it
	}
	if f.Region.Line > 0 {
		f.Region.EndLine = max(f.Region.EndLine, f.Region.Line)
	} else {
		f.Region = finding.Region{}
	}
	weight := finding.Traits{Measured: v["measure"]}
	if number, err := strconv.ParseFloat(weight.Measured, 64); weight.Measured != "" && (err != nil || number != number) {
		return fmt.Errorf("%s: measure is %q, which is no number: %w", at, clip(weight.Measured), ErrMalformed)
	}
	if word := v["severity"]; word != "" {
		severity, known := c.Severity(word)
		weight.Severity = severity
		if !known {
			c.unknown[word] = true
		}
		if level := finding.Level(severity); slices.Contains(finding.Levels, level) {
			f.Level = level
		}
	}
	if text, ok := v["suggestion"]; ok && f.Region.Line > 0 {
		f.Detail().Fixes = []finding.Fix{{Edits: []finding.Edit{{Path: f.Path, Region: f.Region, Text: text}}}}
	}
	if weight.Severity != "" || weight.Measured != "" {
		f.Traits = &weight
	}
	return c.report.add(f)
}

// addLine adds what tests came to: a line with how often, or one of the ways on from it.
func (c *recipeReader) addLine(v values, at string) error {
	if c.room--; c.room < 0 {
		return tooManyLines()
	}
	line, err := c.number("line", v["line"])
	if err != nil || line < 1 || v["path"] == "" {
		return fmt.Errorf("%s: there is no path or no line for how often tests came there: %w", at, ErrMalformed)
	}
	counts := map[string]int{}
	for _, name := range []string{policy.Hits, policy.Branches, policy.Taken} {
		if v[name] == "" {
			continue
		}
		n, err := strconv.ParseFloat(strings.TrimSpace(v[name]), 64)
		if err != nil || n < 0 || n > 1<<53 {
			return fmt.Errorf("%s: %s is %q, which is no number from 0: %w", at, name, clip(v[name]), ErrMalformed)
		}
		counts[name] = int(n)
	}
	file := cleanLocation(v["path"])
	if _, oneWay := counts[policy.Branches]; v[policy.Taken] == "" || oneWay {
		c.report.Coverage.Add(file, line, measure.Hits{Count: counts[policy.Hits], Branches: counts[policy.Branches], Taken: min(counts[policy.Taken], counts[policy.Branches])})
		return nil
	}
	c.report.Coverage.AddWay(file, line, counts[policy.Hits]+counts[policy.Taken], counts[policy.Taken] > 0)
	return nil
}

// number reads a line or column, 0 where there is none, counted from 1.
func (c *recipeReader) number(name, text string) (int, error) {
	text = strings.TrimSpace(text)
	if text == "" || text == "null" {
		return 0, nil
	}
	whole, fraction, _ := strings.Cut(text, ".0")
	number, err := strconv.Atoi(whole)
	first := 1
	if f, ok := c.Fields[name]; ok {
		first = f.First
	}
	if err != nil || strings.Trim(fraction, "0") != "" || number < 0 || number > 1<<30 {
		return 0, strconv.ErrSyntax
	}
	return number + 1 - first, nil
}

// cut takes what a field wants of a value.
func cut(f policy.Field, value string) string {
	if f.Cut == nil {
		return value
	}
	m := f.Cut.FindStringSubmatch(value)
	switch {
	case m == nil:
		return ""
	case len(m) > 1:
		return m[1]
	}
	return m[0]
}

func (c *recipeReader) unread(at, text string) { c.report.unread(Unread{at, text}) }

// constants are the fields that say always the same.
func (c *recipeReader) constants() values {
	v := values{}
	for name, f := range c.Fields {
		if f.Is != "" {
			v[name] = f.Is
		}
	}
	return v
}

// text reads lines: one that match takes begins a finding, those after it that then takes go on with it. Of a line mostText bytes
// count.
func (c *recipeReader) text(in *bufio.Reader) error {
	var open values // the finding that the last lines belong to
	begun := 0
	flush := func() error {
		if open == nil {
			return nil
		}
		v := open
		open = nil
		return c.add(v, fmt.Sprintf("line %d", begun))
	}
	for number := 1; ; number++ {
		raw, err := readLine(in)
		if err != nil && err != io.EOF {
			return fmt.Errorf("reading line %d: %w", number, err)
		}
		if bytes.IndexByte(raw, 0) >= 0 {
			return fmt.Errorf("line %d: the report isn't text: %w", number, ErrMalformed)
		}
		line := plain(raw)
		if m := c.Match.FindStringSubmatch(line); m != nil && line != "" {
			if err := flush(); err != nil {
				return err
			}
			open, begun = c.constants(), number
			groups(open, c.Match, m)
		} else if m := c.goesOn(open, line); m != nil {
			groups(open, c.Then, m)
		} else if line != "" {
			if err := flush(); err != nil {
				return err
			}
			if c.cleanLine != nil && c.cleanLine.MatchString(line) {
				c.report.Clean = true
			} else {
				c.unread(fmt.Sprintf("line %d", number), line)
			}
		}
		if err == io.EOF {
			return flush()
		}
	}
}

func (c *recipeReader) goesOn(open values, line string) []string {
	if open == nil || c.Then == nil || line == "" {
		return nil
	}
	return c.Then.FindStringSubmatch(line)
}

// groups takes the named groups of a match over. What a message has already is gone on with; other fields keep what they
// have.
func groups(v values, pattern *regexp.Regexp, match []string) {
	for i, name := range pattern.SubexpNames() {
		switch {
		case name == "" || match[i] == "":
		case v[name] == "":
			v[name] = match[i]
		case name == "message":
			v[name] += " " + strings.TrimSpace(match[i])
		}
	}
}
