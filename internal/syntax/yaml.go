package syntax

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
	"go.yaml.in/yaml/v4/plugin/loaderlimits"
	"golang.org/x/text/encoding/unicode"

	"zincdoor/internal/core/house"
	"zincdoor/internal/core/source"
	"zincdoor/internal/memory"
)

// The bounds of YAML: a text beyond them is refused with an error. Reading takes time in proportion to its length, and memory of up
// to 160 times that.
const (
	deepestYAML = 1000    // collections one in the other
	mostYAML    = 8 << 20 // bytes, where there is memory for it
	yamlPart    = 200     // of the memory there is
)

// longestYAML is how many bytes a text of YAML may have.
func longestYAML() int { return int(memory.Share(mostYAML, yamlPart)) }

// Fault is what is wrong with a YAML text.
type Fault struct {
	Line, Column int // 1-based, columns in characters; 0 where it isn't known
	Begins       int // the line on which begins what can't be read, 0 where that isn't known
	Text         string
}

func (f *Fault) Error() string { return f.Text }

// YAML reads the documents of a text that programs go by. Empty ones, which hold nothing but comments, are left out. The
// error is a *Fault. A raw character at which some readers end a line and others don't is one too: what is a comment for
// one of them would count for the other.
func YAML(data []byte) ([]*yaml.Node, error) {
	data = asUTF8(data)
	if fault := characterFault(data, isBreakOfOld); fault != nil {
		fault.Text += ", at which some readers end the line; leave it out, or write it as an escape in double quotes"
		return nil, fault
	}
	documents, fault := loadYAML(data)
	if fault != nil {
		return nil, fault
	}
	return documents, nil
}

// asUTF8 gives a text as UTF-8 (YAML 1.2, 5.2).
func asUTF8(data []byte) []byte {
	if bytes.HasPrefix(data, []byte{0xFF, 0xFE}) || bytes.HasPrefix(data, []byte{0xFE, 0xFF}) {
		if decoded, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(data); err == nil {
			return decoded
		}
	}
	return data
}

// isBreakOfOld reports whether a character ended a line in YAML 1.1, and doesn't in 1.2 (5.4), where the library is still
// at 1.1.
func isBreakOfOld(r rune) bool { return r == 0x85 || r == 0x2028 || r == 0x2029 }

// isBarred reports whether a character mustn't stand in YAML (1.2, 5.1).
func isBarred(r rune) bool {
	return r < 0x20 && r != '\t' && r != '\n' && r != '\r' || r == 0x7F || r >= 0x80 && r < 0xA0 && r != 0x85 || r == 0xFFFE || r == 0xFFFF
}

// characterFault names the first character for which the question is true, nil where there is none.
func characterFault(data []byte, of func(rune) bool) *Fault {
	at := bytes.IndexFunc(data, of)
	if at < 0 {
		return nil
	}
	r, _ := utf8.DecodeRune(data[at:])
	fault := faultAt(data, at)
	fault.Text = fmt.Sprintf("it holds the character U+%04X", r)
	return fault
}

// faultAt is a fault at a byte, without a text.
func faultAt(data []byte, at int) *Fault {
	begin := bytes.LastIndexByte(data[:at], '\n') + 1
	return &Fault{Line: bytes.Count(data[:at], []byte{'\n'}) + 1, Column: utf8.RuneCount(data[begin:at]) + 1}
}

func loadYAML(data []byte) ([]*yaml.Node, *Fault) {
	if most := longestYAML(); len(data) > most {
		return nil, &Fault{Text: fmt.Sprintf("it has more than %d KiB", most>>10)}
	}
	if at := source.InvalidUTF8(data); at >= 0 {
		fault := faultAt(data, at)
		fault.Text = "it isn't UTF-8 here; save it as UTF-8"
		return nil, fault
	}
	if fault := characterFault(data, isBarred); fault != nil {
		fault.Text += ", which YAML doesn't allow; leave it out, or write it as an escape in double quotes"
		return nil, fault
	}
	if bytes.HasPrefix(data, []byte("%YAML 1.2")) { // which the library reads, but not by that name
		data = bytes.Replace(data, []byte("%YAML 1.2"), []byte("%YAML 1.1"), 1)
	}
	loader, err := yaml.NewLoader(bytes.NewReader(data), yaml.WithPlugin(loaderlimits.New(loaderlimits.DepthValue(deepestYAML))))
	var documents []*yaml.Node
	for err == nil {
		var document yaml.Node
		if err = loader.Load(&document); err == nil && len(document.Content) > 0 {
			documents = append(documents, document.Content[0])
		}
	}
	var broken *yaml.LoadError
	switch {
	case err == io.EOF:
		return documents, nil
	case errors.As(err, &broken):
		fault := &Fault{Line: broken.Mark.Line, Column: broken.Mark.Column, Text: broken.Message}
		if broken.ContextMsg != "" {
			fault.Begins = broken.ContextMark.Line
		}
		return nil, fault
	}
	return nil, &Fault{Text: err.Error()}
}

func readYAML(data []byte) *house.Flaw {
	if most := longestYAML(); len(data) > most {
		return &house.Flaw{Unread: true, Text: fmt.Sprintf("it is over %d KiB long", most>>10)}
	}
	if bytes.Contains(data, []byte("{{")) || bytes.Contains(data, []byte("{%")) {
		return nil // a template, which is YAML only when it is filled in
	}
	data = asUTF8(data)
	for _, old := range []string{"\u0085", "\u2028", "\u2029"} {
		data = bytes.ReplaceAll(data, []byte(old), []byte("\u00a0")) // as good as any other that ends no line
	}
	_, fault := loadYAML(data)
	if fault == nil {
		return nil
	}
	return &house.Flaw{Line: min(cmp.Or(fault.Begins, fault.Line), bytes.Count(data, []byte{'\n'})+1), Text: "this YAML can't be read: " + fault.Text}
}
