package report

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/antchfx/xmlquery"
	"github.com/antchfx/xpath"
	"golang.org/x/net/html/charset"
)

// xml reads an XML document and finds the findings in it by XPath 1.0. The document has at most longestDocument bytes, and mostDepth
// elements one in the other.
func (c *recipeReader) xml(in *bufio.Reader) error {
	data, err := wholeDocument(in)
	if err != nil || len(bytes.TrimSpace(data)) == 0 {
		return err
	}
	if err := wellFormed(data); err != nil {
		return err
	}
	root, err := xmlquery.Parse(bytes.NewReader(data))
	if err != nil {
		return fmt.Errorf("no XML: %v: %w", err, ErrMalformed)
	}
	return c.inElements(root)
}

// wholeDocument reads a document that has to be in memory.
func wholeDocument(in *bufio.Reader) ([]byte, error) {
	data, err := io.ReadAll(&bounded{in: in, left: longestDocument() + 1})
	if errors.Is(err, errTooLong) {
		return nil, fmt.Errorf("the document is over %d MiB long: %w", longestDocument()>>20, ErrMalformed)
	}
	return data, err
}

// inElements finds the findings in a document.
func (c *recipeReader) inElements(root *xmlquery.Node) error {
	var levels []*xpath.Expr
	for _, each := range c.Each {
		levels = append(levels, xpath.MustCompile(each)) // which the policy has checked
	}
	fields := map[string]*xpath.Expr{}
	for name, f := range c.Fields {
		if f.At != "" {
			fields[name] = xpath.MustCompile(f.At)
		}
	}
	return c.elements(levels, fields, []*xmlquery.Node{root})
}

// wellFormed reads a document through once, so that what is wrong with it is reported by its line, and none is too deep.
func wellFormed(data []byte) error {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.CharsetReader = charset.NewReaderLabel
	depth, roots := 0, 0
	for {
		token, err := d.RawToken()
		line, column := d.InputPos()
		switch token.(type) {
		case xml.StartElement:
			if depth++; depth == 1 {
				roots++
			}
		case xml.EndElement:
			depth--
		}
		switch {
		case err == io.EOF && depth > 0:
			return fmt.Errorf("line %d, column %d: the document is cut off: %w", line, column, ErrMalformed)
		case err == io.EOF && roots == 0:
			return fmt.Errorf("line 1: a document without an element is no XML: %w", ErrMalformed)
		case err == io.EOF:
			return nil
		case err != nil:
			return fmt.Errorf("line %d, column %d: no XML: %v: %w", line, column, err, ErrMalformed)
		case depth > mostDepth:
			return fmt.Errorf("line %d, column %d: elements are nested more than %d deep: %w", line, column, mostDepth, ErrMalformed)
		}
	}
}

// elements goes on from the last of the nodes that lead to a finding, one of each level so far.
func (c *recipeReader) elements(levels []*xpath.Expr, fields map[string]*xpath.Expr, way []*xmlquery.Node) error {
	last, depth := way[len(way)-1], len(way)-1
	if depth == len(levels) {
		v := c.constants()
		for name, f := range c.Fields {
			if f.At == "" {
				continue
			}
			if value := cut(f, xmlText(fields[name], way[depth-f.Up])); value != "" {
				v[name] = value
			}
		}
		return c.add(v, fmt.Sprintf("element %d", len(c.report.Findings)+1))
	}
	for _, found := range xmlquery.QuerySelectorAll(last, levels[depth]) {
		if err := c.elements(levels, fields, append(way[:len(way):len(way)], found)); err != nil {
			return err
		}
	}
	return nil
}

// xmlText is what an expression gives of a node, as text.
func xmlText(expression *xpath.Expr, at *xmlquery.Node) string {
	switch value := expression.Evaluate(xmlquery.CreateXPathNavigator(at)).(type) {
	case *xpath.NodeIterator:
		if value.MoveNext() {
			return strings.TrimSpace(value.Current().Value())
		}
	case string:
		return strings.TrimSpace(value)
	case float64:
		return strconv.FormatFloat(value, 'f', -1, 64)
	case bool:
		return strconv.FormatBool(value)
	}
	return ""
}
