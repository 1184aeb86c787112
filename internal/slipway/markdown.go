package slipway

import (
	"html"
	"html/template"
	"strings"
)

// markdown is as much of Markdown as verdicts are written in, for the page: headings, paragraphs, lists, tables, indented and fenced
// code, code and bold words, web addresses in angle brackets. All else is text, HTML above all. A library for the whole of it would cost
// every start of the program two milliseconds.
func markdown(text string) template.HTML {
	var out strings.Builder
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	for len(lines) > 0 {
		n := 1
		switch line := lines[0]; {
		case strings.TrimSpace(line) == "", isRemark(line):
		case strings.HasPrefix(line, "```"):
			n = count(lines[1:], func(l string) bool { return !strings.HasPrefix(l, "```") }) + 1
			out.WriteString("<pre>" + html.EscapeString(strings.Join(lines[1:n], "\n")) + "</pre>")
			n = min(n+1, len(lines))
		case strings.HasPrefix(line, "    "):
			n = count(lines, func(l string) bool { return strings.HasPrefix(l, "    ") })
			out.WriteString("<pre>")
			for _, l := range lines[:n] {
				out.WriteString(html.EscapeString(l[4:]) + "\n")
			}
			out.WriteString("</pre>")
		case strings.HasPrefix(line, "#"):
			out.WriteString("<h2>" + inline(strings.TrimSpace(strings.TrimLeft(line, "#"))) + "</h2>")
		case strings.HasPrefix(line, "- "):
			n = count(lines, func(l string) bool { return strings.HasPrefix(l, "- ") || strings.HasPrefix(l, "  ") })
			out.WriteString("<ul>")
			for i, l := range lines[:n] {
				if item, begins := strings.CutPrefix(l, "- "); begins {
					if i > 0 {
						out.WriteString("</li>")
					}
					out.WriteString("<li>" + inline(item))
				} else {
					out.WriteString("<br>" + inline(strings.TrimSpace(l)))
				}
			}
			out.WriteString("</li></ul>")
		case strings.HasPrefix(line, "|"):
			n = count(lines, func(l string) bool { return strings.HasPrefix(l, "|") })
			table(&out, lines[:n])
		default:
			n = max(count(lines, isPlain), 1)
			out.WriteString("<p>" + inline(strings.Join(lines[:n], "\n")) + "</p>")
		}
		lines = lines[n:]
	}
	return template.HTML(out.String())
}

// count is how many lines are so before one isn't.
func count(lines []string, is func(string) bool) (n int) {
	for n < len(lines) && is(lines[n]) {
		n++
	}
	return n
}

// isPlain reports whether a line goes on with a paragraph.
func isPlain(line string) bool {
	return strings.TrimSpace(line) != "" && !isRemark(line) && !strings.HasPrefix(line, "```") && !strings.HasPrefix(line, "#") && !strings.HasPrefix(line, "- ") && !strings.HasPrefix(line, "|")
}

// isRemark reports whether a line is nothing but an HTML comment.
func isRemark(line string) bool {
	line = strings.TrimSpace(line)
	return strings.HasPrefix(line, "<!--") && strings.HasSuffix(line, "-->")
}

// table writes rows of cells; the second row, of dashes, is how they are aligned.
func table(out *strings.Builder, rows []string) {
	out.WriteString("<table>")
	for i, row := range rows {
		if i == 1 && strings.Trim(row, "|-: ") == "" {
			continue
		}
		cell := "td"
		if i == 0 {
			cell = "th"
		}
		out.WriteString("<tr>")
		for _, text := range strings.Split(strings.Trim(strings.TrimSpace(row), "|"), "|") {
			out.WriteString("<" + cell + ">" + inline(strings.TrimSpace(text)) + "</" + cell + ">")
		}
		out.WriteString("</tr>")
	}
	out.WriteString("</table>")
}

// inline is text with code, bold words and addresses as such.
func inline(text string) string {
	var out strings.Builder
	bold := false
	for text != "" {
		switch {
		case text[0] == '\\' && len(text) > 1 && strings.IndexByte("\\`*_{}[]()#+-.!|~=<>&", text[1]) >= 0:
			out.WriteString(html.EscapeString(text[1:2]))
			text = text[2:]
			continue
		case text[0] == '`':
			fence := text[:len(text)-len(strings.TrimLeft(text, "`"))]
			if code, rest, closed := strings.Cut(text[len(fence):], fence); closed {
				if inner := strings.TrimSuffix(strings.TrimPrefix(code, " "), " "); strings.Contains(code, "`") {
					code = inner
				}
				out.WriteString("<code>" + html.EscapeString(code) + "</code>")
				text = rest
				continue
			}
			out.WriteString(fence)
			text = text[len(fence):]
			continue
		case strings.HasPrefix(text, "**") && (bold || strings.Contains(text[2:], "**")):
			out.WriteString(map[bool]string{true: "</strong>", false: "<strong>"}[bold])
			bold, text = !bold, text[2:]
			continue
		case strings.HasPrefix(text, "<http://"), strings.HasPrefix(text, "<https://"):
			if address, rest, closed := strings.Cut(text[1:], ">"); closed && !strings.ContainsAny(address, " \"'<\n") {
				out.WriteString(`<a href="` + html.EscapeString(address) + `">` + html.EscapeString(address) + "</a>")
				text = rest
				continue
			}
		case text[0] == '&':
			if name, rest, closed := strings.Cut(text[1:], ";"); closed && len(name) < 8 && html.UnescapeString("&"+name+";") != "&"+name+";" {
				out.WriteString(html.EscapeString(html.UnescapeString("&" + name + ";")))
				text = rest
				continue
			}
		}
		n := 1
		for n < len(text) && strings.IndexByte("\\`*<&", text[n]) < 0 {
			n++
		}
		out.WriteString(html.EscapeString(text[:n]))
		text = text[n:]
	}
	if bold {
		out.WriteString("</strong>")
	}
	return out.String()
}
