package render

import (
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
)

// JUnit XML, as continuous-integration systems read it.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Errors   int          `xml:"errors,attr"`
		Skipped  int          `xml:"skipped,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Time     string      `xml:"time,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string        `xml:"name,attr"`
		Class   string        `xml:"classname,attr"`
		File    string        `xml:"file,attr,omitempty"`
		Line    int           `xml:"line,attr,omitempty"`
		Time    string        `xml:"time,attr"`
		Skipped *junitSkipped `xml:"skipped"`
		Failure *junitFailure `xml:"failure"`
		Error   *junitFailure `xml:"error"`
	}
	junitSkipped struct {
		Message string `xml:"message,attr"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

func (s *junitSuite) add(c junitCase) {
	c.Time = "0"
	s.Cases = append(s.Cases, c)
	s.Tests++
	switch {
	case c.Failure != nil:
		s.Failures++
	case c.Error != nil:
		s.Errors++
	case c.Skipped != nil:
		s.Skipped++
	}
}

// writeJUnit writes a case for each piece of evidence, each limit, and each finding that broke one.
func writeJUnit(w io.Writer, v judge.Verdict) error {
	evidence := junitSuite{Name: "evidence", Time: "0"}
	for _, e := range v.Evidence {
		c := junitCase{Name: evidenceName(e), Class: "evidence"}
		switch {
		case !e.Sound() && e.Optional:
			c.Skipped = &junitSkipped{xmlText(e.Problem)}
		case !e.Sound():
			c.Error = &junitFailure{Message: xmlText(e.Problem), Type: string(e.State)}
		}
		evidence.add(c)
	}
	limits := junitSuite{Name: "limits", Time: "0"}
	for _, l := range v.Limits {
		c := junitCase{Name: xmlText(l.Name), Class: "limits"}
		switch {
		case l.Waiting:
			c.Skipped = &junitSkipped{"not in force on this day"}
		case l.Held:
		case l.Mode == policy.Advise:
			c.Skipped = &junitSkipped{"only advises: " + bound(l)}
		default:
			c.Failure = &junitFailure{Message: bound(l), Type: "limit", Text: xmlText(l.Say)}
		}
		limits.add(c)
	}
	findings := junitSuite{Name: "findings", Time: "0"}
	shutting := v.Shutting()
	for _, i := range v.Broken() {
		findings.add(caseOf(v.Findings[i], slices.Contains(shutting, i)))
	}
	all := junitSuites{Name: "zincdoor " + xmlText(v.Door), Suites: []junitSuite{evidence, limits, findings}}
	for _, s := range all.Suites {
		all.Tests, all.Failures, all.Errors, all.Skipped = all.Tests+s.Tests, all.Failures+s.Failures, all.Errors+s.Errors, all.Skipped+s.Skipped
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	out := xml.NewEncoder(w)
	out.Indent("", "  ")
	if err := out.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// caseOf is a finding as a case: failed where what it broke shuts the door, passed by where it is only advised against.
func caseOf(f judge.Finding, shuts bool) junitCase {
	c := junitCase{Name: xmlText(fmt.Sprintf("%s %s", place(f.Finding), f.Rule)), Class: xmlText(strings.ReplaceAll(f.Path, "/", ".")), File: xmlText(f.Path), Line: f.Region.Line}
	if c.Class == "" {
		c.Class = "no file"
	}
	if !shuts {
		c.Skipped = &junitSkipped{xmlText(f.Message)}
		return c
	}
	c.Failure = &junitFailure{Message: xmlText(f.Message), Type: xmlText(f.Severity), Text: xmlText(fmt.Sprintf("%s: %s: %s [%s]\n%s, %s", place(f.Finding), f.Severity, f.Message, f.Rule, f.Standing, where(f)))}
	return c
}

// place is path:line:column, as far as it is known.
func place(f *finding.Finding) string {
	at := f.Path
	if f.Region.Line > 0 {
		at += fmt.Sprintf(":%d", f.Region.Line)
		if f.Region.Column > 0 {
			at += fmt.Sprintf(":%d", f.Region.Column)
		}
	}
	return at
}

// xmlText shows what would steer a terminal or can't be in XML as its code.
func xmlText(s string) string {
	var lines []string
	for line := range strings.SplitSeq(s, "\n") {
		lines = append(lines, Safe(strings.ToValidUTF8(line, "\uFFFD")))
	}
	return strings.Join(lines, "\n")
}
