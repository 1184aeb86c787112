package render

import (
	"fmt"
	"io"
	"net/url"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/pattern"
)

// MarkdownLength is how long a verdict as Markdown is at most where the call doesn't say, in characters.
const MarkdownLength = 60_000

// unfolded is how many findings are shown before the rest is folded.
const unfolded = 10

// writeMarkdown writes the verdict as a comment on a pull request: the outcome first, then the limits, what broke them,
// and what is worth knowing. It stays within the length by leaving out findings, and says how many.
func writeMarkdown(w io.Writer, v judge.Verdict, o Options) error {
	_, err := io.WriteString(w, markdownOf(v, o, v.Broken(), nil))
	return err
}

// markdownOf writes it with these findings, and with notes before them.
func markdownOf(v judge.Verdict, o Options, broken []int, notes []string) string {
	most := o.MaxLength
	if most == 0 {
		most = MarkdownLength
	}
	head, tail := markdownHead(v), markdownTail(v, o)
	for _, note := range notes {
		head += "\n" + note + "\n"
	}
	left := most - len([]rune(head)) - len([]rune(tail)) - 200 // for the line about those left out
	var body strings.Builder
	file, shown, folded := "\x00", 0, false
	for n, i := range broken {
		f := v.Findings[i]
		var part strings.Builder
		if n == unfolded && len(broken) > unfolded+2 {
			fmt.Fprintf(&part, "\n<details><summary>%s more</summary>\n\n", finding.Count(len(broken)-n))
			folded = true
		}
		if f.Path != file {
			file = f.Path
			fmt.Fprintf(&part, "\n%s\n\n", fileHeading(file))
		}
		part.WriteString(markdownFinding(f, v, o))
		if length := len([]rune(part.String())); length > left {
			break
		} else {
			left -= length
		}
		body.WriteString(part.String())
		shown++
	}
	if folded && strings.Contains(body.String(), "<details>") {
		body.WriteString("\n</details>\n")
	}
	if shown < len(broken) {
		fmt.Fprintf(&body, "\n*%s left out to stay within %d characters; the whole verdict has them.*\n", finding.Count(len(broken)-shown), most)
	}
	text := []rune(head + body.String() + tail)
	if len(text) > most {
		text = append(text[:max(most-2, 0)], '…', '\n')
	}
	return string(text)
}

func fileHeading(path string) string {
	if path == "" {
		return "**no file**"
	}
	return "**" + codeSpan(path) + "**"
}

func markdownHead(v judge.Verdict) string {
	var s strings.Builder
	fmt.Fprintf(&s, "## %s: %s\n\n%s\n", strings.TrimSuffix("Door "+escapeMarkdown(v.Door), " "), map[judge.Outcome]string{judge.Open: "open", judge.Shut: "shut", judge.Unjudged: "cannot judge"}[v.Outcome], escapeMarkdown(reason(v)))
	for _, e := range v.Evidence {
		if !e.Sound() {
			fmt.Fprintf(&s, "\n- %s is %s: %s\n", codeSpan(evidenceName(e)), e.State, escapeMarkdown(e.Problem))
		}
	}
	if len(v.Limits) > 0 {
		s.WriteString("\n| limit | | found | at most |\n|---|---|--:|--:|\n")
	}
	for _, l := range v.Limits {
		most := fmt.Sprint(l.Bound)
		switch {
		case l.Measured != nil:
			most = allowed(l)
		case l.NoGrowth:
			most += " (before)"
		}
		if l.Unknown {
			most = "unknown"
		}
		state := stateOf(l)
		if l.Mode == "advise" {
			state += ", advises"
		}
		if !l.Held && !l.Waiting {
			state = "**" + state + "**"
		}
		fmt.Fprintf(&s, "| %s | %s | %s | %s |\n", escapeCell(l.Name), state, escapeCell(found(l)), escapeCell(most))
	}
	for _, l := range v.Limits {
		if !l.Held && l.Say != "" {
			fmt.Fprintf(&s, "\n%s: %s\n", escapeMarkdown(l.Name), escapeMarkdown(l.Say))
		}
	}
	return s.String()
}

func markdownFinding(f judge.Finding, v judge.Verdict, o Options) string {
	at := "no line"
	if f.Region.Line > 0 {
		at = fmt.Sprintf("line %d", f.Region.Line)
	}
	if address := o.address(f.Path, f.Region.Line, v.Subject.Head); address != "" {
		at = "[" + at + "](" + address + ")"
	}
	rule := codeSpan(f.Rule)
	if o.Rule != nil && rule != "" {
		if about, known := o.Rule(f.Finding); known && webAddress.MatchString(about.Address) {
			rule = "[" + rule + "](" + about.Address + ")"
		}
	}
	text := fmt.Sprintf("- %s: **%s** %s %s", at, escapeMarkdown(f.Severity), rule, escapeMarkdown(f.Message))
	if f.Standing != judge.New {
		text += fmt.Sprintf(" (%s)", f.Standing)
	}
	for _, team := range v.Teams {
		if team.Name == f.Team {
			if text += ", team " + escapeMarkdown(team.Name); team.Contact != "" {
				text += " (" + escapeMarkdown(team.Contact) + ")"
			}
		}
	}
	if source := o.text(f.Path); source != nil && f.Region.Line > 0 {
		if line := strings.TrimSpace(clipBytes(source.Line(f.Region.Line), longestLine)); line != "" {
			text += "\n  " + codeSpan(clipRunes(line, 160))
		}
	}
	return text + "\n"
}

// webAddress is an address that may be linked to as it is.
var webAddress = pattern.Of(`^https?://[A-Za-z0-9._~:/?#@!$&*+,;=%-]+$`)

func markdownTail(v judge.Verdict, o Options) string {
	var s strings.Builder
	s.WriteString("\n")
	if n := fixable(v); n > 0 && o.Fix != "" {
		fmt.Fprintf(&s, "%d of the findings that shut it can be fixed: %s\n\n", n, codeSpan(o.Fix))
	}
	if counts := totalsInWords(v); counts != "" {
		fmt.Fprintf(&s, "%s\n\n", counts)
	}
	const most = 5
	for i, n := range v.Notices {
		if i == most {
			fmt.Fprintf(&s, "- and %d more notes\n", len(v.Notices)-most)
			break
		}
		fmt.Fprintf(&s, "- %s\n", escapeMarkdown(clipRunes(n, 300)))
	}
	fmt.Fprintf(&s, "\n%s\n", escapeMarkdown(circumstances(v)))
	return s.String()
}

func clipRunes(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most]) + "…"
	}
	return s
}

// address is where a line of the judged state can be looked at, "" where that isn't known.
func (o Options) address(path string, line int, commit string) string {
	if o.Link == "" || path == "" || strings.HasPrefix(path, "/") {
		return ""
	}
	if strings.Contains(o.Link, "{commit}") && (len(commit) < 40 || strings.Trim(commit, "0123456789abcdef") != "") {
		return ""
	}
	escaped := strings.NewReplacer("(", "%28", ")", "%29", "'", "%27").Replace((&url.URL{Path: path}).EscapedPath())
	return strings.NewReplacer("{path}", escaped, "{line}", fmt.Sprint(max(line, 1)), "{commit}", commit).Replace(o.Link)
}

// markdownSigns are those that mean something in Markdown or HTML.
var markdownSigns = strings.NewReplacer(
	`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "{", `\{`, "}", `\}`, "[", `\[`, "]", `\]`, "(", `\(`, ")", `\)`, "#", `\#`, "+", `\+`,
	"!", `\!`, "|", `\|`, "~", `\~`, "<", "&lt;", ">", "&gt;", "&", "&amp;", "@", "&#64;", "://", ":&#47;&#47;", "www.", "www&#46;",
)

// escapeMarkdown makes text from outside mean itself in Markdown: no markup, no links, nobody is called by an @.
func escapeMarkdown(s string) string {
	s = markdownSigns.Replace(Safe(strings.ToValidUTF8(s, "\uFFFD")))
	if strings.HasPrefix(s, "-") || strings.HasPrefix(s, "=") {
		return `\` + s
	}
	if digits := strings.TrimLeft(s, "0123456789"); len(digits) < len(s) && strings.HasPrefix(digits, ".") {
		return s[:len(s)-len(digits)] + `\` + digits
	}
	return s
}

// escapeCell does so in a table.
func escapeCell(s string) string { return strings.ReplaceAll(escapeMarkdown(s), "\n", " ") }

// codeSpan shows text as code, however many backticks are in it.
func codeSpan(s string) string {
	s = Safe(strings.ToValidUTF8(s, "\uFFFD"))
	if s == "" {
		return ""
	}
	longest, run := 0, 0
	for _, r := range s {
		if run++; r != '`' {
			run = 0
		}
		longest = max(longest, run)
	}
	fence := strings.Repeat("`", longest+1)
	if longest > 0 {
		return fence + " " + s + " " + fence
	}
	return fence + s + fence
}
