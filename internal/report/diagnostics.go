package report

import (
	"bufio"
	"bytes"
	"cmp"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
)

// readDiagnostics reads lines in the GNU form, path:line:column: warning: text [rule], with what compilers print
// around them. A line with a position but no word for its weight is a warning, unless it is known that the compiler stopped there.
// Where format is one of policy.Forms, all findings must be of that. Of a line mostText bytes count.
func readDiagnostics(in *bufio.Reader, quiet *regexp.Regexp, format string) (*Report, error) {
	d := &diagnostics{report: &Report{Format: policy.Diagnostics, Tools: []Tool{{}}}, quiet: quiet, format: format}
	for number := 1; ; number++ {
		line, err := readLine(in)
		if err != nil && err != io.EOF {
			return nil, fmt.Errorf("reading line %d: %w", number, err)
		}
		if bytes.IndexByte(line, 0) >= 0 {
			return nil, fmt.Errorf("line %d: the report isn't text: %w", number, ErrMalformed)
		}
		if d.inJSON(number, line) {
			line = nil
		}
		for part := range bytes.SplitSeq(bytes.TrimRight(line, "\r"), []byte("\r")) { // which programs write to write over a line
			d.line(number, part)
		}
		if err == io.EOF {
			d.end()
		}
		if d.full != nil || err == io.EOF {
			return d.report, d.full
		}
	}
}

// plainName is a file name that every text carries.
var plainName = pattern.Of(`^[A-Za-z0-9_./+@~=-]+$`)

// TextCarries reports whether a finding in a file comes out of a line of diagnostic text with the file's name as it is. Blanks
// before it, colons and blanks in it, line ends, quotes of some locales and the like don't.
func TextCarries(path string) bool {
	if plainName.MatchString(path) {
		return true
	}
	d := &diagnostics{report: &Report{}}
	d.line(1, []byte("a.c:1:1: warning: unused [-Wunused]")) // behind one, where other lines are taken for what belongs to it
	d.line(2, []byte(path+":41:9: warning: unused [-Wunused]"))
	found := d.report.Findings
	return !strings.ContainsAny(path, "\n\r\x00") && len(found) == 2 && found[1].Path == path && found[1].Region.Line == 41
}

// readLine returns the next line without its line feed, at most mostText bytes of it, or mostObject where it is a value.
func readLine(in *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := in.ReadSlice('\n')
		most := mostText
		if startsArray(line) {
			most = mostObject
		}
		if room := most - len(line); room > 0 {
			line = append(line, part[:min(len(part), room)]...)
		}
		if err != bufio.ErrBufferFull {
			return bytes.TrimSuffix(line, []byte("\n")), err
		}
	}
}

// diagnostics is the reader's state between lines.
type diagnostics struct {
	report  *Report
	full    error            // there is no room for more findings
	quoting bool             // source lines that follow belong to the last finding itself
	ahead   []finding.Remark // remarks printed before the finding they belong to

	format        string         // the form that all findings must be of, or policy.Diagnostics
	quiet         *regexp.Regexp // lines that the policy says to pass by; nil for none
	follows       bool           // the line before is a message, or belongs to one
	held          Unread         // a line behind a message that is its source if marks follow; At is "" where there is none
	shaped        int            // lines that can't be read and have the shape of a finding
	shapedFirst   bool           // such a line is why the text is no evidence
	read, counted counts         // what there is, and what closing lines say
	gaveUp        bool           // the last message says that the compiler gave up its file
	explains      bool           // the last message's compiler goes on in lines below it
	dashed        bool           // the last message had a dash behind its place
	configures    bool           // lines that follow with blanks before them are of how the build is configured
	goBuild       bool           // what follows is of packages that go compiles, not of go vet
	stack         bool           // what follows is where a program was when what was thrown happened
	head          *head          // a message whose place may be on the next line
	thrown        *thrown        // a place of which is still to be said what is wrong
	block         block          // with an arrow
	object        object
	build         build // what is known of the build whose log it is

	// chain is what the last lines of that kind say: the files that include the one of the next message, and that one once its
	// message was read.
	chain struct {
		files []string
		of    string
	}
	// promised are lines that say of what a message is that is still to come, and whose message that must be, "" where any does.
	promised struct {
		lines []Unread
		of    string
	}
	// idle is the first line that says that nothing was to be done, by all of make or in one folder.
	idle struct{ all, below string }
}

// counts are numbers of messages.
type counts struct{ warnings, errors int }

func (d *diagnostics) line(number int, raw []byte) {
	raw = cutStamp(raw)
	text := plain(raw)
	held, follows := d.held, d.follows
	d.held, d.follows = Unread{}, false
	if held.At != "" {
		marks := marksForm.MatchString(text)
		if !marks || !d.takeSource(held.Text) {
			d.unread(held)
		}
		if d.follows = marks; marks {
			return
		}
	}
	if d.inBlock(number, text) {
		return
	}
	switch {
	case text == "":
		d.follows = follows && d.dashed // whose source stands behind an empty line
		return
	case d.fixIt(raw), d.quoted(text):
		d.follows = follows
		return
	case d.quiet != nil && d.quiet.MatchString(text):
		d.promised.lines, d.promised.of = nil, ""
		return
	case d.gaveUp && text == "compilation terminated.": // of that file, as the message before says
		return
	}
	m, ok := parseMessage(text)
	switch {
	case d.closes(text):
	case abortForm.MatchString(text):
		d.endBlock()
		d.stop(fmt.Sprintf("%s: the compiler stopped: %q", at(number), clip(text)), message{})
	case ok && isHead(text, m):
		d.endBlock()
		d.head = &head{number, text, m}
	case ok:
		if !m.remark {
			d.endBlock()
		}
		d.message(number, text, m)
	default:
		if why := stopsLooking(text, m, false); why != "" {
			d.stop(fmt.Sprintf("%s: %s: %q", at(number), why, clip(text)), m)
			return
		}
		d.other(Unread{at(number), text}, follows)
	}
}

// cutStamp cuts off the time that systems which keep a log write before each line of it.
func cutStamp(raw []byte) []byte {
	if len(raw) == 0 || raw[0] != '[' && (raw[0] < '0' || raw[0] > '9') {
		return raw
	}
	return raw[len(stampForm.Find(raw)):]
}

// stampForm is such a time: a date with a time (ISO 8601, RFC 3339, section 5.6), or in brackets a time alone, and one blank.
var stampForm = pattern.Of(`^(?:\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?: ?(?:Z|UTC|[+-]\d\d:?\d\d))?|\[(?:\d{4}-\d\d-\d\d[T ])?\d\d:\d\d:\d\d(?:[.,]\d+)?(?: ?(?:Z|UTC|[+-]\d\d:?\d\d))?\])(?: |$)`)

// at is how a line is named.
func at(number int) string { return fmt.Sprintf("line %d", number) }

// message takes a message with all that is known of it.
func (d *diagnostics) message(number int, text string, m message) {
	printed := m.path
	d.configures = false
	m.path = d.locate(m.path)
	d.chainTo(m.path)
	if d.promised.of == "" || d.promised.of == printed {
		d.promised.lines = nil
	}
	d.breakPromises()
	if m.word == "" && d.goBuild && strings.HasSuffix(m.path, ".go") && !vetForm.MatchString(m.text) {
		m.stopsPackage()
	}
	if d.block.open && m.rule == "" && !m.remark {
		m.rule = d.block.lints[lintKey(m.text)]
	}
	if why := stopsLooking(text, m, true); why != "" {
		problem := fmt.Sprintf("%s: %s: %q", at(number), why, clip(text))
		if d.block.open && m.code == "" {
			d.block.stop = problem
		} else {
			d.stop(problem, m)
		}
	}
	d.add(m)
	d.follows, d.dashed, d.explains = true, m.dashed, m.form == policy.Brackets || strings.HasSuffix(m.path, ".java")
	if m.region.Line == 0 {
		return
	}
	if i, known := slices.BinarySearch(d.report.Forms, m.form); !known {
		d.report.Forms = slices.Insert(d.report.Forms, i, m.form)
	}
	if d.format != m.form && slices.Contains(policy.Forms, d.format) {
		d.report.fail("%s is of the form %s, where %s is asked for: %q", at(number), m.form, d.format, clip(text))
	}
}

// stop notes that a compiler gave up: a file, where its message names one and what includes it is known, else everything.
func (d *diagnostics) stop(problem string, m message) {
	r := d.report
	known := m.region.Line > 0 && (m.alone || sourceForm.MatchString(m.path) || m.path == d.chain.of || m.givenUp)
	switch {
	case known:
		s := Stop{Problem: problem, Files: []string{m.path}, Package: m.givenUp}
		if m.path == d.chain.of {
			s.Files = append(s.Files, d.chain.files...)
		}
		r.Stops = append(r.Stops, s)
		d.gaveUp = true
	case r.Stopped == "":
		r.Stopped = problem
	}
}

// chainTo notes of which file's messages the last include chain is.
func (d *diagnostics) chainTo(path string) {
	if d.gaveUp = false; d.chain.of == "" && len(d.chain.files) > 0 {
		d.chain.of = path
	}
}

// includes takes a line that says what includes the file of the next message.
func (d *diagnostics) includes(text string) {
	m := chainPath.FindStringSubmatch(text)
	if m == nil {
		return
	}
	if text[0] != ' ' && text[0] != '\t' || d.chain.of != "" {
		d.chain.files, d.chain.of = nil, ""
	}
	d.chain.files = append(d.chain.files, d.locate(cleanLocation(m[1])))
}

// chainPath finds the file in such a line.
var chainPath = pattern.Of(`^(?:In file included from|                 from|.*[ \t]) ?([^\s:][^:]*):\d+(?::\d+)?[,:]$`)

// other takes a line that is neither a finding nor counts any.
func (d *diagnostics) other(here Unread, follows bool) {
	text := here.Text
	k, parts, isNoise := kindOf(text)
	d.configures = d.configures && text[0] == ' '
	switch {
	case d.configures && (callerForm.MatchString(text) || !hasShape(text) && !tellsOfCrash(text)):
	case isNoise:
		d.notes(here, k, parts)
	case (text[len(text)-1] == ':' || text[len(text)-1] == ',') && chainForm.MatchString(text) && !speaksOfStop(text):
		d.includes(text)
		d.promise(here, ownForm.FindStringSubmatch(text))
	case follows && text[0] <= ' ' && (suspicion(text) == "" || d.explains && !hasShape(text) && !tellsOfCrash(text)):
		d.follows = true // what is drawn or suggested there
	case follows:
		d.held = here
	default:
		d.unread(here)
	}
}

// callerForm is a line of CMake's that names what called the line of its warning.
var callerForm = pattern.Of(`^  \S+:\d+ \(\w+\)$`)

// takeSource takes a line with marks under it as the source of the last message. Of a finding it is kept as its snippet, which
// must stand in the file; elsewhere nobody can tell, so that it must raise no suspicion.
func (d *diagnostics) takeSource(text string) bool {
	if n := len(d.report.Findings); d.quoting && n > 0 {
		if last := &d.report.Findings[n-1]; last.Snippet == "" && last.Region.Line > 0 {
			text, _ = strings.CutPrefix(text, strconv.Itoa(last.Region.Line)+" ")
			last.Snippet = strings.TrimLeft(text, " \t")
			return true
		}
	}
	return suspicion(text) == ""
}

// notes keeps what a line of a build says of the build.
func (d *diagnostics) notes(u Unread, k kind, parts []string) {
	switch k {
	case including:
		d.includes(u.Text)
		fallthrough
	case standing:
		d.promise(u, nil)
		return
	case packages:
		d.goBuild = parts[1] == ""
	case folders:
		d.build.enters(parts)
	case compiles:
		d.build.compiles(u.Text)
	case configures:
		d.configures = true
	case idle:
		d.idle.all = cmp.Or(d.idle.all, fmt.Sprintf("%s: %q", u.At, clip(u.Text)))
	case idleBelow:
		d.idle.below = cmp.Or(d.idle.below, fmt.Sprintf("%s: %q", u.At, clip(u.Text)))
	case built:
		if !d.build.compiled.Shown() {
			d.idle.below = cmp.Or(d.idle.below, fmt.Sprintf("%s: %q without anything compiled", u.At, clip(u.Text)))
		}
	}
}

// marksForm is a line that marks what is above it.
var marksForm = pattern.Of(`^[ \t|]*[~^][ \t~^|]*$`)

// promise notes a line that a message must follow, of a certain file where that is known.
func (d *diagnostics) promise(u Unread, of []string) {
	d.promised.lines = append(d.promised.lines, u)
	if len(of) > 1 && of[1] != "" {
		d.promised.of = of[1]
	}
}

// breakPromises takes lines for unread after which no message came.
func (d *diagnostics) breakPromises() {
	for _, u := range d.promised.lines {
		d.unread(u)
	}
	d.promised.lines, d.promised.of = nil, ""
}

// chainForm is a line, in any language, that says what the next one is of: a file that includes another, or a function.
var chainForm = pattern.Of(`(?:^|[ \t])[^\s:]+\.[A-Za-z0-9+]+:\d+(?::\d+)?[,:]$|` + ownForm.Text())

// ownForm is such a line of a file's own message.
var ownForm = pattern.Of(`^([^\s:]+\.[A-Za-z0-9+]+): [^:]*:$`)

// mostCounted bounds what a closing line is taken to count, so that no sum runs over.
const mostCounted = 1 << 29

// closes takes a line in which a compiler counts what it printed.
func (d *diagnostics) closes(text string) bool {
	warnings, errors, twice, ok := countsIn(text)
	if !ok {
		return false
	}
	if strings.HasSuffix(text, " generated.") {
		d.countsBytes(warnings + errors)
	}
	d.counted.warnings = min(d.counted.warnings, mostCounted) + warnings
	d.counted.errors = min(d.counted.errors, mostCounted) + errors
	d.counted.warnings -= min(d.counted.warnings, twice)
	return true
}

// countsIn reads such a line: how many warnings and errors there were, and how many warnings were counted twice.
func countsIn(text string) (warnings, errors, twice int, ok bool) {
	if first := text[0]; (first < '0' || first > '9') && first != 'w' && first != 'F' {
		return 0, 0, 0, false
	}
	number := func(digits string) int {
		n, _ := strconv.Atoi(digits) // the largest number there is where it is larger
		return min(n, mostCounted)
	}
	for _, form := range closingForms {
		if m := form.FindStringSubmatch(text); m != nil && m[1]+m[2] != "" {
			return number(m[1]), number(m[2]), number(m[3]), true
		}
	}
	return 0, 0, 0, false
}

// countsBytes takes the columns of the last findings, as many as clang counts, for what clang writes: numbers of bytes.
func (d *diagnostics) countsBytes(count int) {
	found := d.report.Findings
	for i := max(0, len(found)-count); i < len(found); i++ {
		if found[i].Columns == source.Display {
			found[i].Columns = source.Bytes
		}
	}
}

// unread notes a line that says something, nobody knows what.
func (d *diagnostics) unread(u Unread) {
	d.report.unread(u)
	if hasShape(u.Text) {
		d.shaped++
	}
	if d.report.Failure != "" {
		return
	}
	switch why := suspicion(u.Text); {
	case hasShape(u.Text):
		d.shapedFirst = true
		d.report.fail("%s %s: %q; make the tool write SARIF, or read its text by a recipe; %s", u.At, why, clip(u.Text), noiseAdvice(u.Text))
	case why != "":
		d.report.fail("%s %s: %q; see why, and run the tool again; %s", u.At, why, clip(u.Text), noiseAdvice(u.Text))
	}
}

// noiseAdvice says what to write into the policy so that a line is passed by.
func noiseAdvice(text string) string {
	pattern := "^" + regexp.QuoteMeta(text) + "$"
	if r := []rune(text); len(r) > 60 {
		pattern = "^" + regexp.QuoteMeta(string(r[:60]))
	}
	return "if it says nothing, write noise: " + strconv.Quote(pattern) + " in the report"
}

// end settles what needed all lines.
func (d *diagnostics) end() {
	r := d.report
	if h := d.head; h != nil {
		d.message(h.number, h.text, h.message)
	}
	d.endBlock()
	d.endThrown()
	if d.object.data != nil {
		r.fail("what began at %s as JSON is cut off", at(d.object.at))
	}
	if d.held.At != "" {
		d.unread(d.held)
	}
	d.breakPromises()
	r.Compiled = d.build.compiled
	if !r.Compiled.Shown() {
		d.idle.all = cmp.Or(d.idle.all, d.idle.below)
	}
	switch {
	case d.shapedFirst && d.shaped > 1:
		r.Failure = fmt.Sprintf("%d lines look like findings: %s", d.shaped, r.Failure)
	case r.Failure != "":
	case r.UnreadCount > len(r.Unread):
		r.Failure = fmt.Sprintf("%d of its lines aren't understood, the first is %s: %q; if it is another format, read it by a recipe", r.UnreadCount, r.Unread[0].At, clip(r.Unread[0].Text))
	case r.UnreadCount > 0 && len(r.Findings) == 0:
		r.Failure = fmt.Sprintf("it has no findings, and %s isn't understood: %q; %s", r.Unread[0].At, clip(r.Unread[0].Text), noiseAdvice(r.Unread[0].Text))
	case d.counted.warnings > d.read.warnings || d.counted.errors > d.read.errors:
		r.Failure = fmt.Sprintf("its own count is higher: %d warnings and %d errors, and %d and %d were read; keep all of the compiler's output", d.counted.warnings, d.counted.errors, d.read.warnings, d.read.errors)
	case d.build.unended() != "":
		r.Failure = fmt.Sprintf("make doesn't say that it has left %s, so the end of its log is missing; keep all of it", clip(d.build.unended()))
	case d.idle.all != "":
		r.Failure = fmt.Sprintf("%s, so not everything was looked at; compile everything again", d.idle.all)
	case r.UnreadCount > 0:
		r.Notices = append(r.Notices, fmt.Sprintf("lines that aren't understood: %d, the first is %s: %q; %s", r.UnreadCount, r.Unread[0].At, clip(r.Unread[0].Text), noiseAdvice(r.Unread[0].Text)))
	}
}

// fixItForm is a line in which compilers tell for programs what to fix, by columns in bytes.
var fixItForm = pattern.Of(`^fix-it:("(?:[^"\\]|\\.)*"):\{(\d{1,9}):(\d{1,9})-(\d{1,9}):(\d{1,9})\}:("(?:[^"\\]|\\.)*")\r?\n?$`)

// fixIt takes such a line. What follows a note is one of several ways, and isn't kept.
func (d *diagnostics) fixIt(raw []byte) bool {
	m := fixItForm.FindSubmatch(raw)
	if m == nil {
		return false
	}
	n := len(d.report.Findings)
	path, bad := strconv.Unquote(string(m[1]))
	text, worse := strconv.Unquote(string(m[6]))
	if !d.quoting || n == 0 || bad != nil || worse != nil {
		return true
	}
	e := finding.Edit{Path: d.locate(cleanLocation(path)), Text: text, Bytes: true}
	for i, to := range []*int{&e.Region.Line, &e.Region.Column, &e.Region.EndLine, &e.Region.EndColumn} {
		*to, _ = strconv.Atoi(string(m[2+i]))
	}
	details := d.report.Findings[n-1].Detail()
	if len(details.Fixes) == 0 {
		details.Fixes = []finding.Fix{{}}
	}
	details.Fixes[0].Edits = append(details.Fixes[0].Edits, e)
	return true
}

// escapes are the sequences by which a terminal shows colours, links and the like (ECMA-48, 5.4 and 8.3.89).
var escapes = pattern.Of("\x1b(?:\\[[0-?]*[ -/]*[@-~]|[\\]P^_X][^\x07\x1b]*(?:\x07|\x1b\\\\)?|[ -/]*[0-~])")

// plain is a line without colour and link escapes, with valid UTF-8 and plain quotes.
func plain(raw []byte) string {
	text := strings.ToValidUTF8(string(raw), "\uFFFD")
	if strings.IndexByte(text, 0x1B) >= 0 {
		text = escapes.ReplaceAllString(text, "")
	}
	return plainQuotes.Replace(strings.TrimRight(text, " \t\r"))
}

// plainQuotes makes the quotes of every locale the same, so that a message is the same in each.
var plainQuotes = strings.NewReplacer("‘", "'", "’", "'", "“", `"`, "”", `"`)

// quoted takes a line of source ("   41 | code") or of marks under it ("      |  ^~~"). The code is kept as the
// snippet of the finding it follows, the length of the mark as its last column.
func (d *diagnostics) quoted(text string) bool {
	gutter, code, found := strings.Cut(text, "|")
	number := strings.TrimSpace(gutter)
	if !found || gutter == number || strings.Trim(number, "0123456789+") != "" {
		return false
	}
	n := len(d.report.Findings)
	switch {
	case n == 0 && len(d.ahead) == 0:
		return false // the source of nothing
	case !d.quoting || n == 0:
		return true
	}
	last := &d.report.Findings[n-1]
	line, err := strconv.Atoi(number)
	switch {
	case err == nil && line == last.Region.Line && last.Snippet == "":
		last.Snippet = strings.TrimPrefix(code, " ")
	case number == "" && last.Snippet != "" && last.Region.EndColumn == 0 && last.Region.Column > 0:
		if before, tail, marked := strings.Cut(code, "^"); marked {
			last.Region.EndColumn = last.Region.Column + 1 + len(tail) - len(strings.TrimLeft(tail, "~^"))
			if last.Columns == source.Display && len(before) != last.Region.Column {
				last.Columns = source.Bytes // the mark stands where it is seen, the number counts otherwise
			}
		}
	}
	return true
}

// locate gives a path as it is to be looked for: from the folder that the build works in.
func (d *diagnostics) locate(printed string) string {
	r, all := d.report, d.build.locate(printed)
	if all[0] == printed {
		return printed
	}
	if r.Printed == nil {
		r.Printed, r.Rivals = map[string]string{}, map[string][]string{}
	}
	r.Printed[all[0]] = printed
	if len(all) > 1 {
		r.Rivals[all[0]] = all[1:]
	}
	return all[0]
}

func (d *diagnostics) add(m message) {
	remark := finding.Remark{Message: m.text, Path: m.path, Region: m.region}
	switch {
	case m.ahead:
		d.ahead = append(d.ahead, remark)
		return
	case m.remark:
		d.quoting = false
		if n := len(d.report.Findings); n > 0 {
			last := &d.report.Findings[n-1]
			last.Detail().Notes = append(last.Detail().Notes, remark)
			return
		}
	}
	d.quoting = true
	f := finding.Finding{Rule: m.rule, Level: m.level, Message: m.text, Path: m.path, Region: m.region, Columns: m.columns, Unweighed: m.word == ""}
	if len(d.ahead) > 0 {
		f.Detail().Notes = d.ahead
		d.ahead = nil
	}
	if m.path == d.chain.of {
		f.Detail().Includers = slices.Clone(d.chain.files)
	}
	d.full = d.report.add(f)
	switch m.level {
	case finding.Error:
		d.read.errors++
	case finding.Warning:
		d.read.warnings++
	}
}

func clip(s string) string {
	if r := []rune(s); len(r) > 120 {
		return string(r[:120]) + "…"
	}
	return s
}
