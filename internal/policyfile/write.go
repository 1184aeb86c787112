package policyfile

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
)

// writer writes a policy as YAML, a value a line, each with where it was set.
type writer struct {
	lines   []string
	origins []string // by line
	file    *File
	policy  *policy.Policy
}

// Write writes the whole policy, with all that it inherits and what nobody set, as one file that says the same. With
// origins each line ends in a comment that tells where its value was set.
func (f *File) Write(origins bool) []byte {
	p := f.Policy
	w := &writer{file: f, policy: p}
	for _, i := range f.Inherits {
		if origins {
			w.heading("# inherits " + i.Name + ", " + i.Digest)
		}
	}
	w.heading("zincdoor: 1")
	if len(f.Firm) > 0 {
		w.line("firm", "firm: "+words(slices.Sorted(maps.Keys(f.Firm))))
	}
	w.line("ladder", "ladder: "+words(p.Ladder))
	w.line("levels", "levels: "+flow(func(set func(key, value string)) {
		for _, level := range finding.Levels {
			set(string(level), Word(p.Levels[level]))
		}
	}))
	if p.BaselineNamed {
		w.line("baseline", "baseline: "+Word(p.Baseline))
	}
	w.heading("place:")
	w.line("place.whitespace", "  whitespace: "+counted(p.Place.CountSpace))
	w.line("place.moved", "  moved: "+counted(p.Place.CountMoved))
	w.line("place.seams", "  seams: "+strconv.FormatBool(p.Place.Seams))
	w.line("place.flows", "  flows: "+strconv.FormatBool(p.Place.Flows))
	w.paths()
	w.rules()
	for _, d := range f.Doors {
		w.door(d)
	}
	return w.text(origins)
}

func (w *writer) put(line string, at Position) {
	origin := ""
	if at.Line > 0 {
		origin = at.String()
	}
	w.lines, w.origins = append(w.lines, line), append(w.origins, origin)
}

// line puts a value that was set under a key, or by default.
func (w *writer) line(key, line string) {
	w.put(line, w.file.Origins[key])
	if w.file.Origins[key].Line == 0 {
		w.origins[len(w.origins)-1] = "default"
	}
}

// heading puts a line that only leads to others.
func (w *writer) heading(line string) { w.put(line, Position{}) }

// widest is how long a line is, in bytes, where it can be broken.
const widest = 80

// text joins the lines. A comment that tells where a line was set stands behind it, or above it where it wouldn't fit.
func (w *writer) text(origins bool) []byte {
	fits := func(i, width int) bool { return width+len("  # ")+len(w.origins[i]) <= widest }
	width, longest := 0, 0
	for i, line := range w.lines {
		if fits(i, len(line)) {
			width, longest = max(width, len(line)), max(longest, len(w.origins[i]))
		}
	}
	width = min(width, widest-longest-len("  # "))
	var all strings.Builder
	for i, line := range w.lines {
		if origins && w.origins[i] != "" {
			switch {
			case len(line) <= width:
				line = fmt.Sprintf("%-*s  # %s", width, line, w.origins[i])
			case fits(i, len(line)):
				line += "  # " + w.origins[i]
			default:
				indent := len(line) - len(strings.TrimLeft(line, " "))
				all.WriteString(strings.Repeat(" ", indent) + "# " + w.origins[i] + "\n")
			}
		}
		for _, part := range folded(line) {
			all.WriteString(part + "\n")
		}
	}
	return []byte(all.String())
}

// folded breaks a long line within its flow mapping or list: after commas, each further line from the column behind the bracket on.
func folded(line string) (lines []string) {
	from, last, quote := -1, -1, byte(0) // the column of further lines, the last place to break at, the quote that is open
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case from < 0 && (c == '{' || c == '['):
			from = i + 1
		case c == ',' && from >= 0 && i+1 < len(line) && line[i+1] == ' ':
			last = i + 1
		}
		if i >= widest && last > from {
			lines = append(lines, line[:last])
			line = strings.Repeat(" ", from) + line[last+1:]
			i, last, quote = from-1, -1, 0
		}
	}
	return append(lines, line)
}

func (w *writer) paths() {
	p := w.policy
	if len(p.Skip)+len(p.Sets) == 0 && p.Marker == nil {
		return
	}
	w.heading("paths:")
	if len(p.Skip) > 0 {
		w.line("paths.skip", "  skip: "+words(p.Skip))
	}
	if generated := p.Sets[policy.GeneratedSet]; len(generated) > 0 {
		w.line("paths.generated", "  generated: "+words(generated))
	}
	if p.Marker != nil {
		w.line("paths.marker", "  marker: "+Word(p.Marker.String()))
	}
	var named []string
	for _, name := range slices.Sorted(maps.Keys(p.Sets)) {
		if name != policy.GeneratedSet {
			named = append(named, name)
		}
	}
	if len(named) > 0 {
		w.heading("  sets:")
	}
	for _, name := range named {
		w.line("paths.sets."+name, "    "+Word(name)+": "+words(p.Sets[name]))
	}
}

func (w *writer) rules() {
	p := w.policy
	if len(p.Groups) > 0 {
		w.heading("groups:")
	}
	for _, name := range slices.Sorted(maps.Keys(p.Groups)) {
		g := p.Groups[name]
		w.line("groups."+name, "  "+Word(name)+": "+flow(func(set func(key, value string)) {
			lists(set, []keyed{{"rule", g.Rules}, {"tag", g.Tags}, {"except", g.Except}})
		}))
	}
	if len(p.Aliases) > 0 {
		w.heading("aliases:")
	}
	for _, old := range slices.Sorted(maps.Keys(p.Aliases)) {
		w.line("aliases."+old, "  "+Word(old)+": "+Word(p.Aliases[old]))
	}
	if len(p.Same) > 0 {
		sets := make([]string, len(p.Same))
		for i, set := range p.Same {
			sets[i] = words(set)
		}
		w.line("same", "same: ["+strings.Join(sets, ", ")+"]")
	}
	list(w, "numbers:", w.file.Numbers, func(n policy.Number) string { return "- " + writeNumber(n) })
	list(w, "severities:", w.file.Severities, func(s policy.Severity) string { return "- " + writeSeverity(s) })
	w.costs()
	w.history()
	list(w, "teams:", w.file.Teams, func(t policy.Team) string { return Word(t.Name) + ": " + writeTeam(t) })
	list(w, "seals:", w.file.Seals, func(s policy.Seal) string { return Word(s.Name) + ": " + writeSeal(s) })
	list(w, "reports:", w.file.Reports, func(r policy.Report) string { return Word(r.Name) + ": " + writeReport(r) })
	list(w, "recipes:", w.file.Recipes, func(r *policy.Recipe) string { return Word(r.Name) + ": " + writeRecipe(r) })
	list(w, "hosts:", w.file.Hosts, func(h *policy.Host) string { return Word(h.Name) + ": " + h.Written })
	w.house()
	if len(p.Notes) > 0 {
		w.heading("notes:")
	}
	for _, rule := range slices.Sorted(maps.Keys(p.Notes)) {
		w.line("notes."+rule, "  "+Word(rule)+": "+Word(p.Notes[rule]))
	}
	if p.Link != "" {
		w.line("link", "link: "+Word(p.Link))
	}
	w.duplication()
	w.heading("doors:")
}

func (w *writer) costs() {
	c := w.policy.Costs
	if len(c.Rules)+len(c.Severities) == 0 {
		return
	}
	w.heading("cost:")
	if len(c.Rules) > 0 {
		w.heading("  rule:")
	}
	for _, rule := range c.Rules {
		w.line("cost.rule."+rule.Rule, "    "+Word(rule.Rule)+": "+minutes(rule.Minutes))
	}
	if len(c.Severities) > 0 {
		w.heading("  severity:")
	}
	for _, severity := range w.policy.Ladder {
		if cost, known := c.Severities[severity]; known {
			w.line("cost.severity."+severity, "    "+Word(severity)+": "+minutes(cost))
		}
	}
}

func (w *writer) history() {
	h, record, keep := w.policy.History, w.file.Origins["history.record"], w.file.Origins["history.keep"]
	if record == (Position{}) && keep == (Position{}) {
		return
	}
	w.heading("history:")
	if record != (Position{}) {
		w.line("history.record", "  record: "+strconv.FormatBool(h.Record))
	}
	if keep != (Position{}) {
		w.line("history.keep", "  keep: "+h.Keep.String())
	}
}

func minutes(n int) string { return strconv.Itoa(n) + "m" }

// list writes items under a heading, which is left out where there are none.
func list[T any](w *writer, heading string, items []Placed[T], write func(T) string) {
	if len(items) > 0 {
		w.heading(heading)
	}
	for _, item := range items {
		w.put("  "+write(item.Value), item.At)
	}
}

func (w *writer) door(placed Door) {
	d := placed.Value
	at := "doors." + d.Name + "."
	w.put("  "+Word(d.Name)+":", placed.At)
	if d.Judges != "" {
		w.line(at+"judges", "    judges: "+Word(string(d.Judges)))
	}
	if d.Into != "" {
		w.line(at+"into", "    into: "+Word(d.Into))
	}
	if len(d.Refs) > 0 {
		w.line(at+"refs", "    refs: "+words(d.Refs))
	}
	w.line(at+"mode", "    mode: "+string(d.Mode))
	if d.Fix {
		w.line(at+"fix", "    fix: true")
	}
	if len(d.Needs)+len(d.Verdicts) > 0 {
		w.line(at+"needs", "    needs: "+writeNeeds(d))
	}
	if len(d.Exceptions) > 0 {
		w.line(at+"exceptions", "    exceptions: "+words(d.Exceptions))
	}
	if len(placed.Limits) > 0 {
		w.heading("    limits:")
	}
	for _, l := range placed.Limits {
		w.put("      - "+WriteLimit(l.Value), l.At)
	}
	if a := d.Acceptances; a != nil {
		w.put("    acceptances: "+flow(func(set func(key, value string)) {
			if a.Upto != "" {
				set("upto", Word(a.Upto))
			}
			set("most", strconv.Itoa(a.Most))
			lists(set, []keyed{{"need", a.Need}})
			firmly(set, a.Firm)
		}), placed.Acceptances)
	}
	waivers := "    waivers: " + flow(func(set func(key, value string)) {
		set("code", strconv.FormatBool(d.Waivers.Code))
		set("tool", strconv.FormatBool(d.Waivers.Tool))
		set("upto", Word(d.Waivers.Upto))
		set("most", strconv.Itoa(d.Waivers.Most))
		if len(d.Waivers.Rules)+len(d.Waivers.Tags) > 0 {
			set("except", flow(func(set func(key, value string)) {
				lists(set, []keyed{{"rule", d.Waivers.Rules}, {"tag", d.Waivers.Tags}})
			}))
		}
		firmly(set, d.Waivers.Firm)
	})
	if placed.Waivers.Line > 0 {
		w.put(waivers, placed.Waivers)
	} else {
		w.line("", waivers)
	}
}

func writeNumber(m policy.Number) string {
	return flow(func(set func(key, value string)) {
		lists(set, []keyed{{"rule", m.Rules}, {"tool", m.Tools}})
		number, worse := "none", "more"
		if m.Number > 0 {
			number = strconv.Itoa(m.Number)
		}
		if m.Less {
			worse = "less"
		}
		set("number", number)
		set("worse", worse)
	})
}

func writeSeverity(s policy.Severity) string {
	return flow(func(set func(key, value string)) {
		writeSelector(&s.Selector, set)
		for _, part := range [][2]string{{"is", s.Is}, {"cap", s.Cap}, {"floor", s.Floor}} {
			if part[1] != "" {
				set(part[0], Word(part[1]))
			}
		}
		firmly(set, s.Firm)
	})
}

func writeTeam(t policy.Team) string {
	return flow(func(set func(key, value string)) {
		lists(set, []keyed{{"path", t.Paths}})
		if t.Contact != "" {
			set("contact", Word(t.Contact))
		}
	})
}

// WriteReport writes a report as the policy has it, on lines that stand under its name.
func WriteReport(r policy.Report) string {
	lines := folded("  " + r.Name + ": " + writeReport(r))
	return strings.Join(lines, "\n")
}

func writeReport(r policy.Report) string {
	return flow(func(set func(key, value string)) {
		if r.Run != nil {
			writeRun(r.Run, set)
		}
		lists(set, []keyed{{"file", r.Files}})
		for _, part := range [][2]string{{"as", r.As}, {"tool", r.Tool}, {"version", r.Version.String()}} {
			if part[1] != "" {
				set(part[0], Word(part[1]))
			}
		}
		lists(set, []keyed{{"ask", r.Ask}, {"fix", r.Fix}, {"covers", r.Covers}, {"outside", r.Outside}})
		lists(set, []keyed{{"sealed", r.Sealed}})
		if len(r.Except) > 0 {
			set("except", flow(func(set func(key, value string)) { lists(set, []keyed{{"path", r.Except}}) }))
		}
		if r.Noise != nil {
			set("noise", Word(r.Noise.String()))
		}
		for _, part := range []struct {
			key, value string
			is         bool
		}{{"clean", "empty", r.Clean}, {"errors", "findings", r.Errors}, {"optional", "true", r.Optional}} {
			if part.is {
				set(part.key, part.value)
			}
		}
	})
}

// WriteLimit writes a limit as the policy has it.
func WriteLimit(l policy.Limit) string {
	return flow(func(set func(key, value string)) {
		if l.Name != "" && l.Name != describe(l) {
			set("name", Word(l.Name))
		}
		if l.Demands() {
			writeDemand(l, set)
		} else {
			writeCount(l, set)
		}
		if l.EachFile {
			set("each", "file")
		}
		if l.PerLines > 0 {
			set("per", fmt.Sprintf("%d-lines", l.PerLines))
		}
		for _, part := range [][2]string{{"from", l.From}, {"until", l.Until}, {"say", l.Say}} {
			if part[1] != "" {
				set(part[0], Word(part[1]))
			}
		}
		if l.Mode == policy.Advise {
			set("mode", string(l.Mode))
		}
		firmly(set, l.Firm)
	})
}

// writeCount writes which findings a limit counts, and how many it allows.
func writeCount(l policy.Limit, set func(key, value string)) {
	set("count", string(l.Count))
	writeSeverityOf(&l.Selector, set)
	writeSelector(&l.Selector, set)
	if l.NoGrowth {
		set("most", policy.NoGrowth)
	} else {
		set("most", strconv.Itoa(l.Most))
	}
}

func writeSelector(s *policy.Selector, set func(key, value string)) {
	lists(set, []keyed{
		{"rule", s.Rules}, {"tag", s.Tags}, {"tool", s.Tools}, {"path", s.Paths}, {"team", s.Teams},
		{"level", texts(s.Levels)}, {"place", texts(s.Places)}, {"standing", s.Standings},
	})
	if s.Message != nil {
		set("message", Word(s.Message.String()))
	}
	for _, part := range []struct {
		key   string
		least float64
	}{{"rank", s.Rank}, {"security", s.Security}} {
		if part.least > 0 {
			set(part.key, strconv.FormatFloat(part.least, 'f', -1, 64))
		}
	}
	if s.Number.Op != "" {
		set("number", Word(s.Number.String()))
	}
	if s.Except != nil {
		set("except", flow(func(set func(key, value string)) {
			writeSeverityOf(s.Except, set)
			writeSelector(s.Except, set)
		}))
	}
}

func writeSeverityOf(s *policy.Selector, set func(key, value string)) {
	if s.Severity != "" {
		set("severity", Word(s.Severity))
	}
	if s.Exact {
		set("exact", "true")
	}
}

func texts[T ~string](list []T) (all []string) {
	for _, t := range list {
		all = append(all, string(t))
	}
	return all
}

type keyed struct {
	key  string
	list []string
}

func lists(set func(key, value string), parts []keyed) {
	for _, part := range parts {
		if len(part.list) > 0 {
			set(part.key, words(part.list))
		}
	}
}

func firmly(set func(key, value string), firm bool) {
	if firm {
		set("firm", "true")
	}
}

// flow writes a mapping on one line.
func flow(fill func(set func(key, value string))) string {
	var parts []string
	fill(func(key, value string) { parts = append(parts, key+": "+value) })
	return "{" + strings.Join(parts, ", ") + "}"
}

// words writes one value, or a list of several.
func words(list []string) string {
	if len(list) == 1 {
		return Word(list[0])
	}
	all := make([]string, len(list))
	for i, s := range list {
		all[i] = Word(s)
	}
	return "[" + strings.Join(all, ", ") + "]"
}

var plainWord = pattern.Of(`^[A-Za-z0-9_./][A-Za-z0-9_./+-]*$`)

// Word writes a value as YAML, in quotes where it might be taken for something else.
func Word(s string) string {
	if plainWord.MatchString(s) {
		return s
	}
	return strconv.Quote(s)
}

func counted(counts bool) string {
	if counts {
		return "counts"
	}
	return "ignored"
}
