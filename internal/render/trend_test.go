package render

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"zincdoor/internal/core/record"
)

// TestTrendFormats: a trend is whole in every format, and no name in it does anything: not in a terminal, a page or a spreadsheet.
func TestTrendFormats(t *testing.T) {
	t.Setenv("LC_ALL", "C.UTF-8")
	hostile := "\x1b[31m</title><script>=1+1\x00"
	start := time.Date(2026, 4, 6, 0, 0, 0, 0, time.UTC)
	point := func(week int, id string, counts ...int) record.Point {
		p := record.Point{Start: start.AddDate(0, 0, 7*week), ID: id}
		for n, count := range counts {
			if name := fmt.Sprintf("%s%d", hostile, n); count > 0 {
				p.Tallies = append(p.Tallies, record.Tally{Name: name, Findings: count, Cost: 25 * count})
			}
		}
		return p
	}
	for name, points := range map[string][]record.Point{
		"none": nil, "nothing known": {point(0, "")}, "one": {point(0, "a", 3)}, "empty": {point(0, "a"), point(1, "b")},
		"some": {point(0, ""), point(1, "a", 900, 1, 2, 3, 4, 5, 6), point(2, ""), point(3, "c", 100, 70, 0, 3), point(4, "")},
	} {
		for _, by := range []record.By{record.BySeverity, record.BySet} {
			trend := record.Over(points, record.Week, by, nil)
			for _, cost := range []bool{false, true} {
				for _, format := range TrendFormats {
					var out bytes.Buffer
					if err := Trend(&out, format, trend, TrendOptions{Title: "On " + hostile, Most: 5, Cost: cost}); err != nil {
						t.Fatal(err)
					}
					text := out.String()
					if strings.ContainsAny(text, "\x1b\x00") || format == SVG && strings.Contains(text, "<script>") || format == CSV && strings.Contains(text, ",=1") {
						t.Errorf("%s as %s does something:\n%s", name, format, text)
					}
					switch format {
					case SVG:
						decoder := xml.NewDecoder(&out)
						for {
							if _, err := decoder.Token(); err == io.EOF {
								break
							} else if err != nil {
								t.Fatalf("%s: %v\n%s", name, err, text)
							}
						}
						if strings.Contains(text, "NaN") || strings.Contains(text, "Inf") {
							t.Errorf("%s:\n%s", name, text)
						}
					case JSON:
						if !json.Valid([]byte(text)) {
							t.Errorf("%s:\n%s", name, text)
						}
					case Text:
						for line := range strings.Lines(text) {
							if width(strings.TrimSuffix(line, "\n")) > defaultColumns && !strings.HasPrefix(line, "week of") {
								t.Errorf("%s: too wide: %s", name, line)
							}
						}
						if name == "some" && (by == record.BySeverity && strings.Count(text, "█") < 10 || !strings.Contains(text, others)) {
							t.Errorf("%s:\n%s", name, text)
						}
					}
				}
			}
		}
	}
}

// TestScale: lines are drawn at round values, few of them, up to the greatest.
func TestScale(t *testing.T) {
	for _, most := range []int{0, 1, 3, 7, 59, 100, 999, 50000} {
		for _, cost := range []bool{false, true} {
			_, scale := scaleOf(most, cost)
			if last := scale[len(scale)-1]; scale[0] != 0 || last < most || len(scale) < 2 || len(scale) > plotMostMarks {
				t.Errorf("up to %d (cost: %v): %v", most, cost, scale)
			}
		}
	}
}
