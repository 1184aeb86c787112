package gate

import (
	"cmp"
	"fmt"
	"slices"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/house"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/waiver"
	"zincdoor/internal/report"
)

// witness hears the reports: reads them, finds their paths in the repository, holds them against the tree they speak
// of, and brings their findings to the head's lines.
type witness struct {
	*scene
	request Request
	rules   *rules

	all       []*testimony
	named     map[string][]int // the lines that findings stand on, by path as the reports write it
	elsewhere bool             // some report may speak of another state than the head

	sources                map[string]bool // old paths of files that a block may have been moved from
	plain                  []change.File   // the change without regard to renames
	textsAhead, linesAhead chan error      // the ends of what is read ahead
	change                 *change.Change
	spaced                 *change.Change // with lines that differ in white space alone
	housing                chan checked
	housed                 *testimony     // our own checks, nil where none is on
	way                    *change.Change // before other sides had their share, nil where there are none
	evidence               []judge.Evidence
	findings               []finding.Finding
	notices                []string
	texts                  map[string]*source.Text    // of the head; nil for a file whose text isn't known
	waivers                map[string][]waiver.Waiver // in the head's files, as far as these were read
	signed                 map[string][]waiver.Waiver // in the changed files that no report names; once searched ends
	signing                []string                   // where everything is judged: all files that may hold one
	unsearched             int                        // how many files that would be, where they are too many
	searched               chan error                 // nil where nothing is searched ahead
	strange                []string                   // paths found nowhere
}

// testimony is one report on its way.
type testimony struct {
	from     origin
	evidence judge.Evidence
	report   *report.Report // nil where it couldn't be read
	given    []string       // the files that the linter was asked about, where it takes files
	placed   []bool         // by finding: its path is in the tree the report speaks of
	lens     *lens
}

// hear brings the reports' findings to the head: the case it returns has them, the evidence, and the change.
func (w *witness) hear() (*Result, error) {
	rules := w.rules.policy.Place
	defer func() {
		for _, t := range w.all {
			t.lens.close(w.scene)
		}
	}()
	defer w.request.begin("finding what the change touches")()
	if err := <-w.textsAhead; err != nil {
		return nil, err
	}
	if len(w.all) == 0 && !slices.Contains(w.rules.door.Needs, house.Tool) {
		w.evidence = append(w.evidence, judge.Evidence{
			State:   judge.Missing,
			Problem: "no report was given, and nothing to judge by is no pass; name one with --report FILE, or name reports and linters in the policy",
		})
	}
	if err := w.keepHouse(); err != nil {
		return nil, err
	}
	for _, t := range w.all {
		if err := w.findPlaces(t); err != nil {
			return nil, err
		}
	}
	if err := <-w.linesAhead; err != nil {
		return nil, err
	}
	if err := w.seekMoved(rules); err != nil {
		return nil, err
	}
	if err := w.readChange(rules); err != nil {
		return nil, err
	}
	for _, t := range w.all {
		if err := w.admit(t); err != nil {
			return nil, err
		}
		w.evidence = append(w.evidence, t.evidence)
	}
	w.noteStrange()
	w.findings = finding.Merge(w.findings)
	w.noteOpaque()
	if err := w.markGenerated(); err != nil {
		return nil, err
	}
	c := judge.Case{Change: w.change, Spaced: w.spaced, Findings: w.findings, Evidence: w.evidence, Notices: w.notices}
	var err error
	if c.Waivers, err = w.allWaivers(); err != nil {
		return nil, err
	}
	told := map[string]map[string]finding.Rule{}
	for _, t := range w.all {
		if t.report != nil {
			told[t.evidence.Name] = t.report.Rules
		}
	}
	return &Result{Case: c, texts: w.texts, told: told, way: cmp.Or(w.way, w.change)}, nil
}

func (w *witness) findPlaces(t *testimony) error {
	if t.report == nil {
		return nil
	}
	if err := w.focus(t); err != nil || t.lens == nil {
		return err
	}
	if err := w.place(t); err != nil || t.lens.tree != w.head {
		return err
	}
	for i := range t.report.Findings { // another spelling of the path may have asked for other lines
		f := &t.report.Findings[i]
		if text := w.texts[f.Path]; t.placed[i] && text != nil && !text.Holds(f.Region.Line) {
			delete(w.texts, f.Path)
		}
	}
	return w.fillCode(t) // now, while the lines are still being read; elsewhere once the findings stand on the head's lines
}

// fail makes the report no evidence, for the first reason that is found.
func (t *testimony) fail(state judge.State, problem string) *testimony {
	if t.evidence.Sound() {
		t.evidence.State, t.evidence.Problem = state, problem
	}
	return t
}

// readChange reads the lines of the change, as far as findings stand in its files, and settles what is touched.
func (w *witness) readChange(rules change.Rules) error {
	if w.kind == policy.Tree {
		w.change = &change.Change{Everything: true}
		return w.endSearch()
	}
	if w.diff == nil {
		w.change = change.New(w.files, rules)
		return nil
	}
	wanted := map[string]bool{}
	all := slices.ContainsFunc(w.rules.door.Limits, func(l policy.Limit) bool { return l.PerLines > 0 }) // and so how many lines are touched
	for _, t := range w.all {
		if t.report == nil || t.lens == nil {
			continue
		}
		all = all || t.lens.between != nil && !t.lens.local
		for _, f := range t.report.Findings {
			wanted[f.Path] = true
			for _, flow := range f.Details().Flows {
				for _, step := range flow {
					wanted[step.Path] = rules.Flows || wanted[step.Path]
				}
			}
		}
	}
	if err := w.endSearch(); err != nil {
		return err
	}
	return w.readLines(rules, func(f change.File) bool {
		return all || wanted[f.Path] || w.sources[f.Old] || len(w.signed[f.Path]) > 0
	})
}

func (w *witness) readLines(rules change.Rules, wanted func(f change.File) bool) error {
	if err := w.diff.Fill(wanted); err != nil {
		return err
	}
	files, notices, err := w.diff.Lines()
	if err != nil {
		return err
	}
	w.notices = append(w.notices, notices...)
	w.change = change.New(slices.Clone(files), rules)
	if !rules.CountSpace && w.housed != nil {
		spaced := rules
		spaced.CountSpace = true
		w.spaced = change.New(slices.Clone(files), spaced)
	}
	if len(w.others) > 0 {
		w.way = &change.Change{Files: slices.Clone(w.change.Files)}
	}
	if err := w.narrow(w.change, rules); err != nil {
		return err
	}
	if w.spaced != nil {
		spaced := rules
		spaced.CountSpace = true
		if err := w.narrow(w.spaced, spaced); err != nil {
			return err
		}
		w.spaced.DropTexts()
	}
	w.change.DropTexts()
	return nil
}

// narrow leaves out of the change what one of the further old sides brings along.
func (w *witness) narrow(way *change.Change, rules change.Rules) error {
	for _, other := range w.others {
		if way == nil || len(way.Files) == 0 {
			return nil
		}
		if !other.Started() {
			other.Start(true)
		}
		files, _, err := other.Lines()
		if err != nil {
			return err
		}
		way.Narrow(change.New(slices.Clone(files), rules))
	}
	return nil
}

// admit checks a report against the tree it speaks of and takes its findings over, on the head's lines.
func (w *witness) admit(t *testimony) error {
	if t.report == nil || t.lens == nil {
		return nil
	}
	if err := w.verify(t); err != nil {
		return err
	}
	if err := w.checkAge(t); err != nil {
		return err
	}
	if t.evidence.State == judge.Foreign {
		return nil
	}
	if t.lens.local {
		if err := w.compareLocally(t); err != nil {
			return err
		}
	}
	apart := t.lens.apart(w)
	if apart != "" {
		t.fail(judge.Foreign, apart)
		if !t.lens.local {
			return nil
		}
	}
	lost := 0
	kept, placed := t.report.Findings[:0], t.placed[:0]
	for i := range t.report.Findings {
		f := &t.report.Findings[i]
		if t.placed[i] && !t.lens.carry(f, w.change) {
			lost++
			continue
		}
		if len(kept) != i {
			kept = append(kept, *f)
		} else {
			kept = kept[:i+1]
		}
		placed = append(placed, t.placed[i])
	}
	t.report.Findings, t.placed = kept, placed
	if t.lens.tree != w.head {
		if err := w.fillCode(t); err != nil {
			return err
		}
	}
	if w.findings == nil {
		w.findings = kept
	} else {
		w.findings = append(w.findings, kept...)
	}
	if lost > 0 {
		w.notices = append(w.notices, fmt.Sprintf("%s: left out, since the judged state doesn't have their lines: %s", t.evidence.Name, finding.Count(lost)))
	}
	return nil
}

// verify holds the report against the text it was made from: a finding past the end of its file, or quoting code that
// isn't there, shows that it was made from another one.
func (w *witness) verify(t *testimony) error {
	for i := range t.report.Findings {
		f := &t.report.Findings[i]
		if !t.placed[i] || f.Region.Line == 0 {
			continue
		}
		text, err := t.lens.text(f.Path)
		if err != nil {
			return err
		}
		if text == nil || text.IsPointer() {
			continue
		}
		const again = "the report was made from another text; run the linter on this one"
		past := f.Region.Line > text.Len()+1
		if (past || !quotes(text.Line(f.Region.Line), f.Snippet)) && t.lens.isLink(f.Path) {
			continue
		}
		if past {
			t.fail(judge.Foreign, fmt.Sprintf("a finding stands at %s:%d, but the file has %d lines: %s", f.Path, f.Region.Line, text.Len(), again))
			return nil
		}
		if !quotes(text.Line(f.Region.Line), f.Snippet) {
			t.fail(judge.Foreign, fmt.Sprintf("it quotes %q at %s:%d, but the line is %q: %s",
				clip(source.Collapse(f.Snippet)), f.Path, f.Region.Line, clip(source.Collapse(text.Line(f.Region.Line))), again))
			return nil
		}
	}
	return nil
}

// noteOpaque brings findings in a changed submodule to the change, and tells which files count as touched as a whole
// because their lines can't be known.
func (w *witness) noteOpaque() {
	seen := map[string]bool{}
	for i := range w.findings {
		f := &w.findings[i]
		file := w.change.File(f.Path)
		if file == nil {
			if file = w.change.InSubmodule(f.Path); file != nil {
				f.Outside = false
			}
		}
		if file != nil && file.Opaque != "" && file.Status != change.Deleted && !seen[file.Path] {
			seen[file.Path] = true
			w.notices = append(w.notices, fmt.Sprintf("all of %s counts as touched, since its lines can't be told apart: it is %s", file.Path, file.Opaque))
		}
	}
}

// noteStrange tells of paths that were found nowhere.
func (w *witness) noteStrange() {
	if len(w.strange) == 0 {
		return
	}
	slices.Sort(w.strange)
	w.notices = append(w.notices, fmt.Sprintf("in files that are not in the repository, so taken as elsewhere: %s (%s)",
		finding.Count(len(w.strange)), clipList(slices.Compact(w.strange))))
}

// fillCode gives a report's findings the code they stand on, as the head has it.
func (w *witness) fillCode(t *testimony) error {
	for i := range t.report.Findings {
		f := &t.report.Findings[i]
		if !t.placed[i] {
			continue
		}
		text, err := readText(w.head, w.texts, f.Path)
		if err != nil {
			return err
		}
		if text != nil && !text.IsPointer() {
			f.Code = text.CodeAt(f.Region.Line)
		}
	}
	return nil
}

// readText reads a file's text and remembers it; nil where there is no such file.
func readText(from reader, texts map[string]*source.Text, path string) (*source.Text, error) {
	text, known := texts[path]
	if known {
		return text, nil
	}
	data, found, err := from.Read(path)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	if found {
		text = source.New(data)
	}
	texts[path] = text
	return text, nil
}

func clip(s string) string {
	if r := []rune(s); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return s
}
