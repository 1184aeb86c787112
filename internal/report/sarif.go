package report

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/memory"
)

// readSARIF reads one or several SARIF 2.1.0 logs, one after another, with lines of text before, between and after
// them as compilers print them. Results are read one at a time; of the whole log only its findings are kept. A result or a rule has
// at most longestValue bytes.
func readSARIF(in io.Reader, size int64, all bool) (*Report, error) {
	s := &sarif{window: newWindow(in, size), all: all, report: &Report{Format: policy.SARIF, Relative: map[string]string{}}, seen: seen{seed: maphash.MakeSeed()}}
	s.pointer = s.where
	if err := s.blanks(); err != nil {
		return nil, err
	}
	for {
		head, err := s.peek()
		if err == io.EOF {
			break
		} else if err != nil {
			return nil, err
		}
		if head == '{' {
			err = s.log()
		}
		offset := s.offset()
		line, failed := s.line()
		switch err := cmp.Or(err, failed); {
		case err != nil:
			return nil, err
		case head == '{' && len(bytes.TrimSpace(line)) > 0:
			return nil, fmt.Errorf("byte %d: %q follows a SARIF log on its line; only lines of text and further logs may follow, each at the start of a line: %w", offset, clip(string(line)), ErrMalformed)
		case head == '{':
		case isJSON(line):
			return nil, fmt.Errorf("byte %d: %q is neither a SARIF log at the start of a line nor a line of text: %w", offset, clip(string(line)), ErrMalformed)
		default:
			s.around(offset, line)
		}
	}
	if s.logs == 0 {
		return nil, fmt.Errorf("no SARIF log in it: %w", ErrMalformed)
	}
	return s.report, nil
}

// isJSON reports whether a line beside the logs seems to be a part of one, by how it begins or by a member of a log, or holds
// what no text does.
func isJSON(line []byte) bool {
	for _, b := range line {
		if b < ' ' && b != '\t' && b != '\r' && b != 0x1B && b != '\b' {
			return true // such as the record separator of RFC 7464
		}
	}
	text := strings.TrimSpace(plain(line))
	begin := strings.TrimLeft(text, " \t[(,;:\"'\ufeff")
	if text == "" {
		return false
	}
	return begin == "" || strings.ContainsRune("{}],", rune(text[0])) || begin[0] == '{' || memberForm.MatchString(text)
}

// memberForm finds a member that every log or run has.
var memberForm = pattern.Of(`"(?:version|runs|results|tool|driver|invocations)"\s*:`)

// blanks passes by white space at the beginning.
func (s *sarif) blanks() error {
	for {
		head, err := s.peek()
		if err == io.EOF || err == nil && !strings.ContainsRune(" \t\r\n", rune(head)) {
			return nil
		} else if err != nil {
			return err
		}
		s.start++
	}
}

// sarif gathers what the logs of one report say.
type sarif struct {
	*window
	report  *Report
	all     bool // every flow is kept, however many there are
	logs    int
	remarks int // how many are kept

	numbered bool   // it was said that rules are numbers alone
	path     []step // to what is read
	seen     seen
	roomy    bool // there is room for all findings, as far as that could be guessed
}

// step is a member's name, or the number of an element.
type step struct {
	name string
	n    int
}

// where is the JSON pointer (RFC 6901) of what is read.
func (s *sarif) where() string { return pointerTo(s.path) }

func pointerTo(path []step) string {
	var pointer strings.Builder
	for _, step := range path {
		if pointer.WriteByte('/'); step.name != "" {
			pointer.WriteString(step.name)
		} else {
			pointer.WriteString(strconv.Itoa(step.n))
		}
	}
	return pointer.String()
}

// around looks at a line outside the logs: a tool that tells there of its failure has failed.
func (s *sarif) around(offset int64, raw []byte) {
	text := plain(raw)
	if text == "" {
		return
	}
	m, ok := parseMessage(text)
	_, _, _, counts := countsIn(text)
	why := stopsLooking(text, m, ok)
	switch {
	case why != "" || counts:
	case ok && m.region.Line > 0:
		why = "a finding outside of the log, which isn't read"
	case ok:
	default:
		if _, _, isNoise := kindOf(text); !isNoise {
			why = suspicion(text)
		}
	}
	if why != "" {
		s.report.fail("byte %d: %s: %q", offset, why, clip(text))
	}
}

// log reads one log.
func (s *sarif) log() error {
	version := ""
	var runs, inline []*run
	err := s.members(func(key string) error {
		switch key {
		case "version":
			if err := s.decode(&version); err != nil {
				return err
			}
			return checkVersion(version)
		case "runs":
			return s.elements(func() error {
				r, err := s.run()
				runs = append(runs, r)
				return err
			})
		case "inlineExternalProperties":
			return s.elements(func() error {
				r, err := s.external()
				inline = append(inline, r)
				return err
			})
		}
		return s.skip()
	})
	switch {
	case err != nil:
		return err
	case version == "":
		return fmt.Errorf(`byte %d: a JSON object without "version": not a SARIF log: %w`, s.offset(), ErrMalformed)
	case len(runs) == 0:
		s.report.fail("the log holds no run")
	}
	for _, r := range inline {
		r.join(runs)
		r.fillLate()
	}
	for _, r := range runs {
		r.checkOutcome()
	}
	s.logs++
	return nil
}

func checkVersion(version string) error {
	if version != "2.1.0" {
		return fmt.Errorf("SARIF %s can't be read, only 2.1.0; have the tool write that version: %w", clip(version), ErrMalformed)
	}
	return nil
}

// sample is after how many findings it is guessed how many there will be.
const sample = 2000

// makeRoom makes room at once for all findings of a long report.
func (s *sarif) makeRoom(soFar int, offset int64) {
	if soFar >= sample && !s.roomy {
		s.roomy = true
		s.report.Findings = slices.Grow(s.report.Findings, max(min(expect(soFar, offset, s.size), mostFindings())-soFar, 0))
	}
}

// members calls do for each member of the object that comes next, after reading its name; do reads its value.
func (s *sarif) members(do func(key string) error) error {
	if _, err := s.read(func(c *scan) bool { return c.take('{') }); err != nil {
		return err
	}
	at := len(s.path)
	known := map[string]bool{}
	for first := true; ; first = false {
		var name text
		ended, err := s.read(func(c *scan) (ok bool) {
			name, ok = c.member(first)
			return ok
		})
		if err != nil || ended {
			s.path = s.path[:at]
			return err
		}
		key := name.string()
		s.path = append(s.path[:at], step{name: key})
		if known[key] {
			return fmt.Errorf("byte %d, at %q: a duplicate member: %w", s.offset(), s.where(), ErrMalformed)
		}
		known[key] = true
		if err := do(key); err != nil {
			return err
		}
	}
}

// elements calls do for each element of the array that comes next; do reads it.
func (s *sarif) elements(do func() error) error {
	if _, err := s.read(func(c *scan) bool { return c.take('[') }); err != nil {
		return err
	}
	at, n := len(s.path), 0
	next := func(c *scan) bool { return c.element(']', n == 0) }
	for ; ; n++ {
		ended, err := s.read(next)
		if err != nil || ended {
			s.path = s.path[:at]
			return err
		}
		s.path = append(s.path[:at], step{n: n})
		if err := do(); err != nil {
			return err
		}
	}
}

func (s *sarif) skip() error {
	_, err := s.read((*scan).skip)
	return err
}

// decode reads the next value into a struct.
func (s *sarif) decode(into any) error {
	raw, err := s.value()
	if err != nil {
		return err
	}
	return s.unmarshal(raw, into, s.offset()-int64(len(raw)))
}

// unmarshal reads a value that stands at an offset of the report.
func (s *sarif) unmarshal(raw []byte, into any, offset int64) error {
	err := json.Unmarshal(raw, into, jsontext.AllowInvalidUTF8(true))
	var syntax *jsontext.SyntacticError
	var shape *json.SemanticError
	switch {
	case errors.As(err, &syntax):
		return fmt.Errorf("byte %d, at %q: %v: %w", offset+syntax.ByteOffset, s.where()+string(syntax.JSONPointer), syntax.Err, ErrMalformed)
	case errors.As(err, &shape):
		return fmt.Errorf("byte %d, at %q: a JSON %v doesn't belong here: %w", offset+shape.ByteOffset, s.where()+string(shape.JSONPointer), shape.JSONKind, ErrMalformed)
	}
	return err
}

// newRun is a run before anything of it is read.
func (s *sarif) newRun() *run {
	return &run{sarif: s, own: len(s.report.Findings)}
}

// run reads one run. Its parts come in any order: what a result needs of a part that isn't read yet is settled at the end.
func (s *sarif) run() (*run, error) {
	r := s.newRun()
	err := s.members(func(key string) error {
		switch key {
		case "tool":
			r.toolRead = true
			err := s.tool(&r.Tool)
			r.classed = r.Tool.classed()
			return err
		case "originalUriBaseIds":
			return s.decode(&r.Bases)
		case "versionControlProvenance":
			return s.decode(&r.Provenance)
		case "columnKind":
			return s.decode(&r.ColumnKind)
		case "externalPropertyFileReferences":
			return s.decode(&r.External)
		case "automationDetails":
			return s.decode(&r.Automation)
		}
		return r.part(key)
	})
	if err == nil {
		r.finish()
	}
	return r, err
}

// external reads properties of a run that stand beside it in the log (SARIF 2.1.0, 4.3). Its results wait for the run.
func (s *sarif) external() (*run, error) {
	r := s.newRun()
	err := s.members(func(key string) error {
		switch key {
		case "driver":
			return s.component(&r.Tool.Driver)
		case "extensions":
			return s.extensions(&r.Tool)
		case "runGuid":
			return s.decode(&r.Automation.GUID)
		}
		return r.part(key)
	})
	r.end = len(s.report.Findings)
	return r, err
}

// part reads what a run and its external properties both may have.
func (r *run) part(key string) error {
	s := r.sarif
	switch key {
	case "artifacts":
		return s.decode(&r.Artifacts)
	case "invocations":
		return s.decode(&r.Invocations)
	case "taxonomies":
		return s.decode(&r.Taxonomies)
	case "results":
		head := byte(0)
		if _, err := s.read(func(c *scan) (ok bool) {
			head, ok = c.next()
			return ok
		}); err != nil || head == 'n' {
			return cmp.Or(err, s.skip())
		}
		r.hasResults = true
		return r.readResults()
	}
	return s.skip()
}

// tool reads a tool, its rules one at a time: there may be millions.
func (s *sarif) tool(t *toolObject) error {
	return s.members(func(key string) error {
		switch key {
		case "driver":
			return s.component(&t.Driver)
		case "extensions":
			return s.extensions(t)
		}
		return s.skip()
	})
}

func (s *sarif) extensions(t *toolObject) error {
	return s.elements(func() error {
		t.Extensions = append(t.Extensions, component{})
		return s.component(&t.Extensions[len(t.Extensions)-1])
	})
}

// classed reports whether a rule names a class of faults by its place alone.
func (t *toolObject) classed() bool {
	for _, c := range append(t.Extensions, t.Driver) {
		for i := range c.Rules {
			for _, relation := range c.Rules[i].Relations {
				if of := relation.Target.Component; relation.Target.ID == "" || of != nil && of.Name == "" {
					return true
				}
			}
		}
	}
	return false
}

func (s *sarif) component(c *component) error {
	return s.members(func(key string) error {
		switch key {
		case "name":
			return s.decode(&c.Name)
		case "version":
			return s.decode(&c.Version)
		case "semanticVersion":
			return s.decode(&c.SemanticVersion)
		case "rules":
			return s.elements(func() error {
				if len(c.Rules) >= mostRules() {
					return fmt.Errorf("byte %d, at %q: a tool has more than %d rules, which take more than the %d MiB of memory that there are: %w", s.offset(), s.where(), len(c.Rules), memory.Allowed()>>20, ErrTooMuch)
				}
				var one descriptor
				if err := s.decode(&one); err != nil {
					return err
				}
				s.noteRule(&one)
				c.Rules = append(c.Rules, one)
				return nil
			})
		}
		return s.skip()
	})
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
		Taxa            []descriptor `json:"taxa"`
	}
	descriptor struct {
		ID             string               `json:"id"`
		MessageStrings map[string]sarifText `json:"messageStrings"`
		Default        configuration        `json:"defaultConfiguration"`
		Relations      []struct {
			Target reference `json:"target"`
		} `json:"relationships"`
		Name    string     `json:"name"`
		Short   *sarifText `json:"shortDescription"`
		Full    *sarifText `json:"fullDescription"`
		Help    *sarifText `json:"help"`
		HelpURI string     `json:"helpUri"`

		traits     *finding.Traits  // once a result asked for them
		details    *finding.Details // what there is to show of every finding of the rule; nil for nothing
		Properties propertyBag      `json:"properties"`
	}
	propertyBag struct {
		Tags     []string       `json:"tags"`              // SARIF 2.1.0, 3.8.2
		Security jsontext.Value `json:"security-severity"` // a number from 0 to 10, as text or plain
		Own      ownBag         `json:"zincdoor"`
	}
	// ownBag is what a verdict that was written as SARIF keeps of findings whose reports weren't.
	ownBag struct {
		Given    string `json:"given_severity"`
		Measured string `json:"measured"`
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
		Code         *int           `json:"exitCode"`
		Signal       string         `json:"exitSignalName"`
		SignalNumber int            `json:"exitSignalNumber"`
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

		Hashes map[string]string `json:"hashes"`
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
				Inserted struct {
					Text   string `json:"text"`
					Binary string `json:"binary"` // base64
				} `json:"insertedContent"`
			} `json:"replacements"`
		} `json:"artifactChanges"`
	}
	sarifRegion struct {
		StartLine   int       `json:"startLine"`
		StartColumn int       `json:"startColumn"`
		EndLine     int       `json:"endLine"`
		EndColumn   int       `json:"endColumn"`
		CharOffset  *int      `json:"charOffset"`
		CharLength  int       `json:"charLength"`
		ByteOffset  *int      `json:"byteOffset"`
		ByteLength  int       `json:"byteLength"`
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
		Taxa                []reference       `json:"taxa"`
		Properties          propertyBag       `json:"properties"`
		Fingerprints        map[string]string `json:"fingerprints"`
		PartialFingerprints map[string]string `json:"partialFingerprints"`

		Provenance struct {
			Invocation *int `json:"invocationIndex"`
		} `json:"provenance"`

		plain        bool                 // it was read quickly, and has no details
		fingerprints finding.Fingerprints // of one that was read quickly
	}
)

// isClang reports whether the run is of clang, whose logs have habits of their own: the true position is the last
// location, and notes are results that belong to the one before.
func (r *run) isClang() bool { return strings.EqualFold(r.Tool.Driver.Name, "clang") }
