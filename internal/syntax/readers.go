package syntax

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/go-json-experiment/json/jsontext"

	"zincdoor/internal/core/house"
)

// readJSON looks for what is wrong with a JSON text. It holds nothing but the text, and 10,000 values one in the other.
func readJSON(data []byte) *house.Flaw {
	data = bytes.TrimPrefix(data, []byte("\xEF\xBB\xBF"))
	f := plainJSON(data)
	if f != nil && plainJSON(withoutComments(data)) == nil {
		return nil
	}
	return f
}

func plainJSON(data []byte) *house.Flaw {
	d := jsontext.NewDecoder(bytes.NewReader(data), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	err := d.SkipValue()
	if err == nil {
		if _, err = d.ReadToken(); err == io.EOF {
			return nil
		} else if err == nil {
			err = errors.New("there is something after the end of the value")
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
	return &house.Flaw{Line: 1 + bytes.Count(before, []byte{'\n'}), Column: len(before) - bytes.LastIndexByte(before, '\n'), Text: "this JSON can't be read: " + err.Error()}
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

// readXML looks for what is wrong with an XML text. It holds nothing but the text and the elements that are open.
func readXML(data []byte) *house.Flaw {
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
			return &house.Flaw{Line: line, Column: column, Text: "this XML ends in the middle"}
		case errors.As(err, &syntax):
			return &house.Flaw{Line: syntax.Line, Text: "this XML is not well-formed: " + syntax.Msg}
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
			return &house.Flaw{Line: line, Column: column, Text: fmt.Sprintf("this XML is not well-formed: it has more than one top element")}
		}
	}
}

// wellFormed checks that each element is ended by its own name.
func wellFormed(data []byte) *house.Flaw {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Entity = xml.HTMLEntity
	for {
		_, err := d.Token()
		var syntax *xml.SyntaxError
		if errors.As(err, &syntax) {
			return &house.Flaw{Line: syntax.Line, Text: "this XML is not well-formed: " + syntax.Msg}
		}
		if err != nil {
			return nil
		}
	}
}
