package render

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"zincdoor/internal/seal"
)

func writeSealed(w io.Writer, o Options) error {
	if o.Seal == nil {
		return errors.New("the format sealed needs a key: --key FILE")
	}
	data, err := o.Seal()
	if err == nil {
		_, err = w.Write(data)
	}
	return err
}

// Verified is what became of a sealed statement that was checked.
type Verified struct {
	File      string
	Statement seal.Statement
	Digest    string
	Commit    string
	Into      string
	By        []string
	Why       []string
	Unchecked []string
	Limits    []string
}

// VerifiedFormats lists the formats of a check.
var VerifiedFormats = []string{Terminal, JSON}

// verifiedJSON is the document verified/1.
type verifiedJSON struct {
	Version   string          `json:"zincdoor"`
	Holds     bool            `json:"holds"`
	Sealed    []string        `json:"sealed"`
	Problems  []string        `json:"problems"`
	Unchecked []string        `json:"unchecked"`
	Limits    []string        `json:"limits"`
	Commit    string          `json:"commit"`
	Envelope  string          `json:"envelope"`
	Tree      string          `json:"tree"`
	Reports   *seal.Reports   `json:"reports,omitempty"`
	Verdict   *verdictOfJSON  `json:"verdict,omitempty"`
	Exception *seal.Exception `json:"exception,omitempty"`
}

type verdictOfJSON struct {
	Passed   bool      `json:"passed"`
	Door     string    `json:"door"`
	Mode     string    `json:"mode"`
	Outcome  string    `json:"outcome"`
	Enforced string    `json:"enforced"`
	Kind     string    `json:"kind"`
	Ref      string    `json:"ref"`
	Base     string    `json:"base"`
	Tip      string    `json:"tip"`
	Policy   string    `json:"policy"`
	From     string    `json:"policy_from"`
	Baseline string    `json:"baseline"`
	Day      string    `json:"day"`
	Until    string    `json:"until"`
	Time     time.Time `json:"time"`
	Program  string    `json:"program"`
}

// Verify shows what became of a sealed statement.
func Verify(w io.Writer, format string, v Verified) error {
	if format == JSON {
		return writeVerifiedJSON(w, v)
	}
	l := lookFor(w)
	var text strings.Builder
	column := indent + 2
	if v.Statement.Reports != nil {
		for _, r := range v.Statement.Reports.Reports {
			column = max(column, min(len(r.Name)+4, 3*indent))
		}
	}
	line := func(name, value string) {
		if value == "" {
			return
		}
		for _, part := range Wrap(Safe(value), max(l.columns-column, 20)) {
			fmt.Fprintf(&text, "%s%s\n", l.faint.Render(fmt.Sprintf("%-*s", column, "  "+Safe(name))), part)
			name = ""
		}
	}
	s := v.Statement
	switch {
	case s.Verdict != nil:
		d := s.Verdict
		result := "FAILED"
		if d.Passed {
			result = "PASSED"
		}
		fmt.Fprintf(&text, "%s\n", l.bold.Render(Safe(fmt.Sprintf("verdict of the door %s: %s (%s, mode %s)", d.Door, result, d.Outcome, d.Mode))))
		line("change", strings.TrimSpace(d.Kind+" for "+orNothing(d.Ref)))
		line("from", d.Base)
		line("policy", d.Policy+", of "+d.From)
		line("baseline", orNothing(d.Baseline))
		line("judged", d.Day+", sealed "+d.Time.UTC().Format(time.RFC3339)+" by zincdoor "+d.Program)
		line("until", d.Until)
	case s.Exception != nil:
		e := s.Exception
		fmt.Fprintf(&text, "%s\n", l.bold.Render(Safe("exception for the door "+e.Door)))
		line("by", e.By)
		line("reason", e.Reason)
		line("until", e.Until)
	default:
		fmt.Fprintf(&text, "%s\n", l.bold.Render(Safe(fmt.Sprintf("reports, sealed %s by zincdoor %s", s.Reports.Time.UTC().Format(time.RFC3339), s.Reports.Program))))
		for _, r := range s.Reports.Reports {
			about := []string{fmt.Sprintf("sha256 %.12s, %d bytes", r.Files[0].SHA256, r.Files[0].Bytes)}
			if len(r.Files) > 1 {
				about[0] = fmt.Sprintf("%d files", len(r.Files))
			}
			if tool := strings.TrimSpace(r.Tool + " " + r.Version); tool != "" {
				about = append(about, tool)
			}
			if r.Command != "" {
				about = append(about, r.Command)
			}
			if r.Exit != nil {
				about = append(about, fmt.Sprintf("exit code %d", *r.Exit))
			}
			line(r.Name, strings.Join(about, ", "))
		}
	}
	line("tree", s.Tree)
	line("commit", s.Commit)
	if len(v.Unchecked) > 0 && len(v.Why) == 0 {
		line("note", "the content of "+strings.Join(v.Unchecked, ", ")+" wasn't given, so it isn't compared: --report NAME=FILE")
	}
	if len(v.Limits) > 0 && len(v.Why) == 0 {
		line("note", "a key of "+strings.Join(v.By, ", ")+" speaks for "+strings.Join(v.Limits, ", ")+" alone; to compare what the change touches, name what it comes to: --into REF")
	}
	for _, why := range v.Why {
		line("problem", why)
	}
	of := fmt.Sprintf("for %.12s", v.Commit)
	if v.Into != "" {
		of += " into " + strings.TrimPrefix(strings.TrimPrefix(v.Into, "refs/heads/"), "refs/remotes/")
	}
	if len(v.Why) > 0 {
		fmt.Fprintf(&text, "%s\n", l.bold.Render(Safe(fmt.Sprintf("%s doesn't hold %s", v.File, of))))
	} else {
		fmt.Fprintf(&text, "%s\n", l.bold.Render(Safe(fmt.Sprintf("%s holds %s, sealed by %s", v.File, of, strings.Join(v.By, ", ")))))
	}
	_, err := io.WriteString(w, text.String())
	return err
}

func orNothing(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

func writeVerifiedJSON(w io.Writer, v Verified) error {
	list := func(l []string) []string { return append([]string{}, l...) }
	doc := verifiedJSON{
		Version: "verified/1", Holds: len(v.Why) == 0, Sealed: list(v.By), Problems: list(v.Why), Unchecked: list(v.Unchecked), Limits: list(v.Limits), Commit: v.Commit,
		Envelope: v.Digest, Tree: v.Statement.Tree, Reports: v.Statement.Reports, Exception: v.Statement.Exception,
	}
	if d := v.Statement.Verdict; d != nil {
		doc.Verdict = &verdictOfJSON{d.Passed, d.Door, d.Mode, d.Outcome, d.Enforced, d.Kind, d.Ref, d.Base, d.Tip, d.Policy, d.From, d.Baseline, d.Day, d.Until, d.Time, d.Program}
	}
	data, err := json.Marshal(doc)
	if err == nil {
		_, err = w.Write(append(data, '\n'))
	}
	return err
}
