package lint

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/memory"
	"zincdoor/internal/report"
)

// The bounds of one start.
const (
	mostArguments = 96 << 10 // bytes of file names, which every system takes
	fewFiles      = 8        // that are not worth a second process
)

// Do starts a plan's linter on what isn't known, and gives all it says.
func (r *Runner) Do(p *Plan) Result {
	res := Result{Given: p.Given, Kept: len(p.Given) - len(p.Asked)}
	if p.Skipped() {
		res.Skipped, res.Report = true, &report.Report{Format: p.Terms.As}
		return res
	}
	if p.complete() {
		if res.Report = p.recalled(nil); res.Report != nil {
			res.Known = true
			return res
		}
		p.Asked, res.Kept = p.Given, 0
	}
	if p.known != nil {
		r.ahead.Go(func() { p.known.base() }) // which is needed to remember what it says
	}
	r.tell(Step{Name: p.Terms.Name})
	began := time.Now()
	fresh, read := r.ask(p, &res)
	if fresh != nil {
		if res.Report = p.recalled(fresh); res.Report == nil {
			res.Problem = "its kept answers are broken; run again with --no-cache"
		} else if p.known != nil && res.Problem == "" && res.Broken == nil {
			res.Forgotten = p.remember(fresh, read)
		}
	}
	note := fmt.Sprintf("ran %s", time.Since(began).Round(time.Millisecond*10))
	switch {
	case res.Problem != "" || res.Broken != nil:
		note = "failed after " + strings.TrimPrefix(note, "ran ")
	case res.Kept > 0:
		note += fmt.Sprintf(", %d of %d files known", res.Kept, len(p.Given))
	}
	r.tell(Step{Name: p.Terms.Name, Ended: true, Note: note})
	return res
}

func (r *Runner) tell(s Step) {
	if r.Tell != nil {
		r.Tell(s)
	}
}

// ask starts the linter, in as many processes as its files need, and reads what they find, and of which files they say that
// they read them. The report is nil where nothing could be read.
func (r *Runner) ask(p *Plan, res *Result) (*report.Report, Reads) {
	s, err := r.site(p)
	if err != nil {
		res.Problem = fmt.Sprintf("no copy can be made for it: %v", err)
		return nil, nil
	}
	run := p.Terms.Run
	batches := [][]string{nil}
	if run.TakesFiles() {
		batches = r.batches(p)
	}
	outcomes := make([]Outcome, len(batches))
	reports := make([]*report.Report, len(batches))
	broken := make([]error, len(batches))
	reads := make([]Reads, len(batches))
	var wait sync.WaitGroup
	var oneByOne sync.Mutex
	for i, files := range batches {
		wait.Go(func() {
			if len(p.Terms.Files) > 0 { // which the next process would overwrite
				oneByOne.Lock()
				defer oneByOne.Unlock()
			}
			outcomes[i] = r.bench.Run(r.Context, r.task(p, s, files))
			if outcomes[i].Problem == "" {
				reports[i], broken[i] = r.read(p, outcomes[i], s)
				reads[i] = s.readRules(outcomes[i].Reads, run.Folder)
			}
			if said := reports[i]; said != nil && len(said.Findings) == 0 && said.Whole() && run.TellsOfFindings(outcomes[i].Code) {
				outcomes[i].Problem = fmt.Sprintf("it ended with code %d, which means that it found something, and its output has no finding", outcomes[i].Code)
			}
		})
	}
	wait.Wait()
	var all *report.Report
	read := Reads{}
	for i := range batches {
		switch {
		case outcomes[i].Problem != "":
			if res.Problem == "" {
				res.Problem = strings.ReplaceAll(outcomes[i].Problem, s.dir+string(filepath.Separator), "") + quoted(outcomes[i].Tail)
			}
			continue
		case broken[i] != nil:
			if res.Broken == nil {
				res.Broken = broken[i]
			}
			continue
		}
		if all == nil {
			all = reports[i]
		} else {
			all.Join(reports[i])
		}
		maps.Copy(read, reads[i])
	}
	return all, read
}

func quoted(lines []string) string {
	if len(lines) == 0 {
		return ""
	}
	return "; its last output: " + strings.Join(lines, " / ")
}

// batches cuts the files into as many lists as the length of a command line asks for; where each file is looked at by
// itself, also to keep all processors busy.
func (r *Runner) batches(p *Plan) (all [][]string) {
	files := slices.Clone(p.Asked)
	most := len(files)
	if p.Terms.Run.PerFile && len(p.Terms.Files) == 0 {
		most = max(fewFiles, (len(files)+runtime.GOMAXPROCS(0)-1)/runtime.GOMAXPROCS(0))
	}
	for len(files) > 0 {
		n, length := 0, 0
		for n < len(files) && n < most && (n == 0 || length+len(files[n]) < mostArguments) {
			length += len(files[n]) + 16
			n++
		}
		all, files = append(all, files[:n:n]), files[n:]
	}
	return all
}

// plainLocale has linters speak as they do everywhere, in UTF-8. The policy's own environment goes before it.
var plainLocale = []string{"LC_ALL=C.UTF-8", "LANGUAGE="}

func (r *Runner) task(p *Plan, s *site, files []string) Task {
	run := p.Terms.Run
	t := Task{
		Command: slices.Concat(run.Command, Arguments(run.Folder, files)), Dir: filepath.Join(s.dir, filepath.FromSlash(run.Folder)),
		Env: slices.Concat(git.Unbound(os.Environ()), plainLocale, run.Environment), Timeout: run.Timeout, Stderr: run.Output == policy.OnStderr, TellsReads: run.PerFile && !setsReads(run), Fault: func(code int) string { return faultOf(run, code) },
	}
	if len(p.Terms.Files) > 0 {
		t.File = filepath.Join(s.dir, filepath.FromSlash(p.Terms.Files[0]))
	}
	return t
}

// setsReads reports whether the policy sets for itself where a linter writes to what it reads.
func setsReads(run *policy.Run) bool {
	return slices.ContainsFunc(run.Environment, func(v string) bool { return strings.HasPrefix(v, readsVariable+"=") })
}

// faultOf says why a linter that ended with a code has no word, "" where it has.
func faultOf(run *policy.Run, code int) string {
	switch {
	case run.Declares(code):
		return ""
	case slices.Contains(run.Failed, code):
		return fmt.Sprintf("it ended with code %d, which means that it failed", code)
	}
	return fmt.Sprintf("it ended with code %d. If that means it found something, write exits: {found: %d} in its report", code, code)
}

// errEmpty is the error of an empty report whose format has no empty form.
var errEmpty = fmt.Errorf("it ended well but wrote nothing, where even a tool that found nothing writes a document: %w", report.ErrMalformed)

// read reads what one process found, with paths from the root.
func (r *Runner) read(p *Plan, o Outcome, s *site) (*report.Report, error) {
	recipe := r.Policy.Recipe(p.Terms.As)
	if o.Size == 0 {
		if p.Terms.As == policy.SARIF || recipe != nil && (recipe.As == policy.XMLText || recipe.As == policy.HTMLText) {
			return nil, errEmpty
		}
		return &report.Report{Format: p.Terms.As, Clean: true, Tools: []report.Tool{{}}}, nil
	}
	file, err := os.Open(o.Report)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	defer memory.Doing("what " + p.Terms.Name + " writes")()
	report, err := report.Read(file, report.Form{Format: p.Terms.As, Recipe: recipe, Noise: p.Terms.Noise, Flows: r.Flows})
	if err != nil {
		return nil, err
	}
	known := map[string]string{}
	root := func(named *string) {
		at, ok := known[*named]
		if !ok && *named != "" {
			at = s.rooted(p.Terms.Run.Folder, *named, report.Relative[*named])
			known[*named] = at
		}
		*named = at
	}
	report.EachPath(root)
	for i := range report.Tools {
		for j := range report.Tools[i].Targets {
			root(&report.Tools[i].Targets[j])
		}
	}
	report.Relative, report.Commit = nil, "" // it is of the state that it was started on
	return report, nil
}
