package main

import (
	"fmt"
	"html"
	"math"
	"os"
	"strings"
	"testing"
)

// grown is what the program took for a number of findings.
type grown struct {
	findings int
	took     took
}

// plotGrowth draws how wall time and memory grow with the number of findings, both axes by powers of ten, as an SVG document (1.1),
// where ZINCDOOR_PLOT names a file for it.
func plotGrowth(b *testing.B, title string, all []grown) {
	name := os.Getenv("ZINCDOOR_PLOT")
	if name == "" || len(all) < 2 {
		return
	}
	const width, height, left, top, bottom, panel, gap = 900, 400, 60, 64, 56, 360, 80
	var out strings.Builder
	write := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	write(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%d" height="%d" role="img" font-family="sans-serif" font-size="13">`, width, height, width, height)
	write(`<title>%s</title>`, html.EscapeString(title))
	write(`<rect width="100%%" height="100%%" fill="#ffffff"/>`)
	write(`<text x="%d" y="24" font-size="15" fill="#1d2225">%s</text>`, left, html.EscapeString(title))
	for i, p := range []struct {
		heading string
		value   func(t took) float64
		show    func(value float64) string
	}{
		{"wall time, seconds", func(t took) float64 { return t.wall.Seconds() }, func(v float64) string { return fmt.Sprintf("%.2g s", v) }},
		{"memory at most, MB", func(t took) float64 { return float64(t.memory) / 1e6 }, func(v float64) string { return grouped(int(v)) + " MB" }},
	} {
		from := float64(left + i*(panel+gap))
		low, high := math.Inf(1), math.Inf(-1)
		for _, g := range all {
			low, high = min(low, math.Log10(p.value(g.took))), max(high, math.Log10(p.value(g.took)))
		}
		low, high = math.Floor(low), math.Ceil(high)
		first, last := math.Log10(float64(all[0].findings)), math.Log10(float64(all[len(all)-1].findings))
		x := func(findings int) float64 {
			return from + 30 + (math.Log10(float64(findings))-first)/(last-first)*(panel-90)
		}
		y := func(value float64) float64 {
			return height - bottom - (math.Log10(value)-low)/(high-low)*(height-top-bottom)
		}
		write(`<text x="%.0f" y="50" fill="#566067">%s</text>`, from, p.heading)
		for power := low; power <= high; power++ {
			at := y(math.Pow(10, power))
			write(`<line x1="%.0f" x2="%.0f" y1="%.1f" y2="%.1f" stroke="#c5ccd0"/>`, from, from+panel, at, at)
			write(`<text x="%.0f" y="%.1f" text-anchor="end" fill="#566067">%s</text>`, from-8, at+4, axisText(power))
		}
		var line []string
		for _, g := range all {
			line = append(line, fmt.Sprintf("%.1f,%.1f", x(g.findings), y(p.value(g.took))))
		}
		write(`<polyline points="%s" fill="none" stroke="#35565e" stroke-width="2"/>`, strings.Join(line, " "))
		for _, g := range all {
			value := p.value(g.took)
			write(`<circle cx="%.1f" cy="%.1f" r="4" fill="#a84300"/>`, x(g.findings), y(value))
			write(`<text x="%.1f" y="%.1f" fill="#1d2225">%s</text>`, x(g.findings)+9, y(value)+16, p.show(value))
			write(`<text x="%.1f" y="%d" text-anchor="middle" fill="#566067">%s</text>`, x(g.findings), height-bottom+20, grouped(g.findings))
		}
	}
	write(`<text x="%d" y="%d" fill="#566067">findings, against as many entries of the baseline</text>`, left, height-10)
	write(`</svg>`)
	if err := os.WriteFile(name, []byte(out.String()), 0o644); err != nil {
		b.Fatal(err)
	}
}

// axisText is a power of ten on an axis.
func axisText(power float64) string {
	if power < 0 {
		return fmt.Sprint(math.Pow(10, power))
	}
	return grouped(int(math.Pow(10, power)))
}

// grouped writes a number with its thousands apart.
func grouped(n int) string {
	text := fmt.Sprint(n)
	for at := len(text) - 3; at > 0; at -= 3 {
		text = text[:at] + "," + text[at:]
	}
	return text
}
