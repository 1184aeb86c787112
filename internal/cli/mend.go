package cli

import (
	"bufio"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/fixing"
	"zincdoor/internal/gate"
	"zincdoor/internal/render"
)

// mendFlags are the flags of zincdoor fix.
type mendFlags struct {
	evidence                              evidenceFlags
	change                                changeFlags
	choose                                chooseFlags
	door                                  string
	write, broken, all, ask, undo, byDoor bool
	again                                 string // the call that writes what this one shows
}

func (p *program) mend() *cobra.Command {
	var flags mendFlags
	cmd := &cobra.Command{
		Use:   "fix",
		Short: "Mend what can be mended by machine, on the lines of the change alone",
		Long: `Mend findings for which their tools, our own checks or the team's patterns suggest a text: those on lines that the
change touches, and no other line. Without --write it shows what it would do, and writes nothing.

  zincdoor fix --report lint.sarif                  # what isn't committed yet
  zincdoor fix --staged --report lint.sarif --write # index and work tree alike
  zincdoor fix --undo                               # take the last one back

With --staged a file that is staged in part keeps its other part unstaged. A suggestion whose place isn't there, that overlaps
a surer one or would alter an untouched line is told of and left.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if flags.undo {
				return p.takeBack(cmd.Context())
			}
			request, err := flags.evidence.requestOf(&flags.change, cmd.Flags(), args, p.in)
			if err != nil {
				return err
			}
			switch {
			case request.Change.Kind == "":
				request.Change.Kind = policy.Worktree
			case request.Change.Patch != "" || request.Change.Kind == policy.Push || request.Change.Kind == policy.Tree && request.Change.To != "":
				return fmt.Errorf("fix mends files of the work tree or the index: name --worktree, --staged, --against REF, --range A..HEAD or --tree")
			}
			request.Door, request.AnyDoor, flags.again = flags.door, flags.door == "", again(cmd.Flags())
			return p.runMend(cmd.Context(), request, flags)
		},
	}
	f := cmd.Flags()
	f.SortFlags = false
	f.BoolVar(&flags.write, "write", false, "write what it shows")
	f.BoolVar(&flags.broken, "broken", false, "only what broke a limit of the door")
	f.BoolVar(&flags.all, "all", false, "also on lines that the change doesn't touch")
	f.BoolVar(&flags.ask, "interactive", false, "ask for each of them")
	f.BoolVar(&flags.undo, "undo", false, "take back what was written last, as long as nothing was altered since")
	f.BoolVar(&flags.byDoor, "by-door", false, "do nothing unless the door says mend: true, as hooks ask")
	f.StringVar(&flags.door, "door", "", "the `NAME` of the door whose limits count")
	flags.choose.add(f)
	flags.change.add(f)
	flags.evidence.add(f)
	return cmd
}

func (p *program) takeBack(ctx context.Context) error {
	dir, err := workingDir()
	if err != nil {
		return err
	}
	w, err := fixing.Open(ctx, dir, policy.Worktree)
	if err != nil {
		return unjudged{err}
	}
	defer w.Close()
	paths, err := w.Undo()
	if err != nil {
		return err
	}
	for _, path := range paths {
		fmt.Fprintf(p.out, "%s is as it was before\n", render.Safe(path))
	}
	return nil
}

func (p *program) runMend(ctx context.Context, q gate.Request, flags mendFlags) error {
	results, err := p.gather(ctx, q)
	if err != nil {
		return err
	}
	r := results[0]
	if flags.byDoor && !r.Case.Door.Mend {
		return nil
	}
	v := judge.Judge(r.Case)
	selector, err := flags.choose.ready(r.Case.Policy)
	if err != nil {
		return err
	}
	w, err := fixing.Open(ctx, q.Dir, q.Change.Kind)
	if err != nil {
		return unjudged{err}
	}
	defer w.Close()
	m := &mending{program: p, flags: flags, result: r, verdict: v, shop: w}
	chosen := m.choose(&selector)
	offers, problems, err := w.ByTools(ctx, r.Case.Policy, r.Refused, m.files())
	if err != nil {
		return unjudged{err}
	}
	for _, problem := range problems {
		fmt.Fprintf(p.err, "zincdoor: %s\n", render.Safe(problem))
	}
	if offers = append(m.offers(chosen), offers...); flags.ask {
		if offers, err = m.ask(offers); err != nil {
			return err
		}
	}
	may := r.TouchedAtAll
	if flags.all {
		may = func(string, int) bool { return true }
	}
	plan := fix.Choose(offers, w.Text, may)
	files, aside, err := w.Ready(plan)
	if err != nil {
		return unjudged{err}
	}
	return m.tell(plan, files, aside, chosen)
}

// mending is one call of fix.
type mending struct {
	*program
	flags   mendFlags
	result  *gate.Result
	verdict judge.Verdict
	shop    *fixing.Shop
}

// choose picks the findings to mend: on lines of the change, not set aside, from reports that are evidence.
func (m *mending) choose(selector *policy.Selector) (chosen []int) {
	for _, e := range m.verdict.Evidence {
		if !e.Sound() && e.Name != "" {
			fmt.Fprintf(m.err, "zincdoor: what %s would tell may be missing, since it is %s: %s\n", render.Safe(e.Name), e.State, render.Safe(e.Problem))
		}
	}
	broke := m.verdict.Broken()
	for i, f := range m.verdict.Findings {
		aside := f.Standing == judge.Accepted || f.Standing == judge.Waived
		touched := f.Place == change.OnTouched || m.flags.all && !f.Outside
		if touched && !aside && (!m.flags.broken || slices.Contains(broke, i)) && m.flags.choose.takes(selector, f) {
			chosen = append(chosen, i)
		}
	}
	return chosen
}

// files are those that the chosen findings, or the change, speak of.
func (m *mending) files() (paths []string) {
	for _, f := range m.result.Case.Change.Files {
		if f.Status != change.Deleted && f.Opaque == "" {
			paths = append(paths, f.Path)
		}
	}
	for _, f := range m.verdict.Findings {
		if m.result.Case.Change.Everything && f.Path != "" && !f.Outside {
			paths = append(paths, f.Path)
		}
	}
	slices.Sort(paths)
	return slices.Compact(paths)
}

// offers are what is suggested for findings: by our own checks first, which are surest, then by the tools.
func (m *mending) offers(chosen []int) (offers []fix.Offer) {
	for _, ours := range []bool{true, false} {
		for _, i := range chosen {
			f := m.verdict.Findings[i]
			if fixes := f.Details().Fixes; (f.Tool == house.Tool) == ours && len(fixes) > 0 {
				offers = append(offers, fix.Offer{Index: i, Tool: f.Tool, Edits: fixes[0].Edits, Columns: f.Columns})
			}
		}
	}
	return offers
}

// ask lets the person at the terminal pick.
func (m *mending) ask(offers []fix.Offer) (agreed []fix.Offer, err error) {
	answers := bufio.NewReader(m.in)
	for n, o := range offers {
		single := fix.Choose([]fix.Offer{o}, m.shop.Text, func(string, int) bool { return true })
		for path, pieces := range single.Pieces {
			old := m.shop.Text(path).Data
			if err := render.Diff(m.out, path, old, fix.Apply(old, pieces)); err != nil {
				return nil, err
			}
		}
		fmt.Fprintf(m.err, "%d of %d: mend this? [y]es, [n]o, [a]ll from here, [q]uit ", n+1, len(offers))
		answer, err := answers.ReadString('\n')
		switch strings.ToLower(strings.TrimSpace(answer)) {
		case "y", "yes":
			agreed = append(agreed, o)
		case "a", "all":
			return append(agreed, offers[n:]...), nil
		case "q", "quit":
			return agreed, nil
		}
		if err != nil {
			return agreed, nil // nobody answers any more
		}
	}
	return agreed, nil
}

// tell shows what is done, or would be, and writes it where that is asked for.
func (m *mending) tell(plan *fix.Plan, files []fixing.Mended, aside map[string]string, chosen []int) error {
	for _, f := range files {
		if err := render.Diff(m.out, f.Path, f.Old, f.New); err != nil {
			return err
		}
	}
	mended, byTool := map[string]int{}, 0
	done := map[int]bool{}
	left := slices.Clone(plan.Left)
	for _, i := range plan.Taken {
		if i < 0 {
			byTool++
			continue
		}
		f := m.verdict.Findings[i]
		if why := aside[f.Path]; why != "" {
			left = append(left, fix.Left{Index: i, Why: f.Path + ": " + why})
			continue
		}
		done[i] = true
		mended[f.Rule]++
	}
	offered := map[int]bool{}
	for _, l := range left {
		offered[l.Index] = true
	}
	none := map[string]int{}
	for _, i := range chosen {
		if !done[i] && !offered[i] {
			none[m.verdict.Findings[i].Rule]++
		}
	}
	summary := render.Mending{Mended: mended, ByTools: byTool, None: none, Files: len(files), Written: m.flags.write && len(files) > 0}
	for _, l := range left {
		if l.Index >= 0 {
			summary.Left = append(summary.Left, render.LeftOver{Finding: m.verdict.Findings[l.Index], Why: l.Why})
		}
	}
	for _, i := range m.verdict.Broken() {
		summary.Before++
		if !done[i] {
			summary.After++
		}
	}
	if m.flags.all {
		summary.Untouched = m.untouched(plan, files)
	}
	summary.Command = m.flags.again
	if summary.Written {
		if err := m.shop.Write(files); err != nil {
			return unjudged{err}
		}
		summary.House = m.houseAfter(files)
	}
	return render.Mend(m.out, summary)
}

// untouched counts the lines beyond the change that are altered.
func (m *mending) untouched(plan *fix.Plan, files []fixing.Mended) (n int) {
	for _, f := range files {
		lines := map[int]bool{}
		for _, piece := range plan.Pieces[f.Path] {
			first, last := fix.Lines(f.Old, piece)
			for line := first; line <= last; line++ {
				lines[line] = lines[line] || !m.result.TouchedAtAll(f.Path, line)
			}
		}
		for _, beyond := range lines {
			if beyond {
				n++
			}
		}
	}
	return n
}

// houseAfter are what our own checks find in the mended files that they didn't before.
func (m *mending) houseAfter(files []fixing.Mended) (fresh []finding.Finding) {
	for _, f := range files {
		settings := m.result.Case.Policy.HouseFor(f.Path)
		had := map[string]int{}
		for _, before := range house.Check(house.File{Path: f.Path, Data: f.Old, Size: int64(len(f.Old))}, settings) {
			had[before.Rule]++
		}
		for _, after := range house.Check(house.File{Path: f.Path, Data: f.New, Size: int64(len(f.New))}, settings) {
			if had[after.Rule]--; had[after.Rule] < 0 {
				fresh = append(fresh, after)
			}
		}
	}
	return fresh
}

// again is how a call is made again so that it writes: by the flags that it was given.
func again(f *pflag.FlagSet) string {
	words := []string{"zincdoor", "fix"}
	f.Visit(func(given *pflag.Flag) {
		name := "--" + given.Name
		switch value := given.Value.(type) {
		case pflag.SliceValue:
			for _, one := range value.GetSlice() {
				words = append(words, name, one)
			}
		default:
			if given.Value.Type() != "bool" {
				words = append(words, name, given.Value.String())
			} else if given.Value.String() == "true" {
				words = append(words, name)
			}
		}
	})
	return render.ShellWords(append(words, "--write"))
}

// fixCommand is the call of fix that mends what shut the door at a call of gate, "" where fix can't.
func fixCommand(change changeFlags, evidence evidenceFlags, door string) string {
	if change.push || change.patch != "" {
		return ""
	}
	words := append([]string{"zincdoor", "fix", "--broken"}, changeWords(change)...)
	if door != "" {
		words = append(words, "--door", door)
	}
	for _, r := range evidence.reports {
		words = append(words, "--report", r)
	}
	if evidence.run {
		words = append(words, "--run")
	}
	return render.ShellWords(append(words, "--write"))
}

// changeWords are the flags by which a change was named.
func changeWords(c changeFlags) (words []string) {
	switch {
	case c.staged:
		return []string{"--staged"}
	case c.tree:
		return []string{"--tree"}
	case c.against != "":
		return []string{"--against", c.against}
	case c.span != "":
		return []string{"--range", c.span}
	}
	return nil
}
