package app

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/gittest"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
	"zincdoor/internal/verdictfile"
)

const livePolicy = `zincdoor: 1
doors:
  commit:
    judges: worktree
    waivers: {code: true}
    limits:
      - {count: new, severity: error, most: 0}
      - {count: new, severity: note, most: 3}
      - {measure: lines, of: file, most: 40}
house: {blank-ends: on, json-syntax: on, conflict-marks: on, last-line-end: on, spelling: {identifiers: true}}
`

// live judges a repository's work tree and keeps it at hand, as it is after another.
func live(t *testing.T, r *gittest.Repo, before *Live, step LiveStep) *Live {
	t.Helper()
	if before == nil {
		before = NewLive(GateRequest{Call: Call{Dir: r.Dir, Run: true}})
	}
	step.Today = "2026-11-23"
	next, err := before.Next(context.Background(), step)
	if err != nil {
		t.Fatal(err)
	}
	before.Close()
	t.Cleanup(next.Close)
	return next
}

// written is a verdict as it is written, without what is said of whole reports and numbers: these are taken anew when files are saved.
func written(t *testing.T, j *Judgement) string {
	t.Helper()
	var out bytes.Buffer
	if err := verdictfile.Write(&out, j.Verdict); err != nil {
		t.Fatal(err)
	}
	return numbers.ReplaceAllString(evidenceOf.ReplaceAllString(out.String(), ""), "")
}

var evidenceOf, numbers = regexp.MustCompile(`"evidence":\[.*?\],"totals"`), regexp.MustCompile(`"measured":\{[^}]*\}`)

// edit makes some edits of lines.
func edit(random *rand.Rand, text string) string {
	pieces := []string{"int gauge = 4;\n", "/* the tide recieves */\n", "x = 1;   \n", "{\"a\": 1}\n", "\n", "<<<<<<< ours\n", "// door waiver(blank-ends): the chart needs it\n", "// door waiver(nothing): no use\n", "int slack\r\n", "päges ≈ 3\n"}
	lines := strings.SplitAfter(text, "\n")
	for range 1 + random.IntN(3) {
		at := random.IntN(len(lines) + 1)
		switch random.IntN(3) {
		case 0:
			lines = slices.Insert(lines, at, pieces[random.IntN(len(pieces))])
		case 1:
			if at < len(lines) {
				lines = slices.Delete(lines, at, min(at+1+random.IntN(2), len(lines)))
			}
		default:
			if at < len(lines) {
				lines[at] = pieces[random.IntN(len(pieces))]
			}
		}
	}
	return strings.Join(lines, "")
}

// TestLive: texts that aren't saved are judged just as they are once they are saved, whatever was edited; what was accepted stays so.
func TestLive(t *testing.T) {
	r := gittest.New(t)
	files := map[string]string{
		"core/tide.c": "int a;\nint b;   \nint c;\n/* hights of the tide */\nint d;\nint e;\n", "boards/board.json": "{\"a\": 1}\n", "docs/notes.md": strings.Repeat("The ferry waits for the tide.\n\nIt recieves cars.\n", 20),
	}
	for name, text := range files {
		r.Write(name, text)
	}
	r.Write(".gitattributes", "*.md text eol=crlf\n")
	r.Write(policyfile.Path, livePolicy)
	r.Commit("one")
	r.Write("core/tide.c", files["core/tide.c"]+"int f;   \n")
	r.Git("mv", "docs/notes.md", "docs/log.md")
	names := []string{"core/tide.c", "boards/board.json", "docs/log.md", "core/fresh.c"}
	random := rand.New(rand.NewPCG(1, 26))
	now := live(t, r, nil, LiveStep{Open: names})
	for round := range 40 {
		typed := map[string][]byte{}
		for _, name := range names[:1+random.IntN(len(names))] {
			old, _ := os.ReadFile(filepath.Join(r.Dir, name))
			if name == "docs/log.md" { // which must stay the renamed one
				old = []byte(files["docs/notes.md"])
			}
			typed[name] = []byte(edit(random, string(old)))
		}
		unsaved, err := now.Type(context.Background(), typed)
		if err != nil {
			t.Fatal(err)
		}
		got := written(t, unsaved)
		for name, text := range typed {
			r.Write(name, string(text))
		}
		now = live(t, r, now, LiveStep{Open: names})
		if want := written(t, now.Judgement()); got != want {
			at := 0
			for at < min(len(got), len(want)) && got[at] == want[at] {
				at++
			}
			t.Fatalf("round %d, %s:\n…%.600s\nsaved:\n…%.600s", round, slices.Sorted(maps.Keys(typed)), got[max(0, at-200):], want[max(0, at-200):])
		}
		back, err := now.Type(context.Background(), typed)
		if err != nil || written(t, back) != written(t, now.Judgement()) {
			t.Fatalf("round %d: the texts as they are saved are judged otherwise (%v)", round, err)
		}
	}
}

// TestLiveLinters: what a linter said keeps its line while text is typed around it, is set apart where its line was edited, comes back with
// the text, and isn't asked again before it may be.
func TestLiveLinters(t *testing.T) {
	r := gittest.New(t)
	r.Write("core/tide.c", "int a;\nint b;\n")
	r.Write(policyfile.Path, `zincdoor: 1
doors:
  commit: {judges: staged, limits: [{count: all, severity: error, most: 0}]}
reports:
  gauge: {run: [sh, -c, "echo asked >> .git/asked; grep -n slack core/tide.c | sed 's/:.*/:1: error: no slack [-Wslack]/; s,^,core/tide.c:,'"], as: diagnostics, exits: {found: [0]}}
`)
	r.Commit("one")
	r.Write("core/tide.c", "int a;\nint slack;\nint b;\n")
	all, none := func(policy.Report) bool { return true }, func(policy.Report) bool { return false }
	places := func(j *Judgement) string {
		var list []string
		for _, f := range j.Findings {
			list = append(list, fmt.Sprintf("%s:%d %s", f.Rule, f.Region.Line, f.Place))
		}
		for _, f := range j.Edited {
			list = append(list, fmt.Sprintf("edited:%d", f.Region.Line))
		}
		return fmt.Sprintf("%s %s, waits: %s", j.Outcome, strings.Join(list, " "), strings.Join(j.Waiting, " "))
	}
	typed := func(l *Live, text string) string {
		t.Helper()
		j, err := l.Type(context.Background(), map[string][]byte{"core/tide.c": []byte(text)})
		if err != nil {
			t.Fatal(err)
		}
		return places(j)
	}
	expect := func(got, want string) {
		t.Helper()
		if got != want {
			t.Errorf("%s\nwant %s", got, want)
		}
	}
	now := live(t, r, nil, LiveStep{Starts: none})
	expect(places(now.Judgement()), "unjudged , waits: gauge")
	now = live(t, r, now, LiveStep{Starts: all})
	expect(places(now.Judgement()), "shut -Wslack:2 touched, waits: ")
	expect(typed(now, "// tide\n\nint a;\nint slack;\nint b;\n"), "shut -Wslack:4 touched, waits: ")
	expect(typed(now, "int a;\nint slacker;\nint b;\n"), "open edited:2, waits: ")
	expect(typed(now, "int a;\nint b;\n"), "open , waits: ")
	expect(typed(now, "int a;\nint slack;\nint b;\n"), "shut -Wslack:2 touched, waits: ")
	r.Write("core/tide.c", "int a;\nint z;\nint slack;\nint b;\nint slack;\n")
	now = live(t, r, now, LiveStep{Starts: none})
	expect(places(now.Judgement()), "shut -Wslack:3 touched, waits: gauge")
	expect(typed(now, "int z;\nint slack;\nint b;\nint slack;\n"), "shut -Wslack:2 touched, waits: gauge")
	r.Write("core/tide.c", "int a;\nint z;\nint b;\n")
	now = live(t, r, now, LiveStep{Starts: none})
	r.Write("core/tide.c", "int a;\nint z;\nint slack;\nint b;\n")
	now = live(t, r, now, LiveStep{Starts: all})
	expect(places(now.Judgement()), "shut -Wslack:3 touched, waits: ")
	if asked := strings.Count(r.Read(".git/asked"), "asked"); asked != 2 {
		t.Errorf("the linter was started %d times", asked)
	}
}

// TestLiveElsewhere: findings in files that nobody has open count for the limits all the same, though they aren't judged again.
func TestLiveElsewhere(t *testing.T) {
	r := gittest.New(t)
	var report strings.Builder
	for n := range 30 {
		name := fmt.Sprintf("core/f%d.c", n)
		r.Write(name, "int a;\nint b;\nint c;\n")
		for line := range 1 + n%3 {
			fmt.Fprintf(&report, "%s:%d:1: warning: old [-Wold]\n", name, line+1)
		}
	}
	r.Write("core/tide.c", "int a;   \nint b;\n")
	r.Write(policyfile.Path, `zincdoor: 1
doors:
  commit:
    judges: worktree
    limits:
      - {count: all, severity: warning, most: 60}
      - {count: all, severity: note, most: 2, each: file}
      - {count: all, severity: note, most: 62}
      - {count: touched, severity: note, most: 1}
house: {blank-ends: on}
`)
	r.Commit("one")
	r.Write("core/tide.c", "int a;   \nint b;\nint c;\n")
	r.Write(".git/r.txt", report.String())
	q := GateRequest{Call: Call{Dir: r.Dir}}
	q.Reports.Given = request(r, target.Name{}).Reports.Given
	now, err := NewLive(q).Next(context.Background(), LiveStep{Today: "2026-11-23", Open: []string{"core/tide.c"}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(now.Close)
	limits := func(j *Judgement) (all []string) {
		for _, l := range j.Limits {
			all = append(all, fmt.Sprintf("%s: %d, %v", l.Name, l.Found, l.Held))
		}
		return all
	}
	for _, text := range []string{"int a;   \nint b;\nint c;\nint d;  \n", "int a;  \nint b;  \nint c;  \nint d;  \n", "int a;\nint b;\nint d;\n"} {
		j, err := now.Type(context.Background(), map[string][]byte{"core/tide.c": []byte(text)})
		if err != nil {
			t.Fatal(err)
		}
		r.Write("core/tide.c", text)
		r.Write(".git/r.txt", report.String())
		saved, err := now.Next(context.Background(), LiveStep{Today: "2026-11-23"})
		if err != nil {
			t.Fatal(err)
		}
		if got, want := limits(j), limits(saved.Judgement()); !slices.Equal(got, want) || j.Outcome != saved.Judgement().Outcome {
			t.Errorf("%q: %s %q, once it is saved %s %q", text, j.Outcome, got, saved.Judgement().Outcome, want)
		}
		if len(j.Findings) >= 30 {
			t.Errorf("%d findings are judged again", len(j.Findings))
		}
		saved.Close()
	}
}
