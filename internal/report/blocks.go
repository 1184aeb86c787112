package report

import (
	"strconv"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
)

// A block is a message of several lines whose place doesn't stand in the first: rustc's, in which an arrow leads to the place;
// Python's and Node's, which begin with the place and say at last what is wrong.

// head is the first line of a message whose place may follow.
type head struct {
	number  int
	text    string
	message message
}

// block is what is known of a block with an arrow, and of those before it.
type block struct {
	open  bool              // what follows is of one
	stop  string            // why the compiler stopped there, unless the block names a lint
	lints map[string]string // the rules that blocks named, by what their messages say
}

// thrown is a place behind which source follows, and then what is wrong there.
type thrown struct {
	path  string
	line  int
	lines []Unread // of it so far
}

var (
	// arrowForm leads to a place, blockForms are what else stands in such a block beside source and its marks.
	arrowForm  = pattern.Of(`^\s*--> (.+):(\d{1,9}):(\d{1,9})$`)
	blockForms = pattern.Of(`^(?:\s*= (?:note|help|warning): .*|\s*::: .+:\d+:\d+|\s*--> .+:\d+:\d+|\s*\.\.\.|\s*\d+ +[-+~](?:\s.*)?|(?:help|note): .*|\s{4,}[^|]*)$`)
	lintForm   = pattern.Of("#\\[(?:warn|deny|forbid)\\(([\\w:-]+)\\)\\]|^\\s*= note: (?:requested on the command line with )?`-[WDF] ([\\w:-]+)`")
	// abortForm is what rustc and cargo say at last where they gave up.
	abortForm = pattern.Of(`^error: (?:aborting due to|could not compile) `)

	// placeForms begin a block that says at last what is wrong, wrongForm is that line.
	placeForms = []*pattern.Pattern{pattern.Of(`^  File "(.+)", line (\d{1,9})$`), pattern.Of(`^(\S.*\.[cm]?js):(\d{1,9})$`)}
	wrongForm  = pattern.Of(`^(SyntaxError|IndentationError|TabError): (.+)$`)
	// stackForm is what Node prints behind it.
	stackForm = pattern.Of(`^(?:\s+at .+|Node\.js v\d+(?:\.\d+)*)$`)
)

// mostThrown is how many lines of source stand at most between a place and what is wrong there.
const mostThrown = 4

// inBlock takes a line that belongs to a block; false where it is to be read by itself.
func (d *diagnostics) inBlock(number int, text string) bool {
	if h := d.head; h != nil {
		d.head = nil
		if m := arrowForm.FindStringSubmatch(text); m != nil {
			h.message.path = cleanLocation(m[1])
			h.message.region.Line, _ = strconv.Atoi(m[2])
			h.message.region.Column, _ = strconv.Atoi(m[3])
			h.message.columns, h.message.form = source.CodePoints, policy.Arrows
			d.block.open = !h.message.remark || d.block.open
			d.message(h.number, h.text, h.message)
			return true
		}
		d.message(h.number, h.text, h.message)
	}
	if t := d.thrown; t != nil && d.inThrown(number, text, t) {
		return true
	}
	switch {
	case text == "":
		d.endBlock()
		return d.stack
	case d.stack && stackForm.MatchString(text):
		return true
	case d.block.open && blockForms.MatchString(text) && !tellsOfCrash(text):
		if m := lintForm.FindStringSubmatch(text); m != nil {
			d.nameLint(m[1] + m[2])
		}
		return true
	}
	if path, line := placeOf(text); line > 0 {
		d.thrown = &thrown{path: path, line: line, lines: []Unread{{at(number), text}}}
		return true
	}
	d.stack = false
	return false
}

// placeOf reads a line that begins a block which says at last what is wrong; line is 0 where it is none.
func placeOf(text string) (path string, line int) {
	if last := text[len(text)-1]; last < '0' || last > '9' {
		return "", 0
	}
	for _, form := range placeForms {
		if m := form.FindStringSubmatch(text); m != nil {
			line, _ := strconv.Atoi(m[2])
			return m[1], line
		}
	}
	return "", 0
}

// inThrown takes a line behind a place.
func (d *diagnostics) inThrown(number int, text string, t *thrown) bool {
	if m := wrongForm.FindStringSubmatch(text); m != nil {
		d.thrown = nil
		d.message(number, text, message{path: cleanLocation(t.path), region: finding.Region{Line: t.line}, level: finding.Error, word: "error", rule: m[1], code: m[1], text: m[2], alone: true, form: policy.SyntaxErrors})
		d.stack = true
		return true
	}
	if len(t.lines) <= mostThrown && !saysMore(text) {
		if text != "" {
			t.lines = append(t.lines, Unread{at(number), text})
		}
		return true
	}
	d.endThrown()
	return false
}

// saysMore reports whether a line behind a place is no source of it, but what is said of another: a finding, a place, or that a
// program gave up.
func saysMore(text string) bool {
	if text == "" {
		return false
	}
	if _, line := placeOf(text); line > 0 {
		return true
	}
	m, ok := parseMessage(text)
	return ok && m.region.Line > 0 || arrowForm.MatchString(text) || abortForm.MatchString(text) || stopsLooking(text, m, false) != ""
}

// endThrown takes the lines behind a place for unread, since nothing was said of it.
func (d *diagnostics) endThrown() {
	if d.thrown != nil {
		for _, u := range d.thrown.lines {
			d.unread(u)
		}
		d.thrown = nil
	}
}

// endBlock settles what the end of a block shows: an error that no lint gave means that the compiler stopped.
func (d *diagnostics) endBlock() {
	if d.block.open && d.block.stop != "" && d.report.Stopped == "" {
		d.report.Stopped = d.block.stop
	}
	d.block.open, d.block.stop = false, ""
}

// nameLint names the rule of the block's finding, and of those that say the same of other names later on: only the first of
// them gets the lint it is of.
func (d *diagnostics) nameLint(rule string) {
	n := len(d.report.Findings)
	if n == 0 || rule == "" {
		return
	}
	last := &d.report.Findings[n-1]
	d.block.stop = ""
	if last.Rule == "" {
		last.Rule = rule
	}
	if d.block.lints == nil {
		d.block.lints = map[string]string{}
	}
	d.block.lints[lintKey(last.Message)] = last.Rule
}

// lintKey is a message without the names it quotes.
func lintKey(message string) string {
	return backticked.ReplaceAllString(finding.Skeleton(message), "``")
}

var backticked = pattern.Of("`[^`]*`")

// isHead reports whether a message without a place may be followed by it: it begins with the word for its weight.
func isHead(text string, m message) bool {
	return m.path == "" && m.region.Line == 0 && m.word != "" && strings.HasPrefix(text, m.word)
}
