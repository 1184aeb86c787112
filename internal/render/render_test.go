package render

import (
	"bytes"
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/review"
)

// TestEscapes: what comes from outside means itself, whatever it is put into.
func TestEscapes(t *testing.T) {
	for _, c := range []struct {
		name     string
		as       func(string) string
		in, want string
	}{
		{"a terminal", Safe, "a\x1b[31mb\u202ec\td", "a<1B>[31mb<202E>c d"},
		{"emoji stay whole", Safe, "👨\u200d👩", "👨\u200d👩"},
		{"Markdown", escapeMarkdown, "*a* [b](c) <d> @e `f` | g", `\*a\* \[b\]\(c\) &lt;d&gt; &#64;e \` + "`f\\` \\| g"},
		{"a list in Markdown", escapeMarkdown, "- a", `\- a`},
		{"a numbered list in Markdown", escapeMarkdown, "12. a", `12\. a`},
		{"a number in Markdown", escapeMarkdown, "12 a", "12 a"},
		{"a heading in Markdown", escapeMarkdown, "=== a", `\=== a`},
		{"an address in Markdown", escapeMarkdown, "https://a.example www.b.example", "https:&#47;&#47;a.example www&#46;b.example"},
		{"code", codeSpan, "a", "`a`"},
		{"code with backticks", codeSpan, "a``b", "``` a``b ```"},
		{"no code", codeSpan, "", ""},
		{"a spreadsheet", spreadsheetText, "=1+1", "'=1+1"},
		{"a spreadsheet's text", spreadsheetText, "a=1", "a=1"},
		{"XML", xmlText, "a\x00b\nc\xff", "a<00>b\nc\uFFFD"},
	} {
		if got := c.as(c.in); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	words := []string{"plain", "two words", "it's", "", "$HOME", "*", "a\nb", `"`, "`x`"}
	out, err := exec.Command("sh", "-c", "printf '%s\\000' "+ShellWords(words)).Output()
	if got := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00"); err != nil || strings.Join(got, "|") != strings.Join(words, "|") {
		t.Errorf("a shell reads %q: %q, %v", ShellWords(words), got, err)
	}
}

// FuzzMarkdown: no sign of Markdown or HTML stands in escaped text without what takes its meaning.
func FuzzMarkdown(f *testing.F) {
	f.Add("<b>*a*</b> [x](y) @z `c` \\")
	f.Fuzz(func(t *testing.T, s string) {
		escaped := escapeMarkdown(s)
		for i, r := range escaped {
			if strings.ContainsRune("<>@", r) || strings.ContainsRune("*_[]()`|#", r) && (i == 0 || escaped[i-1] != '\\' && !strings.HasPrefix(escaped[i-1:], "&#")) {
				t.Fatalf("%q comes out as %q", s, escaped)
			}
		}
		if span := codeSpan(s); span != "" && strings.Contains(span[1:len(span)-1], "\n") {
			t.Fatalf("%q is code of several lines: %q", s, span)
		}
	})
}

// verdictOf has findings of all standings in two files.
func verdictOf() judge.Verdict {
	v := judge.Verdict{
		Door: "merge", Outcome: judge.Shut, Enforced: judge.Shut, Mode: policy.Enforce, Ladder: policy.Ladder{"error", "warning", "note"},
		Teams: []policy.Team{{Name: "tides", Contact: "#tides"}},
	}
	add := func(path string, line int, rule, severity, team string, standing judge.Standing, place change.Place) {
		f := &finding.Finding{Tool: "gauge", Rule: rule, Level: finding.Warning, Message: "of " + rule, Path: path, Region: finding.Region{Line: line}, Occurrences: 1}
		v.Findings = append(v.Findings, judge.Finding{Finding: f, ID: strings.Repeat(string(rune('a'+len(v.Findings))), 10), Severity: severity, Team: team, Status: judge.Status{Standing: standing}, Place: place})
	}
	add("core/tide.c", 1, "-Wa", "error", "tides", judge.New, change.OnTouched)
	add("core/tide.c", 2, "-Wb", "warning", "tides", judge.Accepted, change.InFile)
	add("fares/fare.go", 3, "-Wb", "warning", "", judge.New, change.OnTouched)
	add("fares/fare.go", 4, "-Wc", policy.Ignored, "", judge.Existing, change.InFile)
	v.Limits = []judge.LimitResult{
		{Limit: policy.Limit{Name: "new error", Count: policy.CountNew, Mode: policy.Enforce}, Mode: policy.Enforce, Found: 1, Findings: []int{0}},
		{Limit: policy.Limit{Name: "some", Count: policy.CountAll, Most: 4, Mode: policy.Enforce}, Mode: policy.Enforce, Bound: 4, Found: 1, Held: true, Findings: []int{2}},
		{Limit: policy.Limit{Name: "advice", Count: policy.CountNew, Mode: policy.Advise}, Mode: policy.Advise, Found: 1, Findings: []int{2}},
	}
	return v
}

func TestShow(t *testing.T) {
	v := verdictOf()
	for _, c := range []struct {
		options Options
		want    string // the rules, group by group
	}{
		{Options{}, "-Wa -Wb"},
		{Options{Show: ShowTouched}, "-Wa -Wb"},
		{Options{Show: "accepted"}, "-Wb"},
		{Options{Show: ShowIgnored}, "-Wc"},
		{Options{Show: ShowAll, Group: ByRule}, "-Wb, 2: -Wb -Wb; -Wa, 1: -Wa; -Wc, 1: -Wc"},
		{Options{Show: ShowAll, Group: ByTeam}, "team tides #tides, 2: -Wa -Wb; no team, 2: -Wb -Wc"},
		{Options{Show: "new", Group: BySeverity}, "error, 1: -Wa; warning, 1: -Wb"},
		{Options{Show: ShowNone}, ""},
	} {
		chosen, left := c.options.choose(&v)
		var got []string
		for _, g := range c.options.groups(&v, chosen) {
			text := ""
			if g.name != "" {
				text = g.name + ", " + string(rune('0'+len(g.findings))) + ": "
			}
			var rules []string
			for _, i := range g.findings {
				rules = append(rules, v.Findings[i].Rule)
			}
			got = append(got, text+strings.Join(rules, " "))
		}
		if strings.Join(got, "; ") != c.want || left != 0 {
			t.Errorf("%+v: %q, want %q", c.options, strings.Join(got, "; "), c.want)
		}
	}
}

// TestShares: an advising limit's findings are shown, and nothing says that they shut the door.
func TestShares(t *testing.T) {
	v := verdictOf()
	var junit, review bytes.Buffer
	if err := writeJUnit(&junit, v); err != nil {
		t.Fatal(err)
	}
	if err := writeReview(&review, v, Options{}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ in, want string }{
		{junit.String(), `failures="2" errors="0" skipped="2"`}, // the limit and its finding; the advice and its own
		{review.String(), `"line":1,"start_line":1,"side":"new","severity":"error","shuts":true`},
		{review.String(), `"line":3,"start_line":3,"side":"new","severity":"warning","shuts":false`},
	} {
		if !strings.Contains(c.in, c.want) {
			t.Errorf("no %s in\n%s", c.want, c.in)
		}
	}
}

// TestReviewComment: what a comment says, with nothing of a report as markup, and no mark but the one that it gets.
func TestReviewComment(t *testing.T) {
	v := verdictOf()
	mark := review.Mark{Door: "merge", ID: "0123456789abcdef"}.Write("", "<!-- {mark} -->")
	for _, c := range []struct {
		do   func(*judge.Finding)
		want string
	}{
		{func(*judge.Finding) {}, "**error** `-Wa`\n\nsays it"},
		{func(f *judge.Finding) { f.Message = "see <b> and " + mark }, "**error** `-Wa`\n\nsee &lt;b&gt; and   &lt;\\!-- zincdoor 1 comment merge 0123456789abcdef open e3b0c44298fc - - --&gt;"},
		{func(f *judge.Finding) { f.Rule = "a`b -->" }, "**error** `` a`b --> ``\n\nsays it"},
		{func(f *judge.Finding) {
			f.Standing, f.Measure, f.AcceptedMeasure = judge.Worsened, "21", "15"
		}, "**error** `-Wa` (worsened: 21, accepted at 15)\n\nsays it"},
		{func(f *judge.Finding) { f.Extra = &finding.Details{Fixes: []finding.Fix{{Description: "call *it*"}}} }, "**error** `-Wa`\n\nsays it\n\nSuggested: call \\*it\\*"},
		{func(f *judge.Finding) {
			f.Extra = &finding.Details{Fixes: []finding.Fix{{Edits: []finding.Edit{{Text: "if (a) {\n\tb();\n}\n"}}}}}
		}, "**error** `-Wa`\n\nsays it\n\nSuggested:\n\n    if (a) {\n        b();\n    }"},
		{func(f *judge.Finding) { f.Extra = &finding.Details{Help: "https://boards.example/a b<c>"} }, "**error** `-Wa`\n\nsays it\n\n<https://boards.example/a%20b%3Cc%3E>"},
		{func(f *judge.Finding) { f.Region.EndLine = 9 }, "**error** `-Wa`, lines 1 to 9\n\nsays it"},
		{func(f *judge.Finding) { f.Message = strings.Repeat("x", 3000) }, "**error** `-Wa`\n\n" + strings.Repeat("x", longestMessage) + "…"},
	} {
		one := v
		f := *v.Findings[0].Finding
		f.Message = "says it"
		j := v.Findings[0]
		j.Finding = &f
		c.do(&j)
		one.Findings = []judge.Finding{j}
		if got := ReviewComment(one, review.Comment{Start: 1, Line: 1, Findings: []int{0}}); got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
}

func TestAddress(t *testing.T) {
	commit := strings.Repeat("0f", 20)
	for _, c := range []struct{ link, path, commit, want string }{
		{"https://code.example/{commit}/{path}#{line}", "a b/(c).c", commit, "https://code.example/" + commit + "/a%20b/%28c%29.c#7"},
		{"https://code.example/{commit}/{path}", "a.c", "index", ""},
		{"https://code.example/{path}", "a.c", "index", "https://code.example/a.c"},
		{"https://code.example/{path}", "/usr/a.c", commit, ""},
		{"", "a.c", commit, ""},
	} {
		if got := (Options{Link: c.link}).address(c.path, 7, c.commit); got != c.want {
			t.Errorf("%s %s: %q, want %q", c.link, c.path, got, c.want)
		}
	}
}

func TestCut(t *testing.T) {
	text := strings.Repeat("finding\n", 40) + "limit\noutcome\n"
	got := strings.Split(Cut(text, 10, "more shows all"), "\n")
	if len(got) != 10 || got[9] != "outcome" || got[8] != "limit" || got[4] != "  … 33 lines left out; more shows all" {
		t.Errorf("%q", got)
	}
	if got := Cut("a\nb\n", 10, "x"); got != "a\nb" {
		t.Errorf("%q", got)
	}
}

// TestLongPage: a page has all findings, those that a browser would take long to show as lines of closed sections.
func TestLongPage(t *testing.T) {
	for _, c := range []struct {
		name     string
		path     func(i int) string
		sections []string
	}{
		{"a few folders", func(i int) string { return []string{"core/a&b.c", "fares/x.c", "top.c", ""}[i%4] }, []string{
			`<summary>./ <span class="number">6</span>`, `<summary>core/ <span class="number">3</span>`, `<summary>fares/ <span class="number">3</span>`,
		}},
		{"a folder each", func(i int) string { return fmt.Sprintf("core/%d/x.c", i) }, []string{`<summary>core/ <span class="number">1500</span>`}},
	} {
		v := judge.Verdict{Ladder: policy.Ladder{"error", "warning"}}
		more := 12
		if c.name == "a folder each" {
			more = 1500
		}
		for i := range mostArticles + more {
			f := finding.Finding{Tool: "gauge", Rule: "R", Message: "a <b> & c", Path: c.path(i), Region: finding.Region{Line: i + 1}}
			if f.Path == "" {
				f.Region.Line = 0
			}
			v.Findings = append(v.Findings, judge.Finding{Finding: &f, ID: fmt.Sprint(i), Severity: "warning", Status: judge.Status{Standing: judge.Existing}})
		}
		var out bytes.Buffer
		if err := Verdict(&out, HTML, v, Options{}); err != nil {
			t.Fatal(err)
		}
		page := out.String()
		for _, want := range append(c.sections, fmt.Sprintf("<h3>%d more, by folder</h3>", more)) {
			if !strings.Contains(page, want) {
				t.Errorf("%s: no %s", c.name, want)
			}
		}
		if articles, lines := strings.Count(page, "<article"), strings.Count(page, "warning R a &lt;b&gt; &amp; c (existing)\n"); articles != mostArticles || lines != more {
			t.Errorf("%s: %d articles, %d lines", c.name, articles, lines)
		}
	}
}
