package render

import (
	"cmp"
	"fmt"
	"html"
	"io"
	"math"
	"slices"
	"strings"

	"zincdoor/internal/core/record"
)

// The plot of a trend: areas one upon the other, in a picture of this size.
const (
	plotWidth, plotHeight           = 900, 420
	plotLeft, plotRight             = 64, 170
	plotTop, plotBottom             = 56, 48
	plotMostMarks, plotTickDistance = 8, 100
)

// The fills of areas: of severities, the worst first, greys of zinc and one colour for the worst; of others, which have no order,
// colours that are told apart.
var (
	severityFills = []string{"#c2552d", "#4f6a6e", "#8aa0a3", "#b9c7c9", "#d9e1e2", "#ecf0f0"}
	otherFills    = []string{"#4f6a6e", "#d2a24c", "#86a27d", "#94759a", "#b9c7c9", "#dfe5e5"}
)

// trendPicture draws a trend as an SVG document (1.1), with its numbers in words for who can't see it.
func trendPicture(w io.Writer, t record.Trend, o TrendOptions) error {
	t = t.Trimmed()
	shown := seriesOf(t, o)
	var known []int // the steps that something is known of
	most := 0
	for i, p := range t.Points {
		if !p.Known() {
			continue
		}
		known = append(known, i)
		sum := 0
		for n := range shown.names {
			sum += shown.values[n][i]
		}
		most = max(most, sum)
	}
	unit, scale := scaleOf(most, o.Cost)
	shade := fillsOf(t)
	x := func(step int) float64 {
		return plotLeft + float64(step)*float64(plotWidth-plotLeft-plotRight)/float64(max(len(t.Points)-1, 1))
	}
	y := func(value int) float64 {
		return plotHeight - plotBottom - float64(value)/float64(scale[len(scale)-1])*float64(plotHeight-plotTop-plotBottom)
	}
	var out strings.Builder
	text := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	safe := func(s string) string { return html.EscapeString(xmlText(Safe(s))) }
	text(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%d" height="%d" role="img" font-family="sans-serif" font-size="13">`, plotWidth, plotHeight, plotWidth, plotHeight)
	text(`<title>%s</title>`, safe(o.Title))
	text(`<rect width="100%%" height="100%%" fill="#ffffff"/>`)
	text(`<text x="%d" y="28" font-size="16" font-weight="bold" fill="#22302f">%s</text>`, plotLeft, safe(o.Title))
	for _, value := range scale {
		text(`<line x1="%d" x2="%d" y1="%.1f" y2="%.1f" stroke="#dfe5e5"/>`, plotLeft, plotWidth-plotRight, y(value), y(value))
		text(`<text x="%d" y="%.1f" text-anchor="end" fill="#51605f">%s</text>`, plotLeft-8, y(value)+4, unit(value))
	}
	steps := max(1, int(math.Ceil(float64(len(t.Points))*plotTickDistance/float64(plotWidth-plotLeft-plotRight))))
	for i := 0; i < len(t.Points); i += steps {
		text(`<text x="%.1f" y="%d" text-anchor="middle" fill="#51605f">%s</text>`, x(i), plotHeight-plotBottom+20, stepName(t.Points[i].Start, t.Every))
	}
	base := make([]int, len(t.Points))
	for n := len(shown.names) - 1; n >= 0; n-- { // the worst is on top
		var upper, lower []string
		title := safe(cmp.Or(shown.names[n], "none"))
		for _, i := range known {
			lower = append(lower, fmt.Sprintf("%.1f,%.1f", x(i), y(base[i])))
			base[i] += shown.values[n][i]
			upper = append(upper, fmt.Sprintf("%.1f,%.1f", x(i), y(base[i])))
		}
		if len(known) == 1 { // a single step is drawn as a bar
			i := known[0]
			text(`<rect x="%.1f" y="%.1f" width="24" height="%.1f" fill="%s"><title>%s</title></rect>`, x(i), y(base[i]), y(base[i]-shown.values[n][i])-y(base[i]), shade(n), title)
			continue
		}
		slices.Reverse(lower)
		text(`<polygon points="%s %s" fill="%s" stroke="#ffffff" stroke-width="1"><title>%s</title></polygon>`, strings.Join(upper, " "), strings.Join(lower, " "), shade(n), title)
	}
	for n, name := range shown.names {
		at := plotTop + 8 + 22*n
		text(`<rect x="%d" y="%d" width="12" height="12" fill="%s"/>`, plotWidth-plotRight+16, at, shade(n))
		last := ""
		if len(known) > 0 {
			last = " " + unit(shown.values[n][known[len(known)-1]])
		}
		text(`<text x="%d" y="%d" fill="#22302f">%s%s</text>`, plotWidth-plotRight+34, at+11, safe(truncate(cmp.Or(name, "none"), 16, "…")), last)
	}
	text(`</svg>`)
	_, err := io.WriteString(w, out.String())
	return err
}

// fillsOf gives the fill of each area of a trend.
func fillsOf(t record.Trend) func(n int) string {
	fills := otherFills
	if t.By == string(record.BySeverity) {
		fills = severityFills
	}
	return func(n int) string { return fills[min(n, len(fills)-1)] }
}

// scaleOf gives the values that lines are drawn at, round ones from 0 to at least the greatest, and how they are written.
func scaleOf(most int, cost bool) (unit func(int) string, scale []int) {
	unit, whole := func(n int) string { return fmt.Sprint(n) }, 1
	if cost {
		unit = WorkTime
		if most > 120 {
			whole = 60
		}
	}
	step := whole
	for n := 0; most > step*plotMostMarks/2; n++ { // 1, 2, 5, 10, 20, 50, …
		if n%3 == 1 {
			step = step / 2 * 5
		} else {
			step *= 2
		}
	}
	for value := 0; ; value += step {
		scale = append(scale, value)
		if value >= most && value > 0 {
			return unit, scale
		}
	}
}
