package render

import (
	"bufio"
	"cmp"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html"
	"html/template"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
)

var (
	//go:embed page.html
	pageText string
	// Palette is the style that gives the colours of a page their names, by light and by dark; the pages of the service have them too.
	//go:embed palette.css
	Palette string
	//go:embed page.css
	pageStyle string
	//go:embed page.js
	pageScript string

	page = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(pageText)) })
)

// The bounds of a page that a browser still shows at once.
const (
	mostArticles = 2000 // findings beyond are lines in closed sections
	mostFolders  = 1000 // of such sections
	mostRows     = 100
	aroundLines  = 2 // shown before and after the line of a finding
)

// pageData is what a page shows. All of its texts are safe to be shown as text.
type pageData struct {
	Style                template.CSS
	Script               template.JS
	ScriptHash           string
	Door, Outcome, State string
	Reason, Subject      string
	Head, Today          string
	Limits               []pageLimit
	Evidence             []pageEvidence
	Sound                bool // all of the evidence is
	Notices              []string
	Totals               string
	Standings            []string
	Severities           []string
	Sections             []pageSection
	Left                 int
	Rest                 []pageRest
	Counts               []pageCount
	Gone                 []baseline.Entry
	GoneLeft             int
}

type (
	pageLimit struct {
		Name, State, Aside, Allowed, Found, Say string
		Used                                    int
		Shuts                                   bool
	}
	pageEvidence struct {
		Name, State, About string
		Sound              bool
	}
	pageSection struct {
		Set      string // of paths; "" where the policy has none, or for what is in none of them
		Heading  string
		Findings []pageFinding
	}
	pageRest struct {
		Folder string
		N      int
		Lines  template.HTML // escaped here, since the template takes three times as long for that
	}
	pageFinding struct {
		N, Rank, Worst                  int // in the order as judged, by severity, by the worst file
		ID, Path, Place, Address        string
		Severity, Rule, Message, About  string
		Standing, Team, Suggested, Help string
		Broke                           bool
		Code                            []pageLine
		Notes                           []string
		Flows                           [][]string
	}
	pageLine struct {
		N                     int
		Touched               bool
		Before, Marked, After string
	}
	pageCount struct {
		By   string
		Rows []pageRow
		Left int
	}
	pageRow struct {
		Name     string
		New, All int
	}
)

// writeHTML writes the verdict as one page that needs no other file, and no script to be read.
func writeHTML(w io.Writer, v judge.Verdict, o Options) error {
	sum := sha256.Sum256([]byte(pageScript))
	data := pageData{
		Style: template.CSS(Palette + pageStyle), Script: template.JS(pageScript), ScriptHash: "sha256-" + base64.StdEncoding.EncodeToString(sum[:]),
		Door: Safe(v.Door), State: string(v.Outcome), Outcome: strings.ReplaceAll(string(v.Outcome), "unjudged", "cannot judge"), Reason: reason(v),
		Subject: circumstances(v), Head: Safe(v.Subject.Head), Today: Safe(v.Today), Severities: v.Ladder,
	}
	for _, standing := range judge.Standings {
		if v.Totals.By[standing] > 0 {
			data.Standings = append(data.Standings, string(standing))
		}
	}
	for _, l := range v.Limits {
		data.Limits = append(data.Limits, limitOnPage(l))
	}
	data.Sound = true
	for _, e := range v.Evidence {
		data.Sound = data.Sound && e.Sound()
		about := aboutEvidence(e)
		if !e.Sound() {
			about = Safe(e.Problem)
		}
		data.Evidence = append(data.Evidence, pageEvidence{evidenceName(e), string(e.State), about, e.Sound()})
	}
	for _, n := range v.Notices {
		data.Notices = append(data.Notices, Safe(n))
	}
	data.Totals = totalsInWords(v)
	findings, rest := findingsOnPage(v, o)
	data.Sections, data.Left, data.Rest = sectionsOnPage(findings, o.Sets), len(rest), restOnPage(v, rest)
	data.Counts = countsOnPage(v)
	data.Gone = make([]baseline.Entry, min(len(v.Gone), mostRows))
	data.GoneLeft = len(v.Gone) - len(data.Gone)
	for i := range data.Gone {
		e := v.Gone[i]
		data.Gone[i] = baseline.Entry{Path: Safe(e.Path), Rule: Safe(e.Rule), Message: Safe(e.Message)}
	}
	out := bufio.NewWriterSize(w, 1<<16)
	if err := page().Execute(out, data); err != nil {
		return err
	}
	return out.Flush()
}

func limitOnPage(l judge.LimitResult) pageLimit {
	p := pageLimit{Name: Safe(l.Name), State: stateOf(l), Allowed: allowed(l), Found: found(l), Used: used(l), Shuts: l.Shuts()}
	switch {
	case l.Measured != nil:
	case l.Unknown:
		p.Allowed = "no growth; the number before isn't known"
	case l.NoGrowth:
		p.Allowed = fmt.Sprintf("no growth from %d", l.Bound)
	}
	if l.Mode == policy.Advise {
		p.Aside = ", only advises"
	}
	if !l.Held {
		p.Say = Safe(l.Say)
	}
	return p
}

// findingsOnPage are those that broke a limit first, then the others; those that the policy ignores are left out. Rest are those that
// there are too many of.
func findingsOnPage(v judge.Verdict, o Options) (all []pageFinding, rest []int) {
	broke := map[int]bool{}
	order := v.Broken()
	for _, i := range order {
		broke[i] = true
	}
	for _, aside := range []bool{false, true} {
		for i, f := range v.Findings {
			isAside := f.Standing == judge.Accepted || f.Standing == judge.Waived || f.Standing == judge.Existing
			if !broke[i] && f.Severity != policy.Ignored && isAside == aside {
				order = append(order, i)
			}
		}
	}
	if len(order) > mostArticles {
		order, rest = order[:mostArticles], order[mostArticles:]
	}
	for n, i := range order {
		all = append(all, findingOnPage(n, v.Findings[i], broke[i], v, o))
	}
	rankFiles(all)
	return all, rest
}

// restOnPage are findings as lines of text, by folder; where there are too many folders, by the first of their path.
func restOnPage(v judge.Verdict, rest []int) []pageRest {
	byFolder := func(folderOf func(file string) string) map[string][]int {
		folders := map[string][]int{}
		for _, i := range rest {
			folder := folderOf(v.Findings[i].Path)
			folders[folder] = append(folders[folder], i)
		}
		return folders
	}
	folders := byFolder(path.Dir)
	if len(folders) > mostFolders {
		folders = byFolder(func(file string) string {
			first, _, within := strings.Cut(file, "/")
			if !within {
				return "."
			}
			return first
		})
	}
	var all []pageRest
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		var lines strings.Builder
		slices.Sort(folders[folder])
		for _, i := range folders[folder] {
			f := &v.Findings[i]
			for n, part := range []string{cmp.Or(place(f.Finding), "no file") + " ", f.Severity, f.Rule, f.Message, "(" + string(f.Standing) + ")"} {
				if part == "" {
					continue
				}
				if n > 0 {
					lines.WriteByte(' ')
				}
				lines.WriteString(html.EscapeString(Safe(part)))
			}
			lines.WriteByte('\n')
		}
		all = append(all, pageRest{Folder: Safe(strings.TrimSuffix(folder, "/") + "/"), N: len(folders[folder]), Lines: template.HTML(lines.String())})
	}
	return all
}

// sectionsOnPage put findings together by the sets of paths that the policy has: those with most that broke a limit first, what is
// in no set last. What is in several is in the first by name.
func sectionsOnPage(all []pageFinding, sets map[string][]string) (sections []pageSection) {
	if len(sets) == 0 {
		return []pageSection{{Findings: all}}
	}
	names := slices.Sorted(maps.Keys(sets))
	at, broke := map[string]int{}, map[string]int{}
	for _, f := range all {
		set := ""
		if i := slices.IndexFunc(names, func(name string) bool { return policy.MatchPath(sets[name], f.Path) }); i >= 0 {
			set = names[i]
		}
		if _, known := at[set]; !known {
			at[set] = len(sections)
			sections = append(sections, pageSection{Set: set, Heading: cmp.Or(Safe(set), "in no set of paths")})
		}
		if f.Broke {
			broke[set]++
		}
		s := &sections[at[set]]
		s.Findings = append(s.Findings, f)
	}
	slices.SortStableFunc(sections, func(a, b pageSection) int {
		return cmp.Or(cmp.Compare(broke[b.Set], broke[a.Set]), compareLast(a.Set, b.Set))
	})
	return sections
}

// compareLast compares names, of which none comes last.
func compareLast(a, b string) int {
	if (a == "") != (b == "") {
		return cmp.Compare(b, a)
	}
	return cmp.Compare(a, b)
}

// rankFiles gives every finding the rank of its file: those with most that broke a limit first, then with most new ones, then with
// most.
func rankFiles(all []pageFinding) {
	type count struct{ broke, fresh, all int }
	counts := map[string]*count{}
	for _, f := range all {
		c := counts[f.Path]
		if c == nil {
			c = &count{}
			counts[f.Path] = c
		}
		c.all++
		if f.Broke {
			c.broke++
		}
		if f.Standing == string(judge.New) || f.Standing == string(judge.Worsened) {
			c.fresh++
		}
	}
	files := slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		x, y := counts[a], counts[b]
		return cmp.Or(cmp.Compare(y.broke, x.broke), cmp.Compare(y.fresh, x.fresh), cmp.Compare(y.all, x.all), cmp.Compare(a, b))
	})
	rank := map[string]int{}
	for i, file := range files {
		rank[file] = i
	}
	for i := range all {
		all[i].Worst = rank[all[i].Path]
	}
}

func findingOnPage(n int, f judge.Finding, broke bool, v judge.Verdict, o Options) pageFinding {
	d := f.Details()
	p := pageFinding{
		N: n, Rank: slices.Index(v.Ladder, f.Severity), ID: f.ID, Path: Safe(f.Path), Place: cmp.Or(Safe(place(f.Finding)), "no file"),
		Address: o.address(f.Path, f.Region.Line, v.Subject.Head), Severity: Safe(f.Severity), Rule: Safe(f.Rule), Message: Safe(f.Message),
		Standing: string(f.Standing), Team: Safe(f.Team), Broke: broke,
	}
	about := []string{string(f.Standing), where(f), Safe(f.Tool)}
	if f.Team != "" {
		about = append(about, "team "+Safe(f.Team))
	}
	for _, also := range f.Also {
		about = append(about, "also "+strings.TrimSpace(Safe(also.Tool)+" "+Safe(also.Rule)))
	}
	p.About = strings.Join(about, ", ")
	if broke || f.Standing == judge.New || f.Standing == judge.Worsened || f.Standing == judge.Expired {
		p.Code = o.codeOnPage(f)
	}
	for _, note := range d.Notes {
		p.Notes = append(p.Notes, remark(f, note))
	}
	for _, flow := range d.Flows {
		var steps []string
		for _, step := range flow[:min(len(flow), mostSteps)] {
			steps = append(steps, remark(f, step))
		}
		p.Flows = append(p.Flows, steps)
	}
	p.Suggested = Safe(d.Suggested())
	if finding.IsWeb(d.Help) {
		p.Help = Safe(d.Help)
	}
	return p
}

// codeOnPage are the lines around a finding, with its columns marked.
func (o Options) codeOnPage(f judge.Finding) (lines []pageLine) {
	text := o.text(f.Path)
	if text == nil || f.Region.Line == 0 {
		return nil
	}
	for n := f.Region.Line - aroundLines; n <= f.Region.Line+extent(f)+aroundLines; n++ {
		if n < 1 || n > text.Len() || !text.Holds(n) {
			continue
		}
		line := pageLine{N: n, Touched: o.Touched != nil && o.Touched(f.Path, n)}
		raw := clipRunes(clipBytes(text.Line(n), longestLine), 500)
		line.Before = untab(raw)
		if n == f.Region.Line {
			line.Touched = line.Touched || f.Place == change.OnTouched
			from := source.Offset(raw, f.Region.Column, f.Columns)
			to := len(raw)
			switch {
			case f.Region.Column == 0:
				from, to = 0, 0
			case f.Region.EndLine > f.Region.Line:
			case f.Region.EndColumn > f.Region.Column:
				to = source.Offset(raw, f.Region.EndColumn, f.Columns)
			default:
				to = source.Offset(raw, f.Region.Column+1, f.Columns)
			}
			before, upto, whole := untab(raw[:from]), untab(raw[:max(from, to)]), untab(raw)
			if strings.HasPrefix(whole, upto) && strings.HasPrefix(upto, before) {
				line.Before, line.Marked, line.After = before, upto[len(before):], whole[len(upto):]
			}
		}
		lines = append(lines, line)
	}
	return lines
}

// countsOnPage count the findings by team, rule and file.
func countsOnPage(v judge.Verdict) (all []pageCount) {
	for _, c := range []struct {
		by string
		of func(judge.Finding) string
	}{
		{"team", func(f judge.Finding) string { return f.Team }},
		{"rule", func(f judge.Finding) string { return f.Rule }},
		{"file", func(f judge.Finding) string { return f.Path }},
	} {
		rows := map[string]*pageRow{}
		for _, f := range v.Findings {
			if f.Severity == policy.Ignored {
				continue
			}
			name := c.of(f)
			if rows[name] == nil {
				rows[name] = &pageRow{Name: cmp.Or(Safe(name), "none")}
			}
			rows[name].All++
			if f.Standing == judge.New || f.Standing == judge.Worsened {
				rows[name].New++
			}
		}
		if len(rows) == 0 || c.by == "team" && len(v.Teams) == 0 {
			continue
		}
		count := pageCount{By: c.by}
		for _, row := range rows {
			count.Rows = append(count.Rows, *row)
		}
		slices.SortFunc(count.Rows, func(a, b pageRow) int {
			return cmp.Or(cmp.Compare(b.New, a.New), cmp.Compare(b.All, a.All), cmp.Compare(a.Name, b.Name))
		})
		if len(count.Rows) > mostRows {
			count.Left = len(count.Rows) - mostRows
			count.Rows = count.Rows[:mostRows]
		}
		all = append(all, count)
	}
	return all
}
