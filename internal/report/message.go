package report

import (
	"cmp"
	"strconv"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
)

// message is one that a compiler wrote.
type message struct {
	path    string
	region  finding.Region
	level   finding.Level
	word    string // the word for its weight, "" where there is none
	text    string
	rule    string
	code    string // the rule, where it stands after the weight
	remark  bool   // belongs to the message before
	ahead   bool   // belongs to the message after
	form    string // one of policy.Forms
	dashed  bool   // a dash stood behind its place
	alone   bool   // its file is compiled by itself, whatever it is called
	givenUp bool   // go's compiler stopped there, and looked no further in its package

	columns source.Columns // the unit of the region's columns
}

// words are the weights that compilers write, the longer before the shorter.
var words = []struct {
	word  string
	level finding.Level
}{
	{"fatal error", finding.Error},
	{"internal compiler error", finding.Error},
	{"sorry, unimplemented", finding.Error},
	{"error", finding.Error},
	{"warning", finding.Warning},
	{"remark", finding.Note},
	{"note", finding.Note},
	{"info", finding.Note},
}

// traces begin the lines of a template's backtrace, which gcc prints before the message itself.
var traces = []string{"required from", "required by", "recursively required", "instantiated from", "in 'constexpr' expansion"}

// levelOf is the weight that a word stands for, "" for others.
func levelOf(word string) finding.Level {
	for _, w := range words {
		if w.word == word {
			return w.level
		}
	}
	return ""
}

// parseMessage reads one line. Without a position it takes only lines that have a word for their weight.
func parseMessage(text string) (message, bool) {
	if m, ok := parseBracketed(text); ok {
		return m, true
	}
	text, ofVet := strings.CutPrefix(text, "vet: ")
	path, region, rest, placed := cutPosition(text)
	if ofVet && (!placed || !strings.HasSuffix(path, ".go")) {
		return message{}, false
	}
	if !placed {
		path, rest = cutProgram(text)
		if path = offsetForm.ReplaceAllString(path, ""); lateForm.MatchString(path) {
			return message{}, false // a place, in a form that isn't read
		}
	}
	m := message{path: cleanLocation(path), region: region, text: strings.TrimSpace(rest), columns: columnsOf(path), form: policy.GNU}
	for _, w := range words {
		if after, ok := cutWord(m.text, w.word); ok {
			m.word, m.level, m.text = w.word, w.level, after
			break
		}
		if code, after, ok := cutCode(m.text, w.word); ok {
			m.word, m.level, m.code, m.text = w.word, w.level, code, after
			break
		}
	}
	switch {
	case m.word == "note":
		m.remark = true
	case m.word != "":
	case !placed || m.text == "" || !strings.ContainsAny(path, "./"):
		return message{}, false // a log's line, as far as anyone can tell
	default:
		for _, trace := range traces {
			m.ahead = m.ahead || strings.HasPrefix(m.text, trace)
		}
		m.level = finding.Warning
		switch {
		case ofVet:
			m.stopsPackage()
		case strings.HasSuffix(path, ".go") && loadForm.MatchString(m.text):
			m.level = finding.Error
		}
	}
	m.text, m.rule = cutRule(m.text)
	if name, after, ok := strings.Cut(strings.TrimPrefix(m.text, "["), "] "); m.rule == "" && ok && m.text[0] == '[' && isRule(name) { // as javac has it
		m.rule, m.text = name, after
	}
	m.rule = cmp.Or(m.rule, m.code)
	m.remark = m.remark && !(placed && m.rule != "") // a tool's own rule of that weight
	return m, true
}

// stopsPackage makes the message one of go's compiler, which stopped there.
func (m *message) stopsPackage() { m.level, m.givenUp = finding.Error, true }

// columnsOf is the unit in which compilers count the columns of a file of this kind, as far as its name tells: gcc's where it
// doesn't.
func columnsOf(path string) source.Columns {
	switch {
	case strings.HasSuffix(path, ".go"):
		return source.Bytes
	case strings.HasSuffix(path, ".rs"):
		return source.CodePoints
	}
	return source.Display
}

// bracketed are the forms in which the place stands in brackets, or a dash behind it: path(line,column): error CODE: text, as
// the compilers of C#, TypeScript and Windows write it, and path:line:column - error CODE: text. The groups are the path, the
// line, the column, the word, the code and the text.
var bracketed = []*pattern.Pattern{
	pattern.Of(`^(\S.*?)\((\d{1,9})(?:,(\d{1,9}))?(?:[,-]\d{1,9}){0,3}\) ?: (fatal error|error|warning|info|message|note)(?: ([A-Za-z]+[\d-]*\d))?: (.*)$`),
	pattern.Of(`^(\S.*?):(\d{1,9}):(\d{1,9}) - (fatal error|error|warning|info|message|note)(?: ([A-Za-z]+\d+))?: (.*)$`),
}

// parseBracketed reads one line of such a form.
func parseBracketed(text string) (message, bool) {
	if !strings.Contains(text, "): ") && !strings.Contains(text, ") : ") && !strings.Contains(text, " - ") {
		return message{}, false
	}
	for i, form := range bracketed {
		p := form.FindStringSubmatch(text)
		if p == nil {
			continue
		}
		m := message{path: cleanLocation(p[1]), word: p[4], rule: p[5], text: projectForm.ReplaceAllString(p[6], ""), remark: p[4] == "note" && p[5] == "", columns: source.UTF16, form: policy.Brackets, dashed: i == 1}
		m.region.Line, _ = strconv.Atoi(p[2])
		m.region.Column, _ = strconv.Atoi(p[3])
		m.level = cmp.Or(levelOf(m.word), finding.Note)
		if m.rule == "" {
			m.text, m.rule = cutRule(m.text)
		}
		return m, m.region.Line > 0 && isPath(m.path)
	}
	return message{}, false
}

// projectForm is the project that a build adds to a message.
var projectForm = pattern.Of(`\s+\[[^\]]+proj(?:::[^\]]*)?\]$`)

// offsetForm is how GNU ld writes a place in what was made of a file.
var offsetForm = pattern.Of(`:\(\.[\w.$]+\+0x[0-9a-f]+\)$`)

// lateForm is a name with a line behind it.
var lateForm = pattern.Of(`[:(]\d+(?:[:,]\d+)?\)?$`)

// cutCode takes a weight with the rule's code in brackets after it off, as in "error[E0308]: ".
func cutCode(text, word string) (code, after string, ok bool) {
	rest, ok := strings.CutPrefix(text, word+"[")
	if !ok {
		return "", "", false
	}
	code, after, ok = strings.Cut(rest, "]: ")
	return code, strings.TrimSpace(after), ok && isRule(code)
}

func cutWord(text, word string) (string, bool) {
	after, ok := strings.CutPrefix(text, word+":")
	return strings.TrimSpace(after), ok
}

// cutPosition finds path:line, path:line:column or path:line:column-column, followed by a colon, at the start of a
// line. A drive letter isn't taken for the path.
func cutPosition(text string) (path string, region finding.Region, rest string, ok bool) {
	if text[0] == ' ' || text[0] == '\t' {
		return "", region, "", false
	}
	for i := 1; i < len(text); i++ {
		if text[i] != ':' || i == 1 && len(text) > 2 && (text[2] == '\\' || text[2] == '/') {
			continue
		}
		path = text[:i]
		line, after := cutNumber(text[i+1:])
		if line == 0 || !strings.HasPrefix(after, ":") || !isPath(path) {
			continue
		}
		region = finding.Region{Line: line}
		rest = after[1:]
		if column, after := cutNumber(rest); column > 0 {
			end := 0
			if dashed, found := strings.CutPrefix(after, "-"); found {
				end, after = cutNumber(dashed)
			}
			if strings.HasPrefix(after, ":") {
				region.Column = column
				if end >= column {
					region.EndColumn = end + 1 // the GNU form's last column is inclusive
				}
				rest = after[1:]
			}
		}
		return path, region, rest, true
	}
	return "", region, "", false
}

// isPath reports whether what is before a line number can be a path: not a time, not an address, not a program's
// name with its words.
func isPath(s string) bool {
	return !strings.Contains(s, "://") && !strings.Contains(s, ": ") && strings.Trim(s, "0123456789: ") != ""
}

// cutNumber reads a decimal number at the start of s; 0 where there is none or it is over 9 digits.
func cutNumber(s string) (int, string) {
	n := 0
	for n < len(s) && n < 10 && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	if n == 0 || n == 10 {
		return 0, s
	}
	number, _ := strconv.Atoi(s[:n])
	return number, s[n:]
}

// cutProgram takes the part before the first ": " off, which names a program or a file without a line. Only what looks
// like a path is returned as one.
func cutProgram(text string) (path, rest string) {
	for _, w := range words {
		if strings.HasPrefix(text, w.word+":") || strings.HasPrefix(text, w.word+"[") {
			return "", text
		}
	}
	name, rest, found := strings.Cut(text, ": ")
	if !found || strings.ContainsAny(name, " \t") {
		return "", ""
	}
	if strings.ContainsAny(name, "./") && !strings.HasPrefix(name, "/usr/") {
		path = name
	}
	return path, rest
}

// cutRule takes the bracketed rule off the end of a message. -Werror=x is the rule -Wx; of several flags in one bracket
// the first that names a rule counts.
func cutRule(text string) (rest, rule string) {
	open := strings.LastIndex(text, " [")
	if open < 0 || !strings.HasSuffix(text, "]") {
		return text, ""
	}
	for flag := range strings.SplitSeq(text[open+2:len(text)-1], ",") {
		flag = strings.TrimSpace(flag)
		if flag = flagOf(flag); !isRule(flag) {
			return text, ""
		}
		if flag != "-Werror" && rule == "" {
			rule = flag
		}
	}
	if rule == "" {
		return text, ""
	}
	rest = text[:open]
	if weakness := strings.LastIndex(rest, " [CWE-"); weakness >= 0 && strings.HasSuffix(rest, "]") {
		rest = rest[:weakness]
	}
	return rest, rule
}

// flagOf is the flag that asks for a warning which another made an error.
func flagOf(flag string) string {
	if name, ok := strings.CutPrefix(flag, "-Werror="); ok {
		return "-W" + name
	}
	return flag
}

// isRule reports whether a bracketed word can be a rule's name: it has no blanks and begins with a letter or a dash
// and a letter.
func isRule(s string) bool {
	first := strings.TrimPrefix(s, "-")
	return first != "" && (first[0]|0x20 >= 'a' && first[0]|0x20 <= 'z') && !strings.ContainsAny(s, " \t'\"()[]{}")
}

// syntaxCode is the code of an error after which the compilers of TypeScript and C# look no further.
var syntaxCode = pattern.Of(`^(?:TS1\d{3}|CS(?:10[0-4]\d|151\d|152\d))$`)

// vetForm is what go vet says of a place. Until go 1.26 it prints its findings below the line of their package just as the
// compiler's errors are printed there, with nothing else to tell them apart. The words are those of the analyzers that go vet
// runs by default in go 1.21 to 1.26, in the order of their names; no error of the compiler is like one of them.
var vetForm = pattern.Of(`^(?:` +
	`append with no values$|` +
	`\[\w+\] \S+: |` +
	`self-assignment of |direct assignment to atomic value$|(?:redundant|suspect) (?:or|and): |` +
	`(?:unexpected extra|misplaced|malformed|possible malformed) (?://go:build|\+build) |\+build lines? (?:do|is) |//go:debug directive only valid |invalid (?:double negative|go version \S+|non-alphanumeric build constraint.*) ?(?:in build constraint)?|` +
	`possibly passing Go type with embedded pointer to C$|\S+ struct literal uses unkeyed fields$|` +
	`\S+ passes lock by value: |(?:assignment|return|variable declaration|for loop iteration) copies lock value|call of \S+ copies lock value: |literal copies lock value from |range var \S+ copies lock: |` +
	`call to time\.Since is not deferred$|invalid space .* in \S+ directive$|second argument to errors\.As |` +
	`frame pointer is clobbered before saving$|address format .* does not work with IPv6|using \S+ before checking for errors$|impossible interface-to-interface |impossible type (?:assertion|switch case): no type can implement both |` +
	`loop variable \S+ captured by func literal$|the \S+ function is not used on all paths \(possible context leak\)|the cancel function returned by \S+ should be called|this return statement may be reached without using the |` +
	`comparison of function .* (?:==|!=) nil is always |` +
	`\S+ format %.* (?:has arg .* of wrong type |has unknown verb |has unrecognized flag |reads arg #|uses non-int |with arg .* causes recursive |arg .* is a func value, not called|is missing )|\S+ format has invalid argument index\b|\S+ (?:call needs \d+ args? but has |call has (?:arguments but no formatting directives|possible Printf formatting directive )|does not (?:take io\.Writer but has first arg |support error-wrapping directive )|arg list ends with redundant newline$|arg .* (?:is a func value, not called|causes recursive ))|non-constant format string in call to |missing \.\.\. in args forwarded to |` +
	`.* \(\d+ bits\) too small for shift of |misuse of unbuffered os\.Signal channel as argument to |call to \S+ (?:has a missing or misplaced value|missing a final value)$|\S+ arg .* should (?:probably )?be a string or a slog\.Attr |` +
	`method .* should have signature |\S+ requires go\d+\.\d+ or later \((?:module|file) is |conversion from \S+ to \S+ yields a string of one rune|` +
	`struct field \S+ (?:has \S+ tag but is not exported$|repeats )|struct field tag .* not compatible with |call to \(\*\S+\)\.\S+ from a non-test goroutine|call to \S+ on \S+ defined outside of the subtest|` +
	`\S+ (?:has malformed (?:name|example suffix): |refers to unknown (?:identifier|field or method): |should (?:be niladic|return nothing|not have type params)$)|` +
	`\S+ should be .* to format|call of \S+ passes non-pointer |unreachable code$|possible misuse of (?:unsafe\.Pointer|reflect\.\w+)$|result of .* call not used$|WaitGroup\.Add called from inside new goroutine$` +
	`)`)

// loadForm is what the go command says where it can't tell what the packages are: it then looks at none of them.
var loadForm = pattern.Of(`^(?:` +
	`no required module provides package |package \S+ (?:is not in (?:std|GOROOT)|provided by \S+ )|cannot find (?:package|module) |missing go\.sum entry |module \S+ (?:provides package|declares its path) |ambiguous import: |` +
	`(?:malformed|invalid) import path|missing import path|import (?:cycle not allowed|path |"[^"]*" is a program)|(?:local|relative) import |use of (?:internal|vendored) package |` +
	`build constraints exclude all Go files in |no Go files in |found packages |(?:C|C\+\+|assembly) source files not allowed |pattern .*: (?:no matching files found|cannot embed )|go:embed |//go:embed |` +
	`expected .*, found |illegal (?:character|UTF-8|byte order|rune literal)|(?:string literal|raw string literal|comment|rune literal) not terminated|imports must appear before other declarations|syntax error|unexpected NUL in input|` +
	`import lookup disabled |cannot query module |case-insensitive (?:file name|import) collision: |disallowed import path |could not import |(?:invalid|malformed) #cgo ` +
	`)`)

// stopsLooking says why a line means that the tool didn't see everything, "" where it doesn't.
func stopsLooking(text string, m message, parsed bool) string {
	switch {
	case strings.HasSuffix(text, "compilation terminated."):
		return "the compiler stopped"
	case strings.HasPrefix(text, "make") && strings.Contains(text, ": *** "), strings.HasPrefix(text, "ninja: build stopped"):
		return "the build stopped"
	case strings.HasPrefix(text, "PLEASE submit a bug report"), strings.HasPrefix(text, "Stack dump:"):
		return "the compiler crashed"
	case !parsed || m.remark || m.ahead:
		return ""
	case m.word == "fatal error", m.word == "internal compiler error", m.word == "sorry, unimplemented":
		return "the compiler stopped"
	case m.level == finding.Error && syntaxCode.MatchString(m.rule):
		return "the compiler stopped"
	case m.givenUp && strings.HasPrefix(text, "vet: "):
		return "go's compiler stopped"
	case m.givenUp:
		return "go's compiler stopped, or go vet has a message that isn't known; go vet -json tells them apart"
	case m.level == finding.Error && m.word == "" && strings.HasSuffix(m.path, ".go"):
		return "go can't tell what the packages are, and looked at none of them"
	case m.level == finding.Error && (m.rule == "" || m.rule == m.code):
		return "an error without a flag, after which the tool stops"
	case m.path == "" && m.level == finding.Error:
		return "the tool refused its call"
	}
	return ""
}
