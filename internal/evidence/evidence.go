// Package evidence knows the reports that a change is judged by: it reads them, or starts the linters that make them, finds
// their paths in the tree they speak of, brings their findings to the lines of the judged state, and settles which of them
// are to be believed. It takes the policy as a value, and doesn't know whose it is.
package evidence

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/measure"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/source"
	"zincdoor/internal/core/waiver"
	"zincdoor/internal/lint"
	"zincdoor/internal/seal"
	"zincdoor/internal/sealed"
	"zincdoor/internal/target"
)

// File is a report that the call gives.
type File struct {
	Name string // a format, or a report of the policy that it stands in for; "" to find the format out
	Path string // from the folder of the call; "-" for standard input
}

// Given are the reports of the call, and what it says of them.
type Given struct {
	Dir          string // where the call is made
	Files        []File
	Commit       string // the revision that reports without a word of their own were made at
	Root         string // where the reports' paths start: a folder of the repository, or its root on another machine
	EmptyIsClean bool   // a report called diagnostics, or by a recipe for text, that is empty means a tool that found nothing
	Alone        bool   // the report files that the policy names aren't looked for
	Start        bool   // with Alone: its linters are started and our own checks made all the same
	Sent         bool   // reports were sent from elsewhere: one that isn't given is looked for nowhere, and no linter is started
	Stdin        io.Reader
}

// Request is what to collect, and for what.
type Request struct {
	Target *target.Target
	Policy *policy.Policy
	Door   policy.Door
	Given  Given

	BuiltIn bool          // the policy is the built-in one, whose house checks nobody asked for
	Trusted target.State  // whose tree has the linters' own files; without a side, the judged one
	Depends string        // what a linter's answers depend on beside its files: the policy, as a text
	Refusal func() string // why nothing that the policy names may be started, "" where it may
	Fresh   bool          // linters are asked anew, whatever they answered before
	Lines   bool          // the lines around findings will be asked for
	Spaces  bool          // which lines differ in white space alone will be asked for, whatever was found

	// Keep gives what takes the content of a report that is a file, as it is read; nil where none is kept. It is called once for a
	// report, and told whether all of it was read.
	Keep func(name, format string) (to io.Writer, end func(whole bool))

	Sealed  *sealed.Statements // what is sealed of the target; nil where nobody asks for seals
	Digests bool               // Collected.Contents is asked for
	Tell    func(lint.Step)

	Starts func(policy.Report) bool // which linters may be started where their answer isn't known; nil for all
	Words  *Vocabulary              // what spelling remembers from one call to the next; nil for nothing

	only map[string]bool // the files that our own checks look at, which look at no tree then; nil for all
}

// Collected is what was collected: finished values, which nothing writes to any more.
type Collected struct {
	Change *change.Change
	Whole  *change.Change // the change before further old sides had their share; the same where there are none
	Spaced *change.Change // Change with lines that differ in white space alone; nil where nobody needs it

	Findings []finding.Finding // on the lines of the judged state, merged, in finding.Order
	Evidence []judge.Evidence
	Coverage *measure.Reported // on the lines of the judged state; nil where no report of it is believed
	Words    int               // that the change adds to the team's own, and that count
	Waivers  []waiver.Waiver   // in the code, sorted by path and line; none where the door takes none
	Notices  []string

	Waiting []string // the linters that might not be started and whose answer isn't known

	Contents []seal.Report // what was read, by the names of the evidence

	Texts map[string]*source.Text            // the files that findings stand in, as far as they were read
	Rules map[string]map[string]finding.Rule // what tools say of their rules, by report and rule

	miscut map[string]string // files whose lines a tool may number otherwise, and why
}

// begin reports that some work begins; what it returns reports that it has ended.
func (q Request) begin(what string) (end func()) {
	if q.Tell == nil {
		return func() {}
	}
	q.Tell(lint.Step{Name: what})
	return func() { q.Tell(lint.Step{Name: what, Ended: true}) }
}

// later starts work in the group. What it returns waits for the result, and may be called by one goroutine, any number of
// times. The group's Wait tells the error too.
func later[T any](group *errgroup.Group, work func() (T, error)) func() (T, error) {
	var result T
	var err error
	done := make(chan struct{})
	group.Go(func() error {
		defer close(done)
		result, err = work()
		return err
	})
	return func() (T, error) {
		<-done
		return result, err
	}
}

// Collect collects the evidence. All that runs side by side is started here and has ended when Collect returns: house checks
// beside the reading of reports; then, while paths are looked up, the texts that reports name, the change's lines there, and
// the search for waivers elsewhere.
func Collect(ctx context.Context, q Request) (*Collected, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	group, ctx := errgroup.WithContext(ctx)
	all, err := q.collect(ctx, group)
	if err != nil {
		cancel()
	}
	if waited := group.Wait(); waited != nil && (err == nil || errors.Is(err, context.Canceled)) {
		err = waited
	}
	if err != nil {
		return nil, err
	}
	return all, nil
}

func (q Request) collect(ctx context.Context, group *errgroup.Group) (*Collected, error) {
	origins, err := q.origins()
	if err != nil {
		return nil, err
	}
	checked := func() (*houseReport, error) { return nil, nil }
	if q.checksHouse() {
		checked = later(group, func() (*houseReport, error) { return q.checkHouse(ctx) })
	}
	reports, notices, err := q.read(ctx, origins)
	if err != nil {
		return nil, err
	}
	c := &collector{Request: q, reports: reports, notices: notices, named: namedLines(reports), miscut: map[string]string{}}
	ahead := !q.Target.IsPatch && !q.Target.Local() // else little is read as a rule, and when it is needed
	first, texts := func() (*firstLines, error) { return nil, nil }, func() (*headTexts, error) { return newHeadTexts(q.Target.Tree), nil }
	if ahead || !q.Target.IsPatch && len(c.named) >= manyFiles {
		texts = later(group, func() (*headTexts, error) { return c.readTexts() })
	}
	if ahead {
		first = later(group, func() (*firstLines, error) { return c.readLines() })
	}
	if ahead && c.strange() {
		c.paths = later(group, q.Target.Tree.Paths)
	} else {
		c.paths = sync.OnceValues(q.Target.Tree.Paths)
	}
	searched := func() (*search, error) { return &search{}, nil }
	if c.searches() {
		searched = later(group, c.search)
	}
	if none, err := q.nothingStaged(); none != nil || err != nil {
		return none, err
	}
	return c.collect(checked, texts, first, searched)
}

// manyFiles is from how many files with findings on their texts are read ahead whatever is judged.
const manyFiles = 500

// nothingStaged is what is collected where a commit is judged that would be empty, nil otherwise.
func (q Request) nothingStaged() (*Collected, error) {
	if q.Target.Kind != policy.Staged {
		return nil, nil
	}
	files, err := q.Target.Files()
	if err != nil || len(files) > 0 {
		return nil, err
	}
	none := &change.Change{}
	return &Collected{Change: none, Whole: none, Notices: []string{"nothing is staged, so there is nothing to judge; stage files with git add, or judge the work tree: --worktree"}}, nil
}

// collector brings the reports together. It is used by one goroutine.
type collector struct {
	Request
	reports []*reading
	notices []string
	named   map[string][]int // the lines that findings stand on, by path as the reports write it
	texts   *headTexts

	unknown []string                 // paths that were found nowhere
	changed map[string]change.Status // what changedFiles gives, nil until it is asked for
	paths   func() ([]string, error) // all files of the judged tree
	miscut  map[string]string        // files whose lines a tool may number otherwise, and why
}

// strange reports whether some path of the reports can't be one of this checkout as it stands, so that all files' names will be
// asked for.
func (c *collector) strange() bool {
	for p := range c.named {
		if path.IsAbs(p) && !strings.HasPrefix(p, filepath.ToSlash(c.Target.Root)+"/") {
			return true
		}
	}
	return false
}

// filesOf lists all files of a tree.
func (c *collector) filesOf(tree target.Tree) ([]string, error) {
	if tree == c.Target.Tree {
		return c.paths()
	}
	return tree.Paths()
}

// namedLines are the lines that findings stand on, by path as the reports write it.
func namedLines(reports []*reading) map[string][]int {
	named := map[string][]int{}
	for _, r := range reports {
		if r.report == nil {
			continue
		}
		for _, f := range r.report.Findings {
			named[f.Path] = append(named[f.Path], f.Region.Line)
		}
	}
	return named
}

// elsewhere reports whether some report may speak of another state than the judged one.
func (c *collector) elsewhere() bool {
	return c.Given.Commit != "" || slices.ContainsFunc(c.reports, func(r *reading) bool { return r.report != nil && r.report.Commit != "" })
}

// cutsTexts reports whether no more of a text is needed than the lines that findings stand on.
func (c *collector) cutsTexts() bool { return !c.elsewhere() && !c.Lines }

func (c *collector) collect(checked func() (*houseReport, error), texts func() (*headTexts, error), first func() (*firstLines, error), searched func() (*search, error)) (*Collected, error) {
	defer c.begin("finding what the change touches")()
	defer func() {
		for _, r := range c.reports {
			r.tree.close(c.Target.Tree)
		}
	}()
	var err error
	if c.texts, err = texts(); err != nil {
		return nil, err
	}
	all := &Collected{}
	if len(c.reports) == 0 && !c.Door.NeedsOwn() && len(c.Door.Verdicts) == 0 {
		all.Evidence = append(all.Evidence, judge.Evidence{
			State:   judge.Missing,
			Problem: "there is no report to judge by, e.g. --report FILE, or reports: in the policy",
		})
	}
	ours, err := checked()
	if err != nil {
		return nil, err
	}
	if ours != nil {
		all.Words = ours.words
		c.notices = append(c.notices, ours.notices...)
		c.reports = append(c.reports, ours.reading)
	}
	for _, r := range c.reports {
		if err := c.findPlaces(r); err != nil {
			return nil, err
		}
	}
	known, err := first()
	if err != nil {
		return nil, err
	}
	suspected, err := c.seekMoved(known)
	if err != nil {
		return nil, err
	}
	elsewhere, err := searched()
	if err != nil {
		return nil, err
	}
	c.noteSearch(elsewhere)
	lines, err := c.readChange(suspected, elsewhere, ours != nil && (c.Spaces || ours.aboutSpace()))
	if err != nil {
		return nil, err
	}
	all.Change, all.Whole, all.Spaced = lines.change, lines.whole, lines.spaced
	for _, r := range c.reports {
		findings, err := c.believe(r, all.Change)
		if err != nil {
			return nil, err
		}
		if all.Findings == nil {
			all.Findings = findings
		} else {
			all.Findings = append(all.Findings, findings...)
		}
		if r.report == nil {
			r.state.Covers = r.coverUnread()
		} else if r.report.Coverage != nil && r.state.Sound() {
			all.addCoverage(r)
		}
		all.Evidence = append(all.Evidence, r.state)
		all.addContent(r)
		if r.waits {
			all.Waiting = append(all.Waiting, r.state.Name)
		}
	}
	all.miscut = c.miscut
	all.hide(c.miscut)
	c.noteUnknown()
	all.Findings = finding.Merge(oncePerFile(all.Findings, all.Change))
	c.noteOpaque(all)
	if err := c.markGenerated(all); err != nil {
		return nil, err
	}
	if all.Waivers, err = c.waivers(all, elsewhere); err != nil {
		return nil, err
	}
	all.Rules = map[string]map[string]finding.Rule{}
	for _, r := range c.reports {
		if r.report != nil {
			all.Rules[r.state.Name] = r.report.Rules
		}
	}
	all.Notices, all.Texts = c.notices, c.texts.read
	return all, nil
}

// hide makes files count as touched as a whole, for reasons.
func (c *Collected) hide(why map[string]string) {
	for path, why := range why {
		for _, form := range []*change.Change{c.Change, c.Whole, c.Spaced} {
			if form != nil {
				form.Hide(path, why)
			}
		}
	}
}

// noteOpaque brings findings in a changed submodule to the change, and says which files count as touched as a whole because
// their lines can't be known.
func (c *collector) noteOpaque(all *Collected) {
	if !slices.ContainsFunc(all.Change.Files, func(f change.File) bool { return f.Opaque != "" }) {
		return
	}
	seen := map[string]bool{}
	var file *change.File // that holds the last path
	for i := range all.Findings {
		f := &all.Findings[i]
		if i == 0 || f.Path != all.Findings[i-1].Path {
			file = all.Change.Holding(f.Path)
		}
		if file != nil && file.Path != f.Path { // a submodule
			f.Outside = false
		}
		if file != nil && file.Opaque != "" && file.Status != change.Deleted && !seen[file.Path] {
			seen[file.Path] = true
			c.notices = append(c.notices, fmt.Sprintf("all lines of %s count as changed, since its lines can't be told apart: it is %s", file.Path, file.Opaque))
		}
	}
}

// noteUnknown reports the paths that were found nowhere.
func (c *collector) noteUnknown() {
	if len(c.unknown) == 0 {
		return
	}
	slices.Sort(c.unknown)
	c.notices = append(c.notices, fmt.Sprintf("%s in files outside of the repository, placed elsewhere (%s)",
		finding.Count(len(c.unknown)), target.ClipList(slices.Compact(c.unknown))))
}

// headTexts are the files of the judged state, as far as they were read.
type headTexts struct {
	tree    target.Tree
	read    map[string]*source.Text    // nil for a file that isn't there; some cut down to the lines that are asked for
	waivers map[string][]waiver.Waiver // of the files that were looked through
}

func newHeadTexts(tree target.Tree) *headTexts {
	return &headTexts{tree: tree, read: map[string]*source.Text{}, waivers: map[string][]waiver.Waiver{}}
}

// of is a file's text, nil where there is no such file.
func (t *headTexts) of(path string) (*source.Text, error) { return readText(t.tree, t.read, path) }

// wholeText is all of a file's text, nil where there is no such file.
func (t *headTexts) wholeText(path string) (*source.Text, error) {
	if text := t.read[path]; text != nil && text.Whole() {
		return text, nil
	}
	data, found, err := t.tree.Read(path)
	if err != nil || !found {
		return nil, err
	}
	return source.New(data), nil
}

// waiversOf are the waivers of a file. The text must be whole.
func waiversOf(path string, text *source.Text) []waiver.Waiver {
	if !waiver.In(text.Data()) || text.IsPointer() {
		return nil
	}
	return waiver.Find(path, text)
}

// readTexts reads the texts that reports name just as the repository does.
func (c *collector) readTexts() (*headTexts, error) {
	t := newHeadTexts(c.Target.Tree)
	t.read, t.waivers = make(map[string]*source.Text, len(c.named)), make(map[string][]waiver.Waiver, len(c.named))
	// Where what is staged is judged, reports may speak of the work tree, and so of other lines.
	cut, diff := c.cutsTexts() && c.Target.Kind != policy.Staged, c.Target.Diff
	var mutex sync.Mutex
	return t, t.tree.ReadAll(slices.Sorted(maps.Keys(c.named)), func(path string, data []byte) {
		text := source.Glimpse(data)
		waivers := waiversOf(path, text)
		if cut && !text.IsPointer() && !text.MayBeLink() && (diff == nil || !diff.IsFresh(path)) {
			text = text.Only(c.named[path]) // no more is kept than will be asked for
		} else {
			text = source.New(bytes.Clone(data))
		}
		mutex.Lock()
		defer mutex.Unlock()
		t.read[path], t.waivers[path] = text, waivers
	})
}

// readText reads a file's text and remembers it; nil where there is no such file.
func readText(from target.Tree, texts map[string]*source.Text, path string) (*source.Text, error) {
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

// clip shortens a text for a message.
func clip(s string) string {
	if r := []rune(s); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return s
}

func words(command []string) string { return clip(strings.Join(command, " ")) }
