package report

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
)

// Compilers write JSON between lines of text: gcc an array on a line for each file that it compiles
// (-fdiagnostics-format=json), go vet an object of several lines for each package (-json).

// object is a value of several lines, as far as it was read.
type object struct {
	data []byte // nil where there is none
	at   int    // the line it began at
}

// startsArray reports whether a line begins with what gcc writes, so that all of it is needed.
func startsArray(line []byte) bool {
	return bytes.HasPrefix(line, []byte(`[{"`)) && bytes.Contains(line[:min(len(line), 4096)], []byte(`"kind"`))
}

// startsObject reports whether a text begins as go vet's does: a package, an analyzer, what it found.
func startsObject(head []byte) bool {
	fields := bytes.Fields(head[:min(len(head), 4096)])
	return len(fields) > 3 && string(fields[0]) == "{" && bytes.HasSuffix(fields[1], []byte(`":`)) && string(fields[2]) == "{" && bytes.HasPrefix(fields[3], []byte(`"`))
}

// inJSON takes a line of such a value; false where it is to be read as text.
func (d *diagnostics) inJSON(number int, line []byte) bool {
	switch text := string(bytes.TrimRight(line, " \t\r")); {
	case d.object.data != nil:
		if d.object.data = append(append(d.object.data, line...), '\n'); text == "}" {
			d.takeObject(number)
		} else if len(d.object.data) > mostObject {
			d.report.fail("line %d: what began at %s as JSON has no end", number, at(d.object.at))
			d.object.data = nil
		}
		return true
	case text == "{" && !d.follows: // else it is source
		d.object.data, d.object.at = append([]byte{}, "{\n"...), number
		return true
	case text == "{}" || text == "[]":
		return true // nothing was found, if it is theirs
	case startsArray(line):
		d.takeArray(number, line)
		return true
	}
	return false
}

// vetted is one finding of go vet's.
type vetted struct {
	Posn    string `json:"posn"`
	Message string `json:"message"`
}

// takeObject takes what go vet says of some packages.
func (d *diagnostics) takeObject(number int) {
	var packages map[string]map[string]json.RawMessage
	data, from := d.object.data, d.object.at
	d.object.data = nil
	if err := json.Unmarshal(data, &packages); err != nil {
		d.report.fail("line %d: what began at %s is no JSON of go vet: %v", number, at(from), err)
		return
	}
	for _, name := range slices.Sorted(maps.Keys(packages)) {
		for _, analyzer := range slices.Sorted(maps.Keys(packages[name])) {
			var all []vetted
			if err := json.Unmarshal(packages[name][analyzer], &all); err != nil { // an object that reports an error
				d.stop(fmt.Sprintf("%s: %s couldn't look at %s: %s", at(from), analyzer, name, clip(string(packages[name][analyzer]))), message{})
				continue
			}
			for _, v := range all {
				m, ok := parseMessage(v.Posn + ": " + v.Message)
				if !ok || m.region.Line == 0 {
					d.report.fail("%s: a finding of %s has no place that can be read: %q", at(from), analyzer, clip(v.Posn))
					continue
				}
				m.text, m.rule, m.word, m.level, m.form = v.Message, analyzer, "warning", finding.Warning, policy.CompilerJSON
				d.message(from, v.Message, m)
			}
		}
	}
}

// gccMessage is a message of gcc's, with those that belong to it.
type gccMessage struct {
	Kind      string `json:"kind"`
	Message   string `json:"message"`
	Option    string `json:"option"`
	Locations []struct {
		Caret  gccPlace `json:"caret"`
		Finish gccPlace `json:"finish"`
	} `json:"locations"`
	Children []gccMessage `json:"children"`
}

// gccPlace is a place in a file. The column counts bytes, from 1.
type gccPlace struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"byte-column"`
}

// takeArray takes what gcc says of a file that it compiles.
func (d *diagnostics) takeArray(number int, line []byte) {
	var all []gccMessage
	if err := json.Unmarshal(line, &all); err != nil {
		d.report.fail("%s is no JSON of gcc: %v", at(number), err)
		return
	}
	for _, g := range all {
		d.takeGCC(number, g, false)
	}
}

func (d *diagnostics) takeGCC(number int, g gccMessage, remark bool) {
	m := message{word: g.Kind, level: levelOf(g.Kind), rule: flagOf(g.Option), text: plainQuotes.Replace(g.Message), remark: remark, columns: source.Bytes, form: policy.CompilerJSON}
	if m.level == "" || g.Message == "" {
		d.report.fail("%s: a message of gcc's is of an unknown kind, %q", at(number), clip(g.Kind))
		return
	}
	if len(g.Locations) > 0 {
		caret, finish := g.Locations[0].Caret, g.Locations[0].Finish
		m.path, m.region.Line, m.region.Column = cleanLocation(caret.File), max(caret.Line, 0), max(caret.Column, 0)
		if finish.Line == caret.Line && finish.Column >= caret.Column && caret.Column > 0 {
			m.region.EndColumn = finish.Column + 1
		}
	}
	d.message(number, g.Kind+": "+g.Message, m)
	for _, child := range g.Children {
		d.takeGCC(number, child, true)
	}
}
