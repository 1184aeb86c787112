package review

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/recognise"
	"zincdoor/internal/core/source"
)

const form = "<!-- {mark} -->"

// found is a finding on lines of a file, its id made of its rule.
func found(path string, line, end int, rule string) judge.Finding {
	f := &finding.Finding{Tool: "gcc", Rule: rule, Path: path, Message: "unused", Region: finding.Region{Line: line, EndLine: end}, Code: source.Code{Text: fmt.Sprint("line ", rule), Alike: 1}}
	return judge.Finding{Finding: f, ID: idOf(rule), Place: change.OnTouched, Severity: "warning", Status: judge.Status{Standing: judge.New}}
}

func idOf(rule string) string { return fmt.Sprintf("%x", rule+"------------")[:16] }

func verdictOf(findings ...judge.Finding) judge.Verdict {
	v := judge.Verdict{
		Door: "merge", Outcome: judge.Shut, Ladder: policy.Ladder{"error", "warning", "note"}, Findings: findings, Subject: judge.Subject{Head: strings.Repeat("b", 40)},
		Evidence: []judge.Evidence{{Name: "compiler", State: judge.Read, Covers: []baseline.Cover{{Tool: "gcc", Paths: []string{"**"}}}}},
	}
	slices.SortFunc(v.Findings, func(a, b judge.Finding) int { return finding.Order(*a.Finding, *b.Finding) })
	return v
}

func TestComments(t *testing.T) {
	touched := func(_ string, line int) bool { return line != 5 && line < 30 }
	worse := found("a.c", 9, 0, "f")
	worse.Severity = "error"
	set := func(f judge.Finding, do func(*judge.Finding)) judge.Finding {
		do(&f)
		return f
	}
	for _, c := range []struct {
		name     string
		findings []judge.Finding
		want     string
	}{
		{"one", []judge.Finding{found("a.c", 3, 0, "a")}, "a.c:3-3 a"},
		{"on one line", []judge.Finding{found("a.c", 3, 0, "a"), found("a.c", 3, 0, "b")}, "a.c:3-3 a b"},
		{"on lines that meet", []judge.Finding{found("a.c", 3, 6, "a"), found("a.c", 6, 8, "b"), found("a.c", 9, 0, "c")}, "a.c:3-4 a b; a.c:9-9 c"},
		{"one within another", []judge.Finding{found("a.c", 6, 12, "a"), found("a.c", 7, 0, "b"), found("a.c", 11, 0, "c")}, "a.c:6-12 a b c"},
		{"in two files", []judge.Finding{found("a.c", 3, 0, "a"), found("b.c", 3, 0, "b")}, "a.c:3-3 a; b.c:3-3 b"},
		{"the worst first", []judge.Finding{found("a.c", 3, 0, "a"), worse, found("a.c", 9, 0, "g")}, "a.c:9-9 f g; a.c:3-3 a"},
		{"a long one", []judge.Finding{found("a.c", 1, 90, "a")}, "a.c:1-4 a"},
		{"lines that aren't changed", []judge.Finding{found("a.c", 28, 90, "a")}, "a.c:28-29 a"},
		{"not on a changed line", []judge.Finding{set(found("a.c", 3, 0, "a"), func(f *judge.Finding) { f.Place = change.InFile })}, ""},
		{"accepted", []judge.Finding{set(found("a.c", 3, 0, "a"), func(f *judge.Finding) { f.Standing = judge.Accepted })}, ""},
		{"ignored", []judge.Finding{set(found("a.c", 3, 0, "a"), func(f *judge.Finding) { f.Severity = policy.Ignored })}, ""},
		{"without a line", []judge.Finding{found("a.c", 0, 0, "a")}, ""},
	} {
		v := verdictOf(c.findings...)
		var got []string
		for _, one := range Comments(v, touched) {
			text := fmt.Sprintf("%s:%d-%d", one.Path, one.Start, one.Line)
			for _, i := range one.Findings {
				text += " " + v.Findings[i].Rule
			}
			got = append(got, text)
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s: %s, want %s", c.name, strings.Join(got, "; "), c.want)
		}
	}
}

func TestMark(t *testing.T) {
	m := Mark{Door: "merge, late", ID: "0123456789abcdef", Commit: strings.Repeat("a", 40), Entries: []Entry{{"0123456789abcdef", baseline.EntryFor(*found("a é.c", 3, 0, "-Wx").Finding, "")}}}
	for _, f := range []string{form, "(mark: {mark})", "{mark}", "`{mark}`"} {
		for _, text := range []string{"says", "two\n\nlines", "", "ends in\n<!-- zincdoor 1 comment merge x open y - - -->"} {
			comment := m.Write(text, f)
			got, body, ok := Read(strings.ReplaceAll(comment, "\n", "\r\n")+"  \r\n", f)
			if !ok || got.Edited(body) || got.Door != m.Door || got.ID != m.ID || got.Commit != m.Commit || len(got.Entries) != 1 || got.Entries[0] != m.Entries[0] {
				t.Errorf("%q in %q is read as %+v %q %v", text, f, got, body, ok)
			}
			if got, body, _ := Read(strings.Replace(comment, m.ID, m.ID, 1)+"", f); text != "" && !got.Edited(body+" more") {
				t.Errorf("an edited text isn't known as such: %q", body)
			}
		}
	}
	for _, text := range []string{"", "says", "<!-- zincdoor 1 comment -->", "<!-- zincdoor 1 comment merge x open y - - --> and more", "> <!-- zincdoor 1 comment merge x open y - - -->"} {
		if _, _, ok := Read(text, form); ok {
			t.Errorf("a mark is found in %q", text)
		}
	}
	ids := map[string]bool{idOf("a"): true, idOf("b"): true}
	s, _, ok := Read(Mark{Summary: true, Door: "d", IDs: ids}.Write("all", form), form)
	if !ok || !s.Summary || len(s.IDs) != 2 || !s.IDs[shortID(idOf("a"))] {
		t.Errorf("the summary's mark is %+v", s)
	}
	for range 2000 { // too many for a comment: the first of them
		m.Entries = append(m.Entries, Entry{idOf(fmt.Sprint(len(m.Entries))), baseline.EntryFor(*found("a.c", len(m.Entries), 0, fmt.Sprint(len(m.Entries))).Finding, "")})
	}
	if text := m.Write("many", form); len(text) > 2*longestPayload {
		t.Errorf("the mark has %d bytes", len(text))
	} else if got, _, _ := Read(text, form); len(got.Entries) < 20 {
		t.Errorf("only %d entries are left", len(got.Entries))
	}
}

// host is a pull request that does what it is asked.
type host struct {
	posted   []Posted
	statuses []Status
	lacks    []policy.HostAct
	next     int
}

func (h *host) can(act policy.HostAct) bool { return !slices.Contains(h.lacks, act) }

func (h *host) find(id string) *Posted {
	i := slices.IndexFunc(h.posted, func(p Posted) bool { return p.ID == id })
	return &h.posted[i]
}

func (h *host) do(a Act) {
	switch a.Kind {
	case policy.CreateComment, policy.CreateSummary:
		h.next++
		h.posted = append(h.posted, Posted{ID: fmt.Sprint(h.next), Thread: fmt.Sprint(h.next), Author: "bot", Text: a.Text, Path: a.Path, Start: a.Start, Line: a.Line, Commit: a.Commit})
	case policy.UpdateComment, policy.UpdateSummary:
		p := h.find(a.ID)
		if p.Text = a.Text; h.can(MovesComments) {
			p.Path, p.Start, p.Line, p.Commit = a.Path, a.Start, a.Line, a.Commit
		}
	case policy.ResolveComment:
		h.find(a.ID).Resolved = true
	case policy.ReopenComment:
		h.find(a.ID).Resolved = false
	case policy.DeleteComment, policy.DeleteSummary:
		h.posted = slices.DeleteFunc(h.posted, func(p Posted) bool { return p.ID == a.ID })
	case policy.SetStatus:
		h.statuses = []Status{{Name: a.Status, Outcome: a.Outcome, Text: a.Text}}
	}
}

func wish(v judge.Verdict, most int) Wish {
	w := Wish{
		Verdict: v, Head: v.Subject.Head, Most: most, Form: form, Judged: true, Status: Status{Name: "door", Outcome: v.Outcome},
		Summary: func(commented map[int]bool) string { return fmt.Sprint(len(commented), " of ", len(v.Findings)) }, Gone: func(s string) string { return "Gone: " + s },
	}
	w.Comments = Comments(v, nil)
	for i := range w.Comments {
		w.Comments[i].Text = "says " + v.Findings[w.Comments[i].Findings[0]].Rule
	}
	return w
}

// send does what a plan says, until there is nothing left.
func (h *host) send(t *testing.T, v judge.Verdict, most int) (acts []Act) {
	t.Helper()
	for range 5 {
		w := wish(v, most)
		shown := Shown{Statuses: h.statuses}
		shown.Own = OwnOf(h.posted, "bot", v.Door, form)
		shown.Known = Recognise(shown.Threads, w.Comments, v, v.Subject.Head, func(string) recognise.View { return recognise.View{} })
		plan := Plan(w, shown, h.can)
		if len(plan) == 0 {
			return acts
		}
		for _, a := range plan {
			h.do(a)
		}
		acts = append(acts, plan...)
	}
	t.Fatalf("there is always something left: %v", kinds(acts))
	return nil
}

func kinds(acts []Act) string {
	counts := map[policy.HostAct]int{}
	for _, a := range acts {
		counts[a.Kind]++
	}
	var all []string
	for _, kind := range slices.Sorted(maps.Keys(counts)) {
		all = append(all, fmt.Sprint(kind, " ", counts[kind]))
	}
	return strings.Join(all, ", ")
}

func (h *host) says() string {
	var all []string
	for _, p := range h.posted {
		_, body, _ := Read(p.Text, form)
		all = append(all, fmt.Sprintf("%s:%d %v %s", p.Path, p.Line, p.Resolved, body))
	}
	return strings.Join(all, "\n")
}

func TestPlan(t *testing.T) {
	a, b, c := found("a.c", 3, 0, "a"), found("a.c", 8, 0, "b"), found("a.c", 20, 0, "c")
	none := verdictOf()
	none.Outcome = judge.Open
	unheard := verdictOf(a)
	unheard.Evidence[0].State = judge.Missing
	lost := verdictOf(a)
	lost.Evidence[0].Lost = []string{"a.c"}
	type step struct {
		verdict judge.Verdict
		most    int
		people  func(*host)
		want    string
	}
	for _, c := range []struct {
		name  string
		lacks []policy.HostAct
		steps []step
		says  string
	}{
		{"posted once", nil, []step{{verdictOf(a, b), 9, nil, "create-comment 2, create-summary 1, set-status 1"}, {verdictOf(a, b), 9, nil, ""}}, "a.c:3 false says a\na.c:8 false says b\n:0 false 2 of 2"},
		{"open, and nothing to say", nil, []step{{none, 9, nil, "set-status 1"}}, ""},
		{"fixed and back", nil, []step{
			{verdictOf(a, b), 9, nil, "create-comment 2, create-summary 1, set-status 1"},
			{verdictOf(a), 9, nil, "resolve-comment 1, update-comment 1, update-summary 1"},
			{verdictOf(a), 9, nil, ""},
			{verdictOf(a, b), 9, nil, "reopen-comment 1, update-comment 1, update-summary 1"},
		}, "a.c:3 false says a\na.c:8 false says b\n:0 false 2 of 2"},
		{"its tool wasn't heard", nil, []step{{verdictOf(a, b), 9, nil, "create-comment 2, create-summary 1, set-status 1"}, {unheard, 9, nil, "update-summary 1"}}, "a.c:3 false says a\na.c:8 false says b\n:0 false 1 of 1"},
		{"its file was given up", nil, []step{{verdictOf(a, b), 9, nil, "create-comment 2, create-summary 1, set-status 1"}, {lost, 9, nil, "update-summary 1"}}, "a.c:3 false says a\na.c:8 false says b\n:0 false 1 of 1"},
		{"more than there is room for", nil, []step{
			{verdictOf(a, b, c), 2, nil, "create-comment 2, create-summary 1, set-status 1"},
			{verdictOf(b, c), 2, nil, "create-comment 1, resolve-comment 1, update-comment 1, update-summary 1"},
		}, "a.c:3 true Gone: says a\na.c:8 false says b\n:0 false 2 of 2\na.c:20 false says c"},
		{"deleted by somebody", nil, []step{
			{verdictOf(a, b), 9, nil, "create-comment 2, create-summary 1, set-status 1"},
			{verdictOf(a, b), 9, func(h *host) { h.posted = h.posted[1:] }, "update-summary 1"},
			{verdictOf(a, b), 9, nil, ""},
		}, "a.c:8 false says b\n:0 false 1 of 2"},
		{"resolved by somebody", nil, []step{
			{verdictOf(a), 9, nil, "create-comment 1, create-summary 1, set-status 1"},
			{verdictOf(a), 9, func(h *host) { h.posted[0].Resolved = true }, ""},
		}, "a.c:3 true says a\n:0 false 1 of 1"},
		{"reopened by somebody", nil, []step{
			{verdictOf(a), 9, nil, "create-comment 1, create-summary 1, set-status 1"},
			{verdictOf(b), 9, nil, "create-comment 1, resolve-comment 1, update-comment 1, update-summary 1"},
			{verdictOf(b), 9, func(h *host) { h.posted[0].Resolved = false }, ""},
		}, "a.c:3 false Gone: says a\n:0 false 1 of 1\na.c:8 false says b"},
		{"edited by somebody", nil, []step{
			{verdictOf(a), 9, nil, "create-comment 1, create-summary 1, set-status 1"},
			{verdictOf(a), 9, func(h *host) { h.posted[0].Text = "Note. " + h.posted[0].Text }, ""},
			{none, 9, nil, "resolve-comment 1, set-status 1, update-summary 1"},
		}, "a.c:3 true Note. says a\n:0 false 0 of 0"},
		{"posted twice", nil, []step{
			{verdictOf(a), 9, nil, "create-comment 1, create-summary 1, set-status 1"},
			{verdictOf(a), 9, func(h *host) {
				for _, p := range h.posted {
					p.ID += "x"
					h.posted = append(h.posted, p)
				}
			}, "delete-comment 1, delete-summary 1"},
		}, "a.c:3 false says a\n:0 false 1 of 1"},
		{"its mark was dropped", nil, []step{
			{verdictOf(a), 9, nil, "create-comment 1, create-summary 1, set-status 1"},
			{verdictOf(a), 9, func(h *host) { h.posted[0].Text = "says a" }, ""},
		}, "a.c:3 false says a\n:0 false 1 of 1"},
		{"quoted in our own name", nil, []step{
			{verdictOf(a), 9, nil, "create-comment 1, create-summary 1, set-status 1"},
			{verdictOf(a), 9, func(h *host) {
				for _, p := range h.posted {
					p.ID, p.Text = p.ID+"x", "Look: "+p.Text
					h.posted = append(h.posted, p)
				}
			}, ""},
		}, "a.c:3 false says a\n:0 false 1 of 1\na.c:3 false Look: says a\n:0 false Look: 1 of 1"},
		{"a host that resolves nothing and moves nothing", []policy.HostAct{policy.ResolveComment, policy.ReopenComment, MovesComments}, []step{
			{verdictOf(a, b), 9, nil, "create-comment 2, create-summary 1, set-status 1"},
			{verdictOf(b), 9, nil, "update-comment 1, update-summary 1"},
			{verdictOf(a, b), 9, nil, "update-comment 1, update-summary 1"},
		}, "a.c:3 false says a\na.c:8 false says b\n:0 false 2 of 2"},
		{"a host with statuses alone", []policy.HostAct{policy.CreateComment, policy.CreateSummary}, []step{{verdictOf(a), 9, nil, "set-status 1"}}, ""},
		{"no comments", nil, []step{{verdictOf(a), 0, nil, "create-summary 1, set-status 1"}}, ":0 false 0 of 1"},
	} {
		h := &host{lacks: c.lacks}
		for i, s := range c.steps {
			if s.people != nil {
				s.people(h)
			}
			if got := kinds(h.send(t, s.verdict, s.most)); got != s.want {
				t.Errorf("%s, step %d: %s, want %s", c.name, i+1, got, s.want)
			}
		}
		if h.says() != c.says {
			t.Errorf("%s: it shows\n%s\nnot\n%s", c.name, h.says(), c.says)
		}
	}
}

// TestThreadsKeepTheirID: a comment whose finding's line was altered keeps its thread, and a new finding that has the old one's id gets
// a thread of its own.
func TestThreadsKeepTheirID(t *testing.T) {
	before, altered := found("a.c", 3, 0, "a"), found("a.c", 5, 0, "a")
	altered.ID = idOf("other")
	h := &host{}
	h.send(t, verdictOf(before), 9)
	later := verdictOf(altered)
	later.Subject.Head = strings.Repeat("c", 40)
	if got := kinds(h.send(t, later, 9)); got != "update-comment 1, update-summary 1" || !strings.Contains(h.posted[0].Text, " "+idOf("a")+" ") {
		t.Fatalf("%s\n%s", got, h.posted[0].Text)
	}
	both := verdictOf(altered, found("b.c", 7, 0, "a"))
	both.Subject.Head = later.Subject.Head
	if got := kinds(h.send(t, both, 9)); got != "create-comment 1, update-summary 1" || h.posted[2].Path != "b.c" {
		t.Fatalf("%s\n%s", got, h.says())
	}
	first, _, _ := Read(h.posted[0].Text, form)
	second, _, _ := Read(h.posted[2].Text, form)
	if first.ID == second.ID {
		t.Error("two threads have one id")
	}
}

// TestStatuses: one is set unless exactly that is there, and nothing else of its name.
func TestStatuses(t *testing.T) {
	good, bad := Status{Name: "door", Outcome: judge.Open}, Status{Name: "door", Outcome: judge.Shut}
	other := Status{Name: "other", Outcome: judge.Open}
	for _, c := range []struct {
		there []Status
		set   bool
	}{{nil, true}, {[]Status{bad}, false}, {[]Status{good}, true}, {[]Status{other}, true}, {[]Status{bad, other}, false}, {[]Status{bad, good}, true}, {[]Status{good, bad}, true}, {[]Status{{Name: "door", Outcome: judge.Shut, Text: "said before"}}, true}} {
		w := wish(verdictOf(found("a.c", 3, 0, "a")), 9)
		w.Judged = false
		if got := len(Plan(w, Shown{Statuses: c.there}, func(policy.HostAct) bool { return true })) > 0; got != c.set {
			t.Errorf("with %v, it is set: %v", c.there, got)
		}
	}
}

// TestLostCommits: threads whose commit isn't there any more keep to what says the same in their file, if there are as many of those.
func TestLostCommits(t *testing.T) {
	at := func(line int, id, text string) judge.Finding {
		f := found("a.c", line, 0, "a")
		f.ID, f.Code.Text = idOf(id), text
		return f
	}
	h := &host{}
	h.send(t, verdictOf(at(3, "one", "one"), at(9, "two", "two")), 9)
	later := verdictOf(at(5, "one more", "one more"), at(11, "two more", "two more"))
	later.Subject.Head = strings.Repeat("c", 40)
	if got := kinds(h.send(t, later, 9)); got != "update-comment 2, update-summary 1" || h.says() != "a.c:5 false says a\na.c:11 false says a\n:0 false 2 of 2" {
		t.Fatalf("%s\n%s", got, h.says())
	}
	fewer := verdictOf(at(30, "other", "other"))
	fewer.Subject.Head = strings.Repeat("d", 40)
	if got := kinds(h.send(t, fewer, 9)); got != "create-comment 1, resolve-comment 2, update-comment 2, update-summary 1" {
		t.Fatalf("%s\n%s", got, h.says())
	}
}

func FuzzRead(f *testing.F) {
	f.Add(Mark{Door: "merge", ID: idOf("a"), Commit: "c", Entries: []Entry{{idOf("a"), baseline.EntryFor(*found("a.c", 3, 0, "x").Finding, "")}}}.Write("says", form))
	f.Add("<!-- zincdoor 1 summary d - - 0 - AAAA -->")
	f.Add("<!-- zincdoor 1 comment %zz x open y - //// -->")
	f.Fuzz(func(t *testing.T, text string) {
		m, body, ok := Read(text, form)
		if !ok {
			return
		}
		if again, same, ok := Read(m.Write(body, form), form); !ok || tidy(same) != tidy(body) || again.Door != m.Door || again.Edited(same) {
			t.Errorf("%q is written again as %q", text, m.Write(body, form))
		}
	})
}
