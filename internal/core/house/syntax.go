package house

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/BurntSushi/toml"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/goccy/go-yaml/parser"
	"gopkg.in/yaml.v3"
)

// fault is where a text can't be read: line 1-based, 0 where that isn't known.
type fault struct {
	line, column int
	text         string
}

// mostSyntax is the size of files whose syntax is still checked, in bytes.
const mostSyntax = 8 << 20

// syntaxOf makes a check of the files with one of the endings.
func syntaxOf(endings string, read func(data []byte) *fault) func(t *text, s *Setting) {
	return func(t *text, s *Setting) {
		dot := strings.LastIndexByte(t.Path, '.')
		if t.Mode == Link || dot < 0 || !slices.Contains(strings.Fields(endings), strings.ToLower(t.Path[dot:])) || len(t.Data) > mostSyntax {
			return
		}
		if f := read(t.Data); f != nil {
			if lines := bytes.Count(t.Data, []byte{'\n'}); f.line > max(lines, 1) && bytes.HasSuffix(t.Data, []byte{'\n'}) { // at the end
				f.line, f.column = lines, 1
			}
			column := max(f.column-1, 0)
			t.find(s, f.line, column, column+1, nil, "%s", f.text)
		}
	}
}

func readJSON(data []byte) *fault {
	data = bytes.TrimPrefix(data, []byte("\xEF\xBB\xBF"))
	f := plainJSON(data)
	if f != nil && plainJSON(withoutComments(data)) == nil {
		return nil
	}
	return f
}

func plainJSON(data []byte) *fault {
	d := jsontext.NewDecoder(bytes.NewReader(data), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	err := d.SkipValue()
	if err == nil {
		if _, err = d.ReadToken(); err == io.EOF {
			return nil
		} else if err == nil {
			err = errors.New("something stands after the end of the value")
		}
	}
	at := d.InputOffset()
	var syntax *jsontext.SyntacticError
	if errors.As(err, &syntax) {
		at, err = syntax.ByteOffset, syntax.Err
	}
	if err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) {
		err = errors.New("it ends in the middle")
	}
	before := data[:min(int(at), len(data))]
	return &fault{1 + bytes.Count(before, []byte{'\n'}), len(before) - bytes.LastIndexByte(before, '\n'), "this JSON can't be read: " + err.Error()}
}

// withoutComments takes out what some programs allow in JSON: comments, and commas before a closing bracket. The text
// keeps its length.
func withoutComments(data []byte) []byte {
	out := slices.Clone(data)
	blank := func(from, to int) {
		for i := from; i < to; i++ {
			if out[i] != '\n' {
				out[i] = ' '
			}
		}
	}
	comma := -1
	for i := 0; i < len(out); i++ {
		switch c := out[i]; {
		case c == '"':
			for i++; i < len(out) && out[i] != '"' && out[i] != '\n'; i++ {
				if out[i] == '\\' {
					i++
				}
			}
			comma = -1
		case c == '/' && i+1 < len(out) && out[i+1] == '/':
			end := i + bytes.IndexByte(append(out[i:len(out):len(out)], '\n'), '\n')
			blank(i, end)
			i = end - 1
		case c == '/' && i+1 < len(out) && out[i+1] == '*':
			end := bytes.Index(out[i+2:], []byte("*/"))
			if end < 0 {
				return out
			}
			blank(i, i+2+end+2)
		case c == ',':
			comma = i
		case c == '}' || c == ']':
			if comma >= 0 {
				out[comma] = ' '
			}
			comma = -1
		case c != ' ' && c != '\t' && c != '\r' && c != '\n':
			comma = -1
		}
	}
	return out
}

var yamlLine = regexp.MustCompile(`line (\d+)`)

// readYAML takes for broken only what two readers can't read, since each has its own gaps.
func readYAML(data []byte) *fault {
	if bytes.Contains(data, []byte("{{")) || bytes.Contains(data, []byte("{%")) {
		return nil // a template, which is YAML only when it is filled in
	}
	d := yaml.NewDecoder(bytes.NewReader(data))
	var err error
	for err == nil {
		var node yaml.Node
		err = d.Decode(&node)
	}
	if err == io.EOF {
		return nil
	}
	if _, other := parser.ParseBytes(data, 0); other == nil {
		return nil
	}
	f := &fault{text: "this YAML can't be read: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		f.line, _ = strconv.Atoi(m[1])
		f.line = min(f.line, bytes.Count(data, []byte{'\n'})+1)
	}
	return f
}

func readTOML(data []byte) *fault {
	var into map[string]any
	_, err := toml.Decode(string(data), &into)
	var parse toml.ParseError
	if err == nil || !errors.As(err, &parse) {
		return nil
	}
	return &fault{parse.Position.Line, parse.Position.Col, "this TOML can't be read: " + parse.Message}
}

func readXML(data []byte) *fault {
	if bytes.Contains(data, []byte("<!ENTITY")) {
		return nil // what its entities stand for isn't looked up
	}
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Entity = xml.HTMLEntity
	other := false
	d.CharsetReader = func(string, io.Reader) (io.Reader, error) {
		other = true
		return nil, errors.New("another encoding")
	}
	depth, roots := 0, 0
	for {
		token, err := d.RawToken()
		var syntax *xml.SyntaxError
		switch {
		case other:
			return nil
		case err == io.EOF && depth == 0 && roots > 0:
			return wellFormed(data)
		case err == io.EOF:
			line, column := d.InputPos()
			return &fault{line, column, "this XML ends in the middle"}
		case errors.As(err, &syntax):
			return &fault{syntax.Line, 0, "this XML is not well-formed: " + syntax.Msg}
		case err != nil:
			return nil
		}
		switch token.(type) {
		case xml.StartElement:
			if depth++; depth == 1 {
				roots++
			}
		case xml.EndElement:
			depth--
		}
		if roots > 1 || depth < 0 {
			line, column := d.InputPos()
			return &fault{line, column, fmt.Sprintf("this XML is not well-formed: more than one element stands at the top")}
		}
	}
}

// wellFormed checks that each element is ended by its own name.
func wellFormed(data []byte) *fault {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Entity = xml.HTMLEntity
	for {
		_, err := d.Token()
		var syntax *xml.SyntaxError
		if errors.As(err, &syntax) {
			return &fault{syntax.Line, 0, "this XML is not well-formed: " + syntax.Msg}
		}
		if err != nil {
			return nil
		}
	}
}
