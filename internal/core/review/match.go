package review

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/recognise"
)

// Thread is a comment of our own, with what its mark says.
type Thread struct {
	Posted
	Mark Mark
	Body string // the text above the mark
}

// edited reports whether somebody else altered the text.
func (t *Thread) edited() bool { return t.Mark.Edited(t.Body) }

// Own are the comments of one door among those that a host has: written by us, and with a mark.
type Own struct {
	Threads   []Thread // one of each id
	Summaries []Thread // the first is the one
	Twins     []Thread // threads that were posted once more, by two that ran at once
	Unmarked  []Posted // written by us, and without a mark: the host dropped it, somebody cut it off, or we are somebody
}

// OwnOf finds them. A comment that has the id of another, and another text than it was posted with, is somebody's who quotes ours by
// our own name: it is left out.
func OwnOf(posted []Posted, self, door, form string) (own Own) {
	var threads, summaries []Thread
	for _, p := range posted {
		if p.Author != self {
			continue
		}
		mark, body, ok := Read(p.Text, form)
		switch {
		case !ok:
			own.Unmarked = append(own.Unmarked, p)
		case mark.Door != door:
		case mark.Summary:
			summaries = append(summaries, Thread{p, mark, body})
		default:
			threads = append(threads, Thread{p, mark, body})
		}
	}
	own.Threads, own.Twins = firstOfEach(threads)
	first, more := firstOfEach(summaries)
	own.Summaries = append(first, more...)
	return own
}

// firstOfEach parts the first thread of each id, one that nobody edited if there is such a one, from the others that nobody edited.
func firstOfEach(threads []Thread) (first, twins []Thread) {
	of := map[string]int{}
	for i, t := range threads {
		if n, known := of[t.Mark.ID]; !known || threads[n].edited() && !t.edited() {
			of[t.Mark.ID] = i
		}
	}
	for i, t := range threads {
		switch {
		case of[t.Mark.ID] == i:
			first = append(first, t)
		case !t.edited():
			twins = append(twins, t)
		}
	}
	return first, twins
}

// Known says which thread speaks of which findings.
type Known struct {
	ThreadOf []int        // for each wanted comment the index of its thread, -1 for none
	Still    map[int]bool // threads of which a finding is still there, wanted or not
}

// none is the thread of a comment that has none.
const none = -1

// Recognise finds which threads speak of which comments and which of their findings are still there. head is the commit that was
// judged; view gives what is known of the way to it from another one.
func Recognise(threads []Thread, wanted []Comment, v judge.Verdict, head string, view func(commit string) recognise.View) Known {
	known := Known{ThreadOf: slices.Repeat([]int{none}, len(wanted)), Still: map[int]bool{}}
	groups := map[string][]int{} // by the commit that their findings were seen at
	var commits []string
	for i, t := range threads {
		if groups[t.Mark.Commit] == nil {
			commits = append(commits, t.Mark.Commit)
		}
		groups[t.Mark.Commit] = append(groups[t.Mark.Commit], i)
	}
	speaks := map[int]int{}                           // by finding: the thread that speaks of it
	var lost []int                                    // threads that saw their findings at a commit that isn't there any more
	for _, commit := range slices.Backward(commits) { // those that were posted last know best
		pairs, followed := recognised(threads, groups[commit], v, commit, head, speaks, view)
		for f, t := range pairs {
			speaks[f] = t
			known.Still[t] = true
		}
		if !followed {
			lost = append(lost, groups[commit]...)
		}
	}
	known.assign(threads, wanted, speaks)
	known.assignAlike(threads, lost, wanted, v)
	return known
}

// assignAlike gives comments threads that nothing else speaks for, and that saw the same said of the same file, in the order of their
// lines, where there are as many of the one as of the other. It is for threads whose commit is lost: what became of its lines can't be
// followed.
func (k *Known) assignAlike(threads []Thread, lost []int, wanted []Comment, v judge.Verdict) {
	what := func(tool, rule, path, message string) string {
		return strings.Join([]string{tool, rule, path, finding.Skeleton(message)}, "\x00")
	}
	left := map[string][]int{}
	for _, t := range lost {
		if entries := threads[t].Mark.Entries; len(entries) > 0 && !k.Still[t] && !threads[t].Mark.Gone {
			key := what(entries[0].Tool, entries[0].Rule, entries[0].Path, entries[0].Message)
			left[key] = append(left[key], t)
		}
	}
	free := map[string][]int{}
	for c := range wanted {
		if k.ThreadOf[c] == none {
			f := v.Findings[wanted[c].Findings[0]]
			key := what(f.Tool, f.Rule, f.Path, shortMessage(f.Message))
			free[key] = append(free[key], c)
		}
	}
	for key, of := range left {
		comments := free[key]
		if len(of) != len(comments) {
			continue
		}
		slices.SortFunc(of, func(a, b int) int {
			return cmp.Compare(threads[a].Mark.Entries[0].Line, threads[b].Mark.Entries[0].Line)
		})
		slices.SortFunc(comments, func(a, b int) int { return cmp.Compare(wanted[a].Line, wanted[b].Line) })
		for i, t := range of {
			k.ThreadOf[comments[i]], k.Still[t] = t, true
		}
	}
}

// recognised pairs findings that aren't taken yet with threads that saw them at one commit: by the index of the finding. followed is
// whether it is known what became of the lines of that commit.
func recognised(threads []Thread, group []int, v judge.Verdict, commit, head string, taken map[int]int, view func(commit string) recognise.View) (pairs map[int]int, followed bool) {
	pairs = map[int]int{}
	at := map[string]int{}
	for i := range v.Findings {
		if _, is := taken[i]; !is {
			at[v.Findings[i].ID] = i
		}
	}
	var entries []baseline.Entry
	var of []int // the thread of each entry
	paths, rules := map[string]bool{}, map[string]bool{}
	for _, t := range group {
		if len(threads[t].Mark.Entries) == 0 {
			if i, there := at[threads[t].Mark.ID]; there {
				pairs[i] = t
			}
		}
		for _, e := range threads[t].Mark.Entries {
			if i, there := at[e.ID]; there && commit == head {
				pairs[i] = t
				continue
			}
			entries, of = append(entries, e.Entry), append(of, t)
			paths[e.Path], rules[e.Rule] = true, true
		}
	}
	if len(entries) == 0 || commit == head { // the same commit has the same ids
		return pairs, true
	}
	var findings []finding.Finding
	var from []int
	for i, f := range v.Findings {
		if _, is := taken[i]; !is && (paths[f.Path] || rules[f.Rule]) {
			one := *f.Finding
			one.Message = shortMessage(one.Message)
			findings, from = append(findings, one), append(from, i)
		}
	}
	known := view(commit)
	for f, e := range recognise.Recognise(findings, entries, known).EntryOf {
		if e != recognise.None {
			pairs[from[f]] = of[e]
		}
	}
	return pairs, known.Change != nil
}

// assign gives each comment the thread that speaks of most of its findings, and each thread one comment.
func (k *Known) assign(threads []Thread, wanted []Comment, speaks map[int]int) {
	type vote struct{ comment, thread, findings int }
	var votes []vote
	for c := range wanted {
		counts := map[int]int{}
		for _, f := range wanted[c].Findings {
			if t, known := speaks[f]; known {
				counts[t]++
			}
		}
		for t, n := range counts {
			votes = append(votes, vote{c, t, n})
		}
	}
	slices.SortFunc(votes, func(a, b vote) int {
		return cmp.Or(cmp.Compare(b.findings, a.findings), cmp.Compare(a.thread, b.thread), cmp.Compare(a.comment, b.comment))
	})
	taken := make([]bool, len(threads))
	for _, v := range votes {
		if k.ThreadOf[v.comment] == none && !taken[v.thread] {
			k.ThreadOf[v.comment], taken[v.thread] = v.thread, true
		}
	}
}

func sortedKeys(m map[string]bool) []string { return slices.Sorted(maps.Keys(m)) }
