package render

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"
)

// cell is a text of a table, and how it is coloured; or several such texts.
type cell struct {
	text  string
	style style
	parts []cell
}

func plainCell(text string) cell { return cell{text: text} }

// render colours the text, or a beginning of it, which text is.
func (c cell) render(text string) string {
	if c.parts == nil {
		return c.style.Render(text)
	}
	var all strings.Builder
	for _, part := range c.parts {
		all.WriteString(part.style.Render(part.text))
	}
	return all.String()
}

// table is lines of cells under each other: those of a left column begin together, those of another end together. A column that is
// empty but for its heading is left out.
type table struct {
	left []bool
	rows [][]cell
}

func (t *table) add(cells ...cell) { t.rows = append(t.rows, cells) }

func (t *table) row(style style, texts ...string) {
	var cells []cell
	for _, text := range texts {
		cells = append(cells, cell{text: text, style: style})
	}
	t.add(cells...)
}

// write writes the table, its first row as headings. What doesn't fit loses the middle of its widest left column.
func (t *table) write(s *screen) {
	if len(t.rows) == 0 {
		return
	}
	widths, total := t.widths()
	if over := total - s.columns; over > 0 {
		widest := 0
		for i, width := range widths {
			if i < len(t.left) && t.left[i] && width > widths[widest] {
				widest = i
			}
		}
		widths[widest] = max(widths[widest]-over, 12)
	}
	for _, row := range t.rows {
		var line strings.Builder
		for i, c := range row {
			if widths[i] == 0 {
				continue
			}
			text := Safe(c.text)
			if width(text) > widths[i] {
				text = s.middle(text, widths[i])
			}
			pad := strings.Repeat(" ", widths[i]-width(text))
			if line.Len() > 0 {
				line.WriteString("  ")
			}
			if i < len(t.left) && t.left[i] {
				line.WriteString(c.render(text) + pad)
			} else {
				line.WriteString(pad + c.render(text))
			}
		}
		s.line("%s", strings.TrimRight(line.String(), " "))
	}
}

func (t *table) widths() (widths []int, total int) {
	widths = make([]int, len(t.rows[0]))
	filled := make([]bool, len(widths))
	for n, row := range t.rows {
		for i, c := range row {
			widths[i] = max(widths[i], width(Safe(c.text)))
			filled[i] = filled[i] || n > 0 && c.text != "" || len(t.rows) == 1
		}
	}
	for i := range widths {
		if !filled[i] {
			widths[i] = 0
		} else {
			total += widths[i] + 2
		}
	}
	return widths, total - 2
}

// middle shortens a text in its middle: of a path the beginning and the name stay.
func (s *screen) middle(text string, room int) string {
	tail := (room - width(s.cut)) * 2 / 3
	letters := []rune(text)
	return truncate(text, max(room-tail, 1), s.cut) + string(letters[max(len(letters)-tail, 0):])
}

func spreadsheet(w io.Writer, rows [][]string) error {
	out := csv.NewWriter(w)
	for _, row := range rows {
		for i := range row {
			row[i] = spreadsheetText(row[i])
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// Table writes lines of texts under each other, behind a line of headings.
func Table(w io.Writer, headings []string, rows [][]string) error {
	s := &screen{look: lookFor(w), w: w}
	t := table{}
	for range headings {
		t.left = append(t.left, true)
	}
	t.row(s.faint, headings...)
	for _, row := range rows {
		t.row(s.plain, row...)
	}
	t.write(s)
	return s.err
}

// ByteCount is a number of bytes for people.
func ByteCount(n int64) string {
	switch {
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d bytes", n)
}
