package report

import (
	"bufio"
	"bytes"
	"fmt"

	"github.com/antchfx/xmlquery"
	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"

	"zincdoor/internal/core/pattern"
)

// The tags by which a page that was written whole begins and ends.
var (
	pageBegins = pattern.Of(`(?i)<html[\s>]`)
	pageEnds   = pattern.Of(`(?i)</html\s*>`)
)

// html reads an HTML document as browsers do, whatever is open or crossed in it, and finds the findings in it by XPath 1.0.
// Elements and attributes have lower-case names and no namespace. It is bounded as XML is.
func (c *recipeReader) html(in *bufio.Reader) error {
	data, err := wholeDocument(in)
	if err != nil || len(bytes.TrimSpace(data)) == 0 {
		return err
	}
	if pageBegins.Match(data) && !pageEnds.Match(data) {
		return fmt.Errorf("the page is cut off: it has no </html>: %w", ErrMalformed)
	}
	decoded, err := charset.NewReader(bytes.NewReader(data), "text/html")
	if err != nil {
		return fmt.Errorf("no HTML: %v: %w", err, ErrMalformed)
	}
	page, err := html.ParseWithOptions(decoded, html.ParseOptionEnableScripting(false))
	if err != nil {
		return fmt.Errorf("no HTML: %v: %w", err, ErrMalformed)
	}
	root := &xmlquery.Node{Type: xmlquery.DocumentNode}
	if err := addElements(root, page, 0); err != nil {
		return err
	}
	return c.inElements(root)
}

// addElements adds what is below an HTML node to a node that XPath is asked of.
func addElements(to *xmlquery.Node, from *html.Node, depth int) error {
	if depth > mostDepth {
		return fmt.Errorf("elements are nested more than %d deep: %w", mostDepth, ErrMalformed)
	}
	for child := range from.ChildNodes() {
		switch child.Type {
		case html.TextNode:
			xmlquery.AddChild(to, &xmlquery.Node{Type: xmlquery.TextNode, Data: child.Data})
		case html.ElementNode:
			node := &xmlquery.Node{Type: xmlquery.ElementNode, Data: child.Data}
			for _, a := range child.Attr {
				xmlquery.AddAttr(node, a.Key, a.Val)
			}
			xmlquery.AddChild(to, node)
			if err := addElements(node, child, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}
