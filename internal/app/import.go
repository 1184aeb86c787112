package app

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/record"
	"zincdoor/internal/evidence"
	"zincdoor/internal/git"
	"zincdoor/internal/history"
	"zincdoor/internal/lint"
	"zincdoor/internal/recordfile"
	"zincdoor/internal/target"
)

// ImportRequest names past commits whose states are to be recorded.
type ImportRequest struct {
	Call
	Past
	Place  Place
	Door   string // "" takes the one door that judges a tree, or else a range
	Branch string // whose states they are; "" for the branch that is checked out
	Tell   func(lint.Step)
}

// Imported is what came of a past commit.
type Imported struct {
	Commit, Subject string
	Findings        int
	Record          string // the id of its record, "" where it has none
	Known           bool   // it was recorded before
	Problem         string // why there is no state of it, "" where there is
}

// Import records the states of past commits: by a folder of reports, or by the policy's linters, which are started on copies. What was
// recorded before is passed by, so that a call that was broken off goes on where it ended. Each is judged as a whole tree, by the present policy or by
// the one that the call names. Tell is called for each commit as soon as it is in.
func Import(ctx context.Context, q ImportRequest, tell func(Imported)) error {
	h, err := openHistory(ctx, q.Call, q.Place, "", history.Open)
	if err != nil {
		return err
	}
	defer h.Close()
	if h.repo == nil {
		return target.WrongCall("there is no repository here, so there are no past commits")
	}
	list, err := q.list(h.repo)
	if err != nil {
		return err
	}
	store, err := q.store(q.Dir)
	if err != nil {
		return err
	}
	branch := h.repo.Branch()
	if q.Branch != "" {
		branch = policy.WholeRef(q.Branch)
	}
	if branch == "" {
		return target.WrongCall("no branch is checked out; name the one whose states these are: --branch NAME")
	}
	if q.Policy == "" {
		if q.Policy, err = presentPolicy(h.repo); err != nil {
			return err
		}
	}
	if q.Door == "" {
		if q.Door, err = pastDoor(ctx, q.Call, policy.Tree, policy.Range, policy.Branch); err != nil {
			return err
		}
	}
	times, err := timesOf(h.repo, list)
	if err != nil {
		return err
	}
	for n, c := range list {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		is := Imported{Commit: c.Name, Subject: c.Subject}
		given := evidence.Given{Dir: q.Dir, Files: store.of(c.Name), Commit: c.Name, Alone: true, Start: q.Run}
		there, err := h.List(ctx, history.Filter{Head: c.Name, Branch: branch, Door: q.Door, States: true})
		switch {
		case err != nil:
			return err
		case len(there) > 0:
			is.Known, is.Record, is.Findings = true, there[0].ID, there[0].Findings
		case len(given.Files) == 0 && !q.Run:
			is.Problem = "no reports of it; --run starts the policy's linters on it"
		default:
			q.step(fmt.Sprintf("commit %d of %d, %.10s", n+1, len(list), c.Name), func() { err = h.importOne(ctx, q, c, given, branch, times[c.Name], &is) })
			if err != nil {
				return err
			}
		}
		tell(is)
	}
	return nil
}

// timesOf gives commits the times that their states are ordered by: their own, or where that isn't after the one before a second after
// that, so that commits keep their order whatever their clocks said, and whichever of them are imported first.
func timesOf(repo *git.Repo, list []git.Commit) (map[string]time.Time, error) {
	times := map[string]time.Time{}
	if len(list) == 0 {
		return times, nil
	}
	all, err := repo.Log(0, list[len(list)-1].Name)
	var last time.Time
	for _, c := range all {
		if !c.Time.After(last) {
			c.Time = last.Add(time.Second)
		}
		last = c.Time
		times[c.Name] = last
	}
	return times, err
}

func (q ImportRequest) step(name string, do func()) {
	if q.Tell != nil {
		q.Tell(lint.Step{Name: name})
		defer q.Tell(lint.Step{Name: name, Ended: true})
	}
	do()
}

// importOne judges a past commit and puts its record in.
func (h *History) importOne(ctx context.Context, q ImportRequest, c git.Commit, given evidence.Given, branch string, at time.Time, is *Imported) error {
	one := GateRequest{Call: q.Call, Door: q.Door, Reports: Reports{Given: given}, Tell: q.Tell}
	one.Record = Recording{Asked: true, apart: &apart{h.Name, branch, at}}
	one.Change = target.Name{Kind: policy.Tree, To: c.Name}
	judged, err := Gate(ctx, one)
	if err != nil {
		return err
	}
	made := judged[0].unrecorded
	is.Findings = made.Verdict.Totals.Findings
	if made.Branch == "" {
		is.Problem = problemOf(judged[0].Verdict)
		return nil
	}
	if err := h.store.Put(ctx, made.Record, made.contents); err != nil {
		return err
	}
	is.Record = made.ID
	return nil
}

// problemOf says what evidence a verdict lacks.
func problemOf(v judge.Verdict) string {
	for _, e := range v.Evidence {
		if !e.Sound() && !e.Optional {
			return strings.TrimPrefix(fmt.Sprintf("%s: %s", e.Name, e.Problem), ": ")
		}
	}
	return "its evidence isn't all there"
}

// Export writes all records of the repository, a line each, the oldest first, and where that is asked for the reports that are kept.
func (h *History) Export(ctx context.Context, w io.Writer, reports bool) error {
	all, err := h.List(ctx, history.Filter{})
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	seen := map[string]bool{}
	for _, is := range all {
		r, err := h.store.Record(ctx, is)
		if err != nil {
			return err
		}
		line, err := recordfile.Line(r)
		if err != nil {
			return err
		}
		out.Write(line)
		out.WriteByte('\n')
		if !reports {
			continue
		}
		kept, contents, err := h.store.Contents(ctx, is.ID)
		if err != nil {
			return err
		}
		for i, content := range contents {
			if seen[kept[i].Digest] {
				continue
			}
			seen[kept[i].Digest] = true
			line, err := recordfile.ContentLine(recordfile.Pack(content))
			if err != nil {
				return err
			}
			out.Write(line)
			out.WriteByte('\n')
		}
	}
	return out.Flush()
}

// ReadIn is what was read of an export.
type ReadIn struct{ Records, Reports int }

// ImportLines puts in what Export wrote, here or elsewhere. What is there already stays as it is.
func ImportLines(ctx context.Context, c Call, place Place, in io.Reader) (n ReadIn, err error) {
	h, err := openHistory(ctx, c, place, "", history.Open)
	if err != nil {
		return n, err
	}
	defer h.Close()
	lines := bufio.NewReaderSize(in, 1<<20)
	for number := 1; ; number++ {
		line, err := lines.ReadBytes('\n')
		if err != nil && err != io.EOF {
			return n, err
		}
		if line = bytes.TrimSpace(line); len(line) > 0 {
			if wrong := h.readIn(ctx, line, &n); wrong != nil {
				return n, fmt.Errorf("line %d: %w; what came before it is in", number, wrong)
			}
		}
		if err == io.EOF {
			return n, nil
		}
	}
}

func (h *History) readIn(ctx context.Context, line []byte, n *ReadIn) error {
	if recordfile.LineKind(line) == recordfile.ContentVersion {
		c, err := recordfile.ReadContentLine(line)
		if err != nil {
			return err
		}
		n.Reports++
		return h.store.Keep(ctx, c)
	}
	r, err := recordfile.ReadLine(line)
	if err != nil {
		return err
	}
	r.Imported = true
	n.Records++
	return h.store.Put(ctx, r, nil)
}

// lent are recorded reports laid out in a folder, as a folder of reports by commit.
type lent struct {
	*reportStore
	dir string
}

func (l *lent) remove() { os.RemoveAll(l.dir) }

// lend lays the recorded reports of commits out: of several records of a commit those of the last one that has any.
func (h *History) lend(ctx context.Context, commits []git.Commit) (*lent, error) {
	dir, err := os.MkdirTemp("", "zincdoor-reports-")
	if err != nil {
		return nil, err
	}
	l := &lent{dir: dir}
	if err := h.layOut(ctx, dir, commits); err != nil {
		l.remove()
		return nil, err
	}
	if l.reportStore, err = readStore(dir); err != nil {
		l.remove()
		return nil, err
	}
	return l, nil
}

func (h *History) layOut(ctx context.Context, dir string, commits []git.Commit) error {
	for _, c := range commits {
		all, err := h.List(ctx, history.Filter{Head: c.Name})
		if err != nil {
			return err
		}
		for i := len(all) - 1; i >= 0; i-- {
			reports, contents, err := h.store.Contents(ctx, all[i].ID)
			if err != nil {
				return err
			}
			if len(reports) == 0 {
				continue
			}
			for n, r := range reports {
				at := filepath.Join(dir, c.Name)
				if err := os.MkdirAll(at, 0o700); err != nil {
					return err
				}
				if err := os.WriteFile(filepath.Join(at, fileNameOf(r)), contents[n], 0o600); err != nil {
					return err
				}
			}
			break
		}
	}
	return nil
}

// fileNameOf is a name by which a folder of reports stands in for a report of the policy: its own, in what a file name can have.
func fileNameOf(r record.Report) string {
	name, _, _ := strings.Cut(r.Name, ": ") // of a report of several files, which of them
	name = strings.Map(func(c rune) rune {
		if c == '/' || c == 0 || c == '\\' {
			return '_'
		}
		return c
	}, name)
	return name + "." + r.Digest[:8]
}
