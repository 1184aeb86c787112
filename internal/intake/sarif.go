package intake

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// readSARIF reads one or several SARIF 2.1.0 logs, one after another, with lines of text before, between and after
// them as compilers print them. Results are read one at a time; of the whole log only its findings are kept.
func readSARIF(in *bufio.Reader) (*Report, error) {
	s := &sarif{report: &Report{Format: policy.SARIF, Relative: map[string]string{}}}
	var offset int64
	for {
		head, err := in.Peek(1)
		if err == io.EOF {
			break
		} else if err != nil {
			return nil, err
		}
		if head[0] != '{' {
			line, err := readLine(in)
			if err != nil && err != io.EOF {
				return nil, err
			}
			s.around(offset, line)
			offset += int64(len(line)) + 1
			continue
		}
		read, rest, err := s.log(in)
		if err != nil {
			return nil, placed(err, offset)
		}
		offset += read
		in = bufio.NewReader(io.MultiReader(bytes.NewReader(rest), in))
	}
	if s.logs == 0 {
		return nil, fmt.Errorf("no SARIF log in it: %w", ErrMalformed)
	}
	return s.report, nil
}

// sarif gathers what the logs of one report say.
type sarif struct {
	report  *Report
	logs    int
	remarks int // how many are kept
}

// around looks at a line outside the logs: a tool that tells there of its failure has failed.
func (s *sarif) around(offset int64, raw []byte) {
	text := plain(raw)
	if text == "" || s.report.Failure != "" {
		return
	}
	m, ok := parseMessage(text)
	if why := stopsLooking(text, m, ok); why != "" {
		s.report.Failure = fmt.Sprintf("byte %d: %s: %q", offset, why, clip(text))
	}
}

// placed tells a reading error by its byte and its JSON pointer.
func placed(err error, offset int64) error {
	var syntax *jsontext.SyntacticError
	var shape *json.SemanticError
	switch {
	case errors.As(err, &syntax):
		what := syntax.Err.Error()
		if errors.Is(err, io.ErrUnexpectedEOF) {
			what = "the log is cut off"
		}
		return fmt.Errorf("byte %d, at %q: %s: %w", offset+syntax.ByteOffset, syntax.JSONPointer, what, ErrMalformed)
	case errors.As(err, &shape):
		return fmt.Errorf("byte %d, at %q: a JSON %v doesn't belong here: %w", offset+shape.ByteOffset, shape.JSONPointer, shape.JSONKind, ErrMalformed)
	}
	return err
}

// log reads one log. It returns the number of bytes the log takes, and those read beyond it.
func (s *sarif) log(in io.Reader) (read int64, rest []byte, err error) {
	d := jsontext.NewDecoder(in, jsontext.AllowInvalidUTF8(true))
	version, runs := "", 0
	err = members(d, func(key string) error {
		switch key {
		case "version":
			if err := json.UnmarshalDecode(d, &version); err != nil {
				return err
			}
			return checkVersion(version)
		case "runs":
			return elements(d, func() error {
				runs++
				return s.run(d)
			})
		}
		return d.SkipValue()
	})
	switch {
	case err != nil:
		return 0, nil, err
	case version == "":
		return 0, nil, fmt.Errorf(`a JSON object without "version": not a SARIF log: %w`, ErrMalformed)
	case runs == 0:
		s.fail("the log holds no run")
	}
	s.logs++
	return d.InputOffset(), d.UnreadBuffer(), nil
}

func checkVersion(version string) error {
	if version != "2.1.0" {
		return fmt.Errorf("SARIF %s can't be read, only 2.1.0; have the tool write that version: %w", clip(version), ErrMalformed)
	}
	return nil
}

// fail notes the first reason why the report is no evidence.
func (s *sarif) fail(format string, args ...any) {
	if s.report.Failure == "" {
		s.report.Failure = fmt.Sprintf(format, args...)
	}
}

// members calls do for each member of the object that comes next, after reading its name; do reads its value.
func members(d *jsontext.Decoder, do func(key string) error) error {
	if d.PeekKind() != '{' {
		return wrongKind(d, "an object")
	}
	if _, err := d.ReadToken(); err != nil {
		return err
	}
	for d.PeekKind() != '}' {
		key, err := d.ReadToken()
		if err != nil {
			return err
		}
		if err := do(key.String()); err != nil {
			return err
		}
	}
	_, err := d.ReadToken()
	return err
}

// elements calls do for each element of the array that comes next; do reads it.
func elements(d *jsontext.Decoder, do func() error) error {
	if d.PeekKind() != '[' {
		return wrongKind(d, "an array")
	}
	if _, err := d.ReadToken(); err != nil {
		return err
	}
	for d.PeekKind() != ']' {
		if err := do(); err != nil {
			return err
		}
	}
	_, err := d.ReadToken()
	return err
}

func wrongKind(d *jsontext.Decoder, want string) error {
	if _, err := d.ReadToken(); err != nil {
		return err
	}
	return fmt.Errorf("byte %d, at %q: %s is wanted here: %w", d.InputOffset(), d.StackPointer(), want, ErrMalformed)
}

// run reads one run. Its parts come in any order, so results are kept as they are until the run is read.
func (s *sarif) run(d *jsontext.Decoder) error {
	r := run{sarif: s}
	err := members(d, func(key string) error {
		switch key {
		case "tool":
			return json.UnmarshalDecode(d, &r.Tool)
		case "artifacts":
			return json.UnmarshalDecode(d, &r.Artifacts)
		case "originalUriBaseIds":
			return json.UnmarshalDecode(d, &r.Bases)
		case "invocations":
			return json.UnmarshalDecode(d, &r.Invocations)
		case "versionControlProvenance":
			return json.UnmarshalDecode(d, &r.Provenance)
		case "columnKind":
			return json.UnmarshalDecode(d, &r.ColumnKind)
		case "results":
			if d.PeekKind() == 'n' {
				return d.SkipValue()
			}
			r.hasResults = true
			return elements(d, func() error {
				var one result
				if err := json.UnmarshalDecode(d, &one); err != nil {
					return err
				}
				r.results = append(r.results, one)
				return nil
			})
		}
		return d.SkipValue()
	})
	if err != nil {
		return err
	}
	r.finish()
	return nil
}

// Names of SARIF's properties as Go structs; what isn't here isn't read.
type (
	toolObject struct {
		Driver     component   `json:"driver"`
		Extensions []component `json:"extensions"`
	}
	component struct {
		Name            string       `json:"name"`
		Version         string       `json:"version"`
		SemanticVersion string       `json:"semanticVersion"`
		Rules           []descriptor `json:"rules"`
	}
	descriptor struct {
		ID             string               `json:"id"`
		MessageStrings map[string]sarifText `json:"messageStrings"`
		Default        configuration        `json:"defaultConfiguration"`
		Name           string               `json:"name"`
		Short          sarifText            `json:"shortDescription"`
		Full           sarifText            `json:"fullDescription"`
		Help           sarifText            `json:"help"`
		HelpURI        string               `json:"helpUri"`
		Properties     propertyBag          `json:"properties"`
	}
	propertyBag struct {
		Tags     []string       `json:"tags"`              // SARIF 2.1.0, 3.8.2
		Security jsontext.Value `json:"security-severity"` // a number from 0 to 10, as text or plain
	}
	configuration struct {
		Level string `json:"level"`
	}
	sarifText struct {
		Text      string   `json:"text"`
		Markdown  string   `json:"markdown"`
		ID        string   `json:"id"`
		Arguments []string `json:"arguments"`
	}
	reference struct {
		ID        string `json:"id"`
		Index     *int   `json:"index"`
		Component *struct {
			Name  string `json:"name"`
			Index *int   `json:"index"`
		} `json:"toolComponent"`
	}
	invocation struct {
		Successful   *bool          `json:"executionSuccessful"`
		Signal       string         `json:"exitSignalName"`
		StartFailure string         `json:"processStartFailureMessage"`
		Execution    []notification `json:"toolExecutionNotifications"`
		Setting      []notification `json:"toolConfigurationNotifications"`
		Overrides    []override     `json:"ruleConfigurationOverrides"`
	}
	notification struct {
		Level   string    `json:"level"`
		Message sarifText `json:"message"`
	}
	override struct {
		Configuration configuration `json:"configuration"`
		Descriptor    reference     `json:"descriptor"`
	}
	provenance struct {
		Revision string `json:"revisionId"`
	}
	artifact struct {
		Location artifactLocation `json:"location"`
		Roles    []string         `json:"roles"`
	}
	artifactLocation struct {
		URI    string `json:"uri"`
		BaseID string `json:"uriBaseId"`
		Index  *int   `json:"index"`
	}
	location struct {
		Physical struct {
			Artifact artifactLocation `json:"artifactLocation"`
			Region   sarifRegion      `json:"region"`
		} `json:"physicalLocation"`
		Message sarifText `json:"message"`
		Logical []struct {
			Name      string `json:"name"`
			Qualified string `json:"fullyQualifiedName"`
		} `json:"logicalLocations"`
	}
	codeFlow struct {
		Threads []struct {
			Steps []struct {
				Location location `json:"location"`
			} `json:"locations"`
		} `json:"threadFlows"`
	}
	sarifFix struct {
		Description sarifText `json:"description"`
		Changes     []struct {
			Artifact     artifactLocation `json:"artifactLocation"`
			Replacements []struct {
				Deleted  sarifRegion `json:"deletedRegion"`
				Inserted sarifText   `json:"insertedContent"`
			} `json:"replacements"`
		} `json:"artifactChanges"`
	}
	sarifRegion struct {
		StartLine   int       `json:"startLine"`
		StartColumn int       `json:"startColumn"`
		EndLine     int       `json:"endLine"`
		EndColumn   int       `json:"endColumn"`
		Snippet     sarifText `json:"snippet"`
	}
	result struct {
		RuleID        string     `json:"ruleId"`
		RuleIndex     *int       `json:"ruleIndex"`
		Rule          *reference `json:"rule"`
		Kind          string     `json:"kind"`
		Level         string     `json:"level"`
		Message       sarifText  `json:"message"`
		Locations     []location `json:"locations"`
		Related       []location `json:"relatedLocations"`
		Flows         []codeFlow `json:"codeFlows"`
		Fixes         []sarifFix `json:"fixes"`
		BaselineState string     `json:"baselineState"`
		Occurrences   int        `json:"occurrenceCount"`

		Rank         float64 `json:"rank"`
		Suppressions []struct {
			Status        string `json:"status"`
			Justification string `json:"justification"`
		} `json:"suppressions"`
		Properties          propertyBag    `json:"properties"`
		Fingerprints        finding.Prints `json:"fingerprints"`
		PartialFingerprints finding.Prints `json:"partialFingerprints"`

		Provenance struct {
			Invocation *int `json:"invocationIndex"`
		} `json:"provenance"`
	}
)

// isClang reports whether the run is of clang, whose logs have habits of their own: the true position is the last
// location, and notes are results that belong to the one before.
func (r *run) isClang() bool { return strings.EqualFold(r.Tool.Driver.Name, "clang") }
