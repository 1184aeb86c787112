package recognise

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/source"
)

// The edit laboratory: findings are placed on lines of real source text, a program of edits whose outcome is known
// runs over it, and recognition is held against what the edits know.

// fault is a finding of the laboratory. One that a line has from the beginning has an identity; one that an edit
// brought has none.
type fault struct {
	identity int
	rule     string
	name     string // what the message quotes
	involved bool   // an edit dealt with its line
}

type labLine struct {
	text    string
	faults  []fault
	fixed   bool // its fault is gone
	swapped bool // with a neighbour
}

// world is a folder of files.
type world map[string][]labLine

type laboratory struct {
	*rand.Rand
	files world
	count int // identities given out
	least int // how many faults a line must have at least that an edit deals with
}

var labNames = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]{2,}`)

// labSources are folders of Go's own library.
var labSources = []string{"strings", "bufio", "text/tabwriter", "encoding/csv", "container/list", "net/url", "path/filepath", "sort"}

// newLaboratory takes a few files of real text and places faults on some of their lines.
func newLaboratory(t *testing.T, seed uint64) *laboratory {
	l := &laboratory{Rand: rand.New(rand.NewPCG(seed, 7)), files: world{}}
	folder := labSources[seed%uint64(len(labSources))]
	paths, err := filepath.Glob(filepath.Join(runtime.GOROOT(), "src", folder, "*.go"))
	if err != nil || len(paths) == 0 {
		t.Skip("there is no source text of Go here")
	}
	l.Shuffle(len(paths), func(i, j int) { paths[i], paths[j] = paths[j], paths[i] })
	for _, path := range paths[:min(4, len(paths))] {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
		all := make([]labLine, min(len(lines), 900))
		for i := range all {
			all[i].text = lines[i]
		}
		l.files["core/"+filepath.Base(path)] = all
	}
	for _, path := range l.paths() {
		for i := range l.files[path] {
			if l.IntN(12) == 0 {
				l.blame(&l.files[path][i], true)
			}
		}
	}
	return l
}

func (l *laboratory) paths() []string { return slices.Sorted(maps.Keys(l.files)) }

// blame places a fault on a line that has code: of a rule that quotes a name of the line, or of one that says the same
// of every line.
func (l *laboratory) blame(line *labLine, old bool) bool {
	names := labNames.FindAllString(line.text, -1)
	if strings.HasPrefix(strings.TrimSpace(line.text), "//") || len(names) == 0 && l.IntN(4) > 0 || strings.TrimSpace(line.text) == "" {
		return false
	}
	f := fault{rule: "plain"}
	if len(names) > 0 && l.IntN(2) == 0 {
		f = fault{rule: "shadow", name: names[l.IntN(len(names))]}
	}
	if old {
		l.count++
		f.identity = l.count
	}
	line.faults = append(line.faults, f)
	return true
}

// crowd places several faults of one rule on some lines, two to eight on each, as far as their names go round.
func (l *laboratory) crowd() {
	for _, path := range l.paths() {
		for i := range l.files[path] {
			line := &l.files[path][i]
			names := slices.Compact(slices.Sorted(slices.Values(labNames.FindAllString(line.text, -1))))
			if len(names) < 2 || l.IntN(4) > 0 || strings.HasPrefix(strings.TrimSpace(line.text), "//") {
				continue
			}
			l.Shuffle(len(names), func(a, b int) { names[a], names[b] = names[b], names[a] })
			line.faults = nil
			for _, name := range names[:min(len(names), 2+l.IntN(7))] {
				l.count++
				line.faults = append(line.faults, fault{identity: l.count, rule: "shadow", name: name})
			}
		}
	}
}

// crowded does an edit on lines that have several faults.
func crowded(do func(l *laboratory)) func(l *laboratory) {
	return func(l *laboratory) {
		l.least = 2
		do(l)
	}
}

// anywhere picks a file and a line of it.
func (l *laboratory) anywhere() (path string, at int) {
	paths := l.paths()
	path = paths[l.IntN(len(paths))]
	return path, l.IntN(len(l.files[path]))
}

// faulty picks a line that has a fault from the beginning.
func (l *laboratory) faulty() (path string, at int) {
	for {
		path, at = l.anywhere()
		if line := l.files[path][at]; len(line.faults) > 0 && len(line.faults) >= l.least && line.faults[0].identity > 0 {
			return path, at
		}
	}
}

// function picks a whole function of some lines that has a fault: from its first line to behind its closing brace.
func (l *laboratory) function() (path string, from, to int) {
	for range 10_000 {
		path, at := l.faulty()
		lines := l.files[path]
		for from = at; from > 0 && !strings.HasPrefix(lines[from].text, "func "); from-- {
		}
		for to = from; to < len(lines) && lines[to].text != "}"; to++ {
		}
		if slices.ContainsFunc(lines[from:to], func(o labLine) bool { return len(o.faults) > 0 && o.faults[0].involved }) {
			continue // of a block that is moved and copied, either may be taken for the old one
		}
		if to++; strings.HasPrefix(lines[from].text, "func ") && from < at && at < to && to <= len(lines) && to-from > 4 && to-from < 80 {
			return path, from, to
		}
	}
	return "", 0, 0
}

// seam picks a place between functions.
func (l *laboratory) seam(path string) int {
	lines := l.files[path]
	for range 1000 {
		if at := l.IntN(len(lines)); at > 0 && lines[at-1].text == "}" {
			return at
		}
	}
	return len(lines)
}

func (l *laboratory) insert(path string, at int, lines ...labLine) {
	l.files[path] = slices.Insert(slices.Clone(l.files[path]), at, lines...)
}

func (l *laboratory) cut(path string, from, to int) []labLine {
	cut := slices.Clone(l.files[path][from:to])
	involve(cut)
	l.files[path] = slices.Delete(slices.Clone(l.files[path]), from, to)
	return cut
}

// copied is a copy of lines: what it has is new.
func copied(lines []labLine) []labLine {
	all := make([]labLine, len(lines))
	for i, line := range lines {
		all[i].text = line.text
		for _, f := range line.faults {
			f.identity = 0
			all[i].faults = append(all[i].faults, f)
		}
	}
	return all
}

// involve marks the faults of lines that an edit deals with: how well it goes is measured by these.
func involve(lines []labLine) {
	for _, line := range lines {
		for i := range line.faults {
			line.faults[i].involved = true
		}
	}
}

// edits are the kinds of edit, each with the least precision and recall it must reach, with the change known and by the
// baseline alone, and the share of new findings that may be taken for accepted ones.
var edits []edit

type edit struct {
	name         string
	do           func(l *laboratory)
	known, alone bars
	crowded      bool // lines have several faults of one rule
}

type bars struct{ precision, recall, taken float64 }

var (
	exact     = bars{1, 1, 0}
	steady    = bars{0.99, 0.99, 0.02}
	wandering = bars{0.99, 0.98, 0.02}
	altering  = bars{0.97, 0.95, 0.02}
	crowding  = bars{0.995, 0.98, 0.02}
	guessing  = bars{0.95, 0.95, 0.05} // without the change, a copy and its original may be told from one another by place alone
	watching  = bars{0, 1, 0.02}       // there is nothing to find but what is new
	mixed     = bars{0.97, 0.95, 0.08}
)

func init() {
	edits = []edit{
		{name: "lines inserted", do: (*laboratory).insertLines, known: exact, alone: steady},
		{name: "lines deleted", do: (*laboratory).deleteLines, known: exact, alone: steady},
		{name: "file renamed", do: (*laboratory).renameFile, known: exact, alone: steady},
		{name: "re-indented", do: (*laboratory).indent, known: exact, alone: steady},
		{name: "copied", do: (*laboratory).copyLines, known: exact, alone: guessing},
		{name: "swapped", do: (*laboratory).swap, known: exact, alone: steady},
		{name: "fixed, another elsewhere", do: (*laboratory).fixAndBreak, known: exact, alone: watching},
		{name: "moved within the file", do: (*laboratory).moveWithin, known: wandering, alone: guessing},
		{name: "moved to another file", do: (*laboratory).moveAcross, known: wandering, alone: guessing},
		{name: "file split", do: (*laboratory).split, known: wandering, alone: guessing},
		{name: "line edited", do: (*laboratory).editLine, known: altering, alone: altering},
		{name: "broken over lines", do: (*laboratory).breakLine, known: altering, alone: altering},
		{name: "mixed", do: (*laboratory).mix, known: mixed, alone: mixed},
		{name: "crowded, line edited", do: crowded((*laboratory).editLine), known: crowding, alone: altering, crowded: true},
		{name: "crowded, swapped", do: crowded((*laboratory).swap), known: crowding, alone: steady, crowded: true},
		{name: "crowded, broken over lines", do: crowded((*laboratory).breakLine), known: crowding, alone: altering, crowded: true},
	}
}

func (l *laboratory) insertLines() {
	path, at := l.anywhere()
	for range 1 + l.IntN(6) {
		text := fmt.Sprintf("\tfresh%d := tide(%d)", l.IntN(1000), l.IntN(1000))
		if l.IntN(4) == 0 {
			other, from := l.anywhere() // a line that stands elsewhere too
			text = l.files[other][from].text
		}
		line := labLine{text: text}
		if l.IntN(3) == 0 {
			l.blame(&line, false)
		}
		involve([]labLine{line})
		l.insert(path, at, line)
	}
	involve(l.files[path])
}

func (l *laboratory) deleteLines() {
	path, at := l.anywhere()
	l.cut(path, at, min(at+1+l.IntN(8), len(l.files[path])))
	involve(l.files[path])
}

func (l *laboratory) renameFile() {
	path, _ := l.anywhere()
	involve(l.files[path])
	l.files[strings.Replace(path, "core/", fmt.Sprintf("core/moved%d_", l.IntN(100)), 1)] = l.files[path]
	delete(l.files, path)
	for range l.IntN(3) {
		l.insertLines()
	}
}

func (l *laboratory) indent() {
	path, from, to := l.function()
	if path == "" {
		return
	}
	involve(l.files[path][from:to])
	for i := from + 1; i < to-1; i++ {
		if text := l.files[path][i].text; text != "" {
			l.files[path][i].text = "\t" + text
		}
	}
	l.insert(path, to-1, labLine{text: "\t}"})
	l.insert(path, from+1, labLine{text: fmt.Sprintf("\tif slack%d {", l.IntN(100))})
}

func (l *laboratory) copyLines() {
	if path, from, to := l.function(); path != "" && l.IntN(2) == 0 {
		involve(l.files[path][from:to])
		lines := copied(l.files[path][from:to])
		lines[0].text = strings.Replace(lines[0].text, "(", "Again(", 1)
		other, _ := l.anywhere()
		if at := l.seam(other); other != path || at < from || at > to {
			l.insert(other, at, lines...)
		}
		return
	}
	path, at := l.faulty()
	involve(l.files[path][at : at+1])
	line := copied(l.files[path][at : at+1])
	other, to := l.anywhere()
	if other != path || to < at-3 || to > at+4 {
		l.insert(other, to, line...)
	}
}

// swap exchanges two lines. Those that were swapped before stay: a line swapped twice is one that was moved.
func (l *laboratory) swap() {
	path, at := l.faulty()
	lines := l.files[path]
	if at+1 < len(lines) && strings.TrimSpace(lines[at+1].text) != "" && lines[at].text != lines[at+1].text && !lines[at].swapped && !lines[at+1].swapped {
		involve(lines[at : at+2])
		lines[at].swapped, lines[at+1].swapped = true, true
		lines[at], lines[at+1] = lines[at+1], lines[at]
	}
}

func (l *laboratory) fixAndBreak() {
	path, at := l.faulty()
	old := l.files[path][at].faults[0]
	l.files[path][at].fixed = true
	switch {
	case l.IntN(2) == 0 && len(l.files[path][at].faults) == 1:
		l.cut(path, at, at+1)
		l.files[path][max(at-1, 0)].fixed = true
	default:
		l.files[path][at].faults = nil // fixed by what isn't on the line
		l.insert(path, max(at-3, 0), labLine{text: fmt.Sprintf("\tmend%d()", l.IntN(1000))})
	}
	for range 100 { // the same rule on a line that was there without it
		to := l.IntN(len(l.files[path]))
		line := &l.files[path][to]
		if names := labNames.FindAllString(line.text, -1); len(names) > 0 && len(line.faults) == 0 && !line.fixed && !slices.ContainsFunc(l.files[path][max(to-9, 0):min(to+9, len(l.files[path]))], func(o labLine) bool { return o.fixed }) && !strings.HasPrefix(strings.TrimSpace(line.text), "//") {
			line.faults = []fault{{rule: old.rule, name: old.name, involved: true}}
			if old.name != "" {
				line.faults[0].name = names[l.IntN(len(names))]
			}
			return
		}
	}
}

func (l *laboratory) moveWithin() {
	path, from, to := l.function()
	if path == "" {
		return
	}
	lines := l.cut(path, from, to)
	l.insert(path, l.seam(path), lines...)
}

func (l *laboratory) moveAcross() {
	path, from, to := l.function()
	if path == "" {
		return
	}
	lines := l.cut(path, from, to)
	paths := slices.DeleteFunc(l.paths(), func(p string) bool { return p == path })
	other := paths[l.IntN(len(paths))]
	l.insert(other, l.seam(other), lines...)
}

func (l *laboratory) split() {
	path, _ := l.anywhere()
	if at := l.seam(path); at > 10 && at < len(l.files[path])-10 {
		l.files[strings.Replace(path, ".go", "_more.go", 1)] = append([]labLine{{text: "package more"}, {}}, l.cut(path, at, len(l.files[path]))...)
	}
}

// editLine renames a name on a faulty line, alters a number, or adds to a call.
func (l *laboratory) editLine() {
	path, at := l.faulty()
	line := &l.files[path][at]
	involve(l.files[path][at : at+1])
	names := labNames.FindAllString(line.text, -1)
	switch {
	case len(names) > 0 && l.IntN(2) == 0:
		old := names[l.IntN(len(names))]
		name := regexp.MustCompile(`\b` + old + `\b`)
		fresh := fmt.Sprintf("%s%d", [...]string{"tide", "gauge", "berth"}[l.IntN(3)], l.IntN(100))
		line.text = name.ReplaceAllString(line.text, fresh)
		for i := range line.faults {
			line.faults[i].name = name.ReplaceAllString(line.faults[i].name, fresh)
		}
	case strings.Contains(line.text, "("):
		line.text = strings.Replace(line.text, "(", fmt.Sprintf("(berth%d, ", l.IntN(100)), 1)
	default:
		line.text += fmt.Sprintf(" // sill %d", l.IntN(100))
	}
}

// breakLine breaks a faulty line into several, as formatters do. The fault stays where its name is, or on the first.
func (l *laboratory) breakLine() {
	path, at := l.faulty()
	line := l.files[path][at]
	involve(l.files[path][at : at+1])
	indent := line.text[:len(line.text)-len(strings.TrimLeft(line.text, "\t"))] + "\t"
	parts := strings.SplitAfter(line.text, ", ")
	if len(parts) == 1 {
		parts = strings.SplitAfterN(line.text, "(", 2)
	}
	if len(parts) == 1 {
		parts = strings.SplitAfterN(line.text, "= ", 2)
	}
	if len(parts) == 1 {
		return
	}
	broken := make([]labLine, len(parts))
	for i, part := range parts {
		broken[i].text = strings.TrimRight(part, " ")
		if i > 0 {
			broken[i].text = indent + broken[i].text
		}
	}
	for _, f := range line.faults {
		to := slices.IndexFunc(broken, func(b labLine) bool {
			return f.name != "" && slices.Contains(labNames.FindAllString(b.text, -1), f.name)
		})
		broken[max(to, 0)].faults = append(broken[max(to, 0)].faults, f)
	}
	l.cut(path, at, at+1)
	l.insert(path, at, broken...)
}

func (l *laboratory) mix() {
	kinds := edits[:slices.IndexFunc(edits, func(e edit) bool { return e.name == "mixed" })]
	for range 3 {
		kinds[l.IntN(len(kinds))].do(l)
	}
}

// observe lists what a tool would report now, and who each of it is.
func (w world) observe() (findings []finding.Finding, faults []fault) {
	type seen struct {
		finding.Finding
		fault fault
	}
	var all []seen
	for _, path := range slices.Sorted(maps.Keys(w)) {
		text := w.text(path)
		for i, line := range w[path] {
			for _, f := range line.faults {
				message := "this is done plainly"
				if f.name != "" {
					message = "declaration of '" + f.name + "' shadows another"
				}
				all = append(all, seen{finding.Finding{
					Tool: "lab", Rule: f.rule, Message: message, Path: path, Region: finding.Region{Line: i + 1}, Code: text.CodeAt(i + 1),
				}, f})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b seen) int { return finding.Order(a.Finding, b.Finding) })
	for _, s := range all {
		findings, faults = append(findings, s.Finding), append(faults, s.fault)
	}
	return findings, faults
}

func (w world) text(path string) *source.Text {
	if w[path] == nil {
		return nil
	}
	var text strings.Builder
	for _, line := range w[path] {
		text.WriteString(line.text + "\n")
	}
	return source.New([]byte(text.String()))
}

func (w world) clone() world {
	c := world{}
	for path, lines := range w {
		c[path] = slices.Clone(lines)
		for i := range c[path] {
			c[path][i].faults = slices.Clone(lines[i].faults)
		}
	}
	return c
}

// difference asks git what lies between two worlds.
func difference(t *testing.T, old, new world) *change.Change {
	dir := t.TempDir()
	for name, w := range map[string]world{"old": old, "new": new} {
		for path, lines := range w {
			var text strings.Builder
			for _, line := range lines {
				text.WriteString(line.text + "\n")
			}
			file := filepath.Join(dir, name, filepath.FromSlash(path))
			if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, []byte(text.String()), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	cmd := exec.Command("git", "-c", "core.attributesFile=/dev/null", "diff", "--no-index", "--no-ext-diff", "--unified=0", "--find-renames=50%", "old", "new")
	cmd.Dir = dir
	out, err := cmd.Output()
	if err != nil && cmd.ProcessState.ExitCode() != 1 {
		t.Fatalf("git diff: %v", err)
	}
	files, err := change.ReadUnified(strings.NewReader(string(out)))
	if err != nil {
		t.Fatal(err)
	}
	for i := range files {
		files[i].Path = strings.TrimPrefix(strings.TrimPrefix(files[i].Path, "new/"), "old/")
		files[i].Old = strings.TrimPrefix(files[i].Old, "old/")
	}
	return change.New(files, change.Rules{})
}

// score counts what recognition did: pairs it made, those that are right, and those there were to make; and of the new
// findings, how many it took for accepted ones.
type score struct{ made, right, due, fresh, taken int }

func (s score) misses(goal bars) bool {
	return s.precision() < goal.precision || s.recall() < goal.recall || s.taken > 0 && ratio(s.taken, s.fresh) > goal.taken
}

func (s score) String() string {
	return fmt.Sprintf("%6d %9.4f %6.4f %5d %5d", s.due, s.precision(), s.recall(), s.fresh, s.taken)
}

func (s score) precision() float64 { return ratio(s.right, s.made) }
func (s score) recall() float64    { return ratio(s.right, s.due) }

func ratio(part, whole int) float64 {
	if whole == 0 {
		return 1
	}
	return float64(part) / float64(whole)
}

// rate holds pairs against the truth, as far as edits dealt with the lines, and all that is wrong. Which of several
// findings that look alike is which doesn't matter, as long as each of them is an old one.
func (s *score) rate(findings []finding.Finding, faults []fault, entries []baseline.Entry, then []fault, matches []int) (wrong []string) {
	for i, e := range matches {
		f, place := faults[i], fmt.Sprintf("%s:%d %s", findings[i].Path, findings[i].Region.Line, findings[i].Rule)
		self := slices.IndexFunc(then, func(o fault) bool { return f.identity > 0 && o.identity == f.identity })
		right := e != None && self >= 0 && (e == self || alike(entries[self], entries[e]))
		switch {
		case right && !f.involved:
			continue
		case e == None && self >= 0:
			wrong = append(wrong, place+" isn't known: "+findings[i].Code.Text)
		case e != None && !right:
			wrong = append(wrong, fmt.Sprintf("%s is taken as %s:%d: %s", place, entries[e].Path, entries[e].Line, findings[i].Code.Text))
		}
		if self >= 0 {
			s.due++
		} else if s.fresh++; e != None {
			s.taken++
		}
		if e != None {
			s.made++
		}
		if right {
			s.right++
		}
	}
	return wrong
}

func alike(e, o baseline.Entry) bool {
	return e.Path == o.Path && e.Rule == o.Rule && e.Message == o.Message && e.Text == o.Text
}

// TestLaboratory runs every kind of edit over several texts, a few times over each; -v prints the table, and
// ZINCDOOR_SEEDS sets how many texts.
func TestLaboratory(t *testing.T) {
	seeds := 16
	if many, err := strconv.Atoi(os.Getenv("ZINCDOOR_SEEDS")); err == nil {
		seeds = many
	}
	t.Logf("%-26s %35s   %35s", "", "with the change", "by the baseline alone")
	columns := fmt.Sprintf("%6s %9s %6s %5s %5s", "due", "precision", "recall", "new", "taken")
	t.Logf("%-26s %s   %s", "", columns, columns)
	for _, edit := range edits {
		var known, alone score
		var wrongKnown, wrongAlone []string
		for seed := range seeds {
			l := newLaboratory(t, uint64(seed))
			if edit.crowded {
				l.crowd()
			}
			old := l.files.clone()
			first, then := old.observe()
			entries := taken(first)
			for range 4 {
				edit.do(l)
			}
			now, faults := l.files.observe()
			view := View{
				NewText: l.files.text, OldText: old.text,
				Missing: func(path string) bool { return l.files[path] == nil },
			}
			wrongAlone = append(wrongAlone, alone.rate(now, faults, entries, then, Recognise(now, entries, view).EntryOf)...)
			view.Change = difference(t, old, l.files)
			found := Recognise(now, entries, view).EntryOf
			wrongKnown = append(wrongKnown, known.rate(now, faults, entries, then, found)...)
			view.OldTexts, view.NewTexts = many(old.text), many(l.files.text)
			if at := Recognise(now, entries, view).EntryOf; !slices.Equal(at, found) {
				t.Errorf("%s, seed %d: texts that come together make a difference: %v and %v", edit.name, seed, at, found)
			}
		}
		t.Logf("%-26s %s   %s", edit.name, known, alone)
		if known.misses(edit.known) {
			t.Errorf("%s, with the change: want %+v\n%s", edit.name, edit.known, strings.Join(wrongKnown, "\n"))
		}
		if alone.misses(edit.alone) {
			t.Errorf("%s, alone: want %+v\n%s", edit.name, edit.alone, strings.Join(wrongAlone, "\n"))
		}
	}
}

// many hands out texts together, in the reverse order and by two goroutines.
func many(text func(path string) *source.Text) func(paths []string, see func(path string, text *source.Text)) {
	return func(paths []string, see func(path string, text *source.Text)) {
		var wait sync.WaitGroup
		for part := range 2 {
			wait.Go(func() {
				for i := len(paths) - 1; i >= 0; i-- {
					if found := text(paths[i]); found != nil && i%2 == part {
						see(paths[i], found)
					}
				}
			})
		}
		wait.Wait()
	}
}
