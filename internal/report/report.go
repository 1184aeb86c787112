// Package report reads reports: from the bytes a tool wrote to findings. It knows the formats, and when a report says
// of itself that it is no evidence. Paths come out as the report has them; Places finds them in a repository.
package report

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/memory"
)

// ErrMalformed is the error of a report that can't be read; what and where is wrapped around it.
var ErrMalformed = errors.New("malformed report")

// Report is what one report says.
type Report struct {
	Format   string
	Findings []finding.Finding // in the report's order; Path as Location has it

	// Tools are those the report speaks for, by name.
	Tools []Tool

	// Rules are what the tools say about their rules, by rule.
	Rules map[string]finding.Rule

	// Relative gives, for a path made absolute by a base that the report names, the path relative to that base.
	Relative map[string]string

	// Printed gives, for a path that was joined to the folder which a build worked in, the path as it was printed; Rivals other
	// paths that it may mean as well, where the build worked in several at once.
	Printed map[string]string
	Rivals  map[string][]string

	// Forms are those of diagnostic text that findings were of, sorted.
	Forms []string

	// Compiled is what the log of a build shows to have been compiled.
	Compiled Compiled

	// Coverage is what tests came to, by paths as the report writes them; nil for a report of findings.
	Coverage measure.Coverage

	// Commit is the revision the report says it was made at, "" where it doesn't say.
	Commit string

	// Failure says how the tool failed by its own word, Stopped where it gave up altogether; "" where it didn't. Stops are where
	// it gave up a file.
	Failure, Stopped string
	Stops            []Stop

	Clean       bool     // of a recipe: it says that the tool found nothing
	Notices     []string // what people should know of how it was read
	Unread      []Unread // of text and of recipes: the first parts that couldn't be read
	UnreadCount int      // how many there are
}

// mostUnread is how many of the parts are kept that couldn't be read.
const mostUnread = 1000

// Unread is a part of a report that couldn't be read.
type Unread struct {
	At   string // "line 3", or a path
	Text string // at most 1,000 bytes of it
}

// fail keeps the first reason why the report is no evidence.
func (r *Report) fail(format string, args ...any) {
	if r.Failure == "" {
		r.Failure = fmt.Sprintf(format, args...)
	}
}

func (r *Report) unread(u Unread) {
	r.UnreadCount++
	if len(r.Unread) < mostUnread {
		u.Text = u.Text[:min(len(u.Text), 1000)]
		r.Unread = append(r.Unread, u)
	}
}

// Stop is where a compiler gave up a file, so that not all of what it would have found there is in the report.
type Stop struct {
	Problem string   // for people
	Files   []string // as the report writes them: the one it stopped at, and those that include it
	Package bool     // with all of their package of Go, and those that import it
}

// Whole reports whether the tool looked at everything, by its own word.
func (r *Report) Whole() bool { return r.Failure == "" && r.Stopped == "" && len(r.Stops) == 0 }

// Trouble is the first reason why not all was looked at, "" where it was.
func (r *Report) Trouble() string {
	if len(r.Stops) > 0 {
		return cmp.Or(r.Failure, r.Stopped, r.Stops[0].Problem)
	}
	return cmp.Or(r.Failure, r.Stopped)
}

// LookedAt are the paths of which the report says that they were looked at, whatever was found there.
func (r *Report) LookedAt() []string {
	all := slices.Clone(r.Compiled.Sources)
	for _, tool := range r.Tools {
		all = append(all, tool.Targets...)
	}
	return all
}

// Tool is a tool that a report speaks for.
type Tool struct {
	Name    string // "" where the report doesn't name it
	Version string
	Targets []string // paths the tool says it looked at; empty where it doesn't say
}

// Form says how to read a report.
type Form struct {
	Format string         // one of policy.Formats, "" to find out by the content
	Recipe *policy.Recipe // in its place; nil for none
	Noise  *regexp.Regexp // lines of text that say nothing; nil for none
	Flows  bool           // every code flow is needed, however many there are
}

// Read reads a report: at most 1 GiB of it, unpacked; what else may be how long, deep or many stands in bounds.go. It takes time in
// proportion to the length, and memory in proportion to the findings. An error wraps ErrMalformed or ErrTooMuch, or is the reader's own.
func Read(r io.Reader, form Form) (*Report, error) {
	in, err := decode(bufio.NewReaderSize(r, 1<<16))
	if err != nil {
		return nil, err
	}
	in = bufio.NewReaderSize(memory.Limit(in, mostBytes), 1<<16)
	if form.Recipe != nil {
		return readRecipe(in, form.Recipe)
	}
	format := form.Format
	if format == "" {
		if format, err = detect(in); err != nil {
			return nil, err
		}
	}
	switch {
	case format == policy.Coverage:
		return coverageReport(in)
	case format == policy.SARIF:
		return readSARIF(in, sizeOf(r), form.Flows)
	case policy.IsDiagnostics(format):
		return readDiagnostics(in, form.Noise, format)
	}
	return nil, fmt.Errorf("no format is called %q; there are %s", format, strings.Join(policy.Formats, ", "))
}

// sizeOf is how many bytes a reader has, as far as it is a file; 0 where that isn't known. A packed file has more.
func sizeOf(r io.Reader) int64 {
	if file, ok := r.(interface{ Stat() (fs.FileInfo, error) }); ok {
		if info, err := file.Stat(); err == nil && info.Mode().IsRegular() {
			return info.Size()
		}
	}
	return 0
}

// detect tells the format by the first 64 KiB: a JSON object with SARIF's marks, alone or on a line between other
// lines as compilers print it, or lines of text.
func detect(in *bufio.Reader) (string, error) {
	head, err := in.Peek(in.Size())
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return "", err
	}
	if i := bytes.IndexByte(head, 0); i >= 0 {
		return "", fmt.Errorf("byte %d: the report isn't text: %w", i, ErrMalformed)
	}
	if isCoverage(head) {
		return policy.Coverage, nil
	}
	for at := 0; at < len(head); {
		rest := head[at:]
		if rest[0] == '{' && isSARIF(rest) {
			return policy.SARIF, nil
		}
		end := bytes.IndexByte(rest, '\n')
		if rest[0] == '{' || end < 0 {
			break
		}
		at += end + 1
	}
	start := bytes.TrimSpace(head)
	for len(start) > 0 && start[0] == '#' { // of a package, as go says
		_, start, _ = bytes.Cut(start, []byte("\n"))
		start = bytes.TrimSpace(start)
	}
	if startsArray(start) || startsObject(start) {
		return policy.Diagnostics, nil
	}
	if len(start) > 0 && (start[0] == '{' || start[0] == '[') {
		return "", fmt.Errorf(`byte 0: JSON, but not a SARIF 2.1.0 log (no "runs"); only %s can be read: %w`, strings.Join(policy.Formats, " and "), ErrMalformed)
	}
	return policy.Diagnostics, nil
}

func isSARIF(head []byte) bool {
	return bytes.Contains(head, []byte(`"runs"`)) || bytes.Contains(head, []byte("sarif"))
}

// cleanLocation makes a path as a tool wrote it one with slashes: backslashes are separators where a drive letter or the
// lack of any slash says so.
func cleanLocation(p string) string {
	if strings.IndexByte(p, '\\') >= 0 && (len(p) > 1 && p[1] == ':' || strings.IndexByte(p, '/') < 0) {
		p = strings.ReplaceAll(p, `\`, "/")
	}
	return p
}
