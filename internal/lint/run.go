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
	"zincdoor/internal/report"
)

// The bounds of what is kept of answers for all of the code.
const (
	mostWhole  = 16 << 20 // bytes of one
	keptWholes = 4
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
	r.tell(Step{Name: p.Terms.Name})
	began := time.Now()
	fresh := r.ask(p, &res)
	if fresh != nil {
		if res.Report = p.recalled(fresh); res.Report == nil {
			res.Problem = "what was kept of its earlier answers is broken; run again with --no-cache"
		} else if p.known != nil && res.Problem == "" && res.Broken == nil {
			p.remember(fresh)
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

// complete reports whether all of the answer seems to be known.
func (p *Plan) complete() bool {
	return p.known != nil && (p.reuse && p.known.Has(p.all) || len(p.Given) > 0 && len(p.Asked) == 0)
}

func (r *Runner) tell(s Step) {
	if r.Tell != nil {
		r.Tell(s)
	}
}

// ask starts the linter, in as many processes as its files need, and reads what they find. It is nil where nothing could
// be read.
func (r *Runner) ask(p *Plan, res *Result) *report.Report {
	s, err := r.site(p)
	if err != nil {
		res.Problem = fmt.Sprintf("the code can't be copied for it: %v", err)
		return nil
	}
	run := p.Terms.Run
	batches := [][]string{nil}
	if run.TakesFiles() {
		batches = r.batches(p)
	}
	outcomes := make([]Outcome, len(batches))
	reports := make([]*report.Report, len(batches))
	broken := make([]error, len(batches))
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
			}
			if said := reports[i]; said != nil && len(said.Findings) == 0 && said.Whole() && run.TellsOfFindings(outcomes[i].Code) {
				outcomes[i].Problem = fmt.Sprintf("it ended with code %d, by which it tells that it found something, but what it wrote holds no finding", outcomes[i].Code)
			}
		})
	}
	wait.Wait()
	var all *report.Report
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
	}
	return all
}

func quoted(lines []string) string {
	if len(lines) == 0 {
		return ""
	}
	return "; its last words: " + strings.Join(lines, " / ")
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
		Env: slices.Concat(git.Unbound(os.Environ()), plainLocale, run.Environment), Timeout: run.Timeout, Stderr: run.Output == policy.OnStderr, Fault: func(code int) string { return faultOf(run, code) },
	}
	if len(p.Terms.Files) > 0 {
		t.File = filepath.Join(s.dir, filepath.FromSlash(p.Terms.Files[0]))
	}
	return t
}

// faultOf says why a linter that ended with a code has no word, "" where it has.
func faultOf(run *policy.Run, code int) string {
	switch {
	case run.Declares(code):
		return ""
	case slices.Contains(run.Failed, code):
		return fmt.Sprintf("it ended with code %d, by which it tells that it failed", code)
	}
	return fmt.Sprintf("it ended with code %d, which doesn't tell of a good run; where it does, say exits: {found: %d} in its report", code, code)
}

// errEmpty is the error of an empty report whose format has no empty form.
var errEmpty = fmt.Errorf("it ended well but wrote nothing, where even a tool that found nothing writes a document: %w", report.ErrMalformed)

// read reads what one process found, with paths from the root.
func (r *Runner) read(p *Plan, o Outcome, s *site) (*report.Report, error) {
	recipe := r.Policy.Recipe(p.Terms.As)
	if o.Size == 0 {
		if p.Terms.As == policy.SARIF || recipe != nil && recipe.As == policy.XMLText {
			return nil, errEmpty
		}
		return &report.Report{Format: p.Terms.As, Clean: true, Tools: []report.Tool{{}}}, nil
	}
	file, err := os.Open(o.Report)
	if err != nil {
		return nil, err
	}
	defer file.Close()
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

// recall looks up which of a plan's files have a known answer.
func (r *Runner) recall(p *Plan, contents map[string]string) {
	common, err := r.common()
	program, known := r.programOf(p.Terms.Run, contents)
	if err != nil || !known {
		return
	}
	name := KeyOf(common, p.Terms.Name)
	p.known = OpenAnswers(filepath.Join(r.Store, fmt.Sprintf("%x.answers", name[:12])))
	parts := []string{r.Depends, p.Terms.Name, p.Version, program}
	for _, file := range r.inputs(p.Terms.Run, contents) {
		parts = append(parts, file, contents[file])
	}
	p.identity = KeyOf(parts...)
	everything := []string{string(p.identity[:]), "all"}
	for _, file := range p.Given {
		everything = append(everything, file, contents[file])
	}
	if !p.Terms.Run.PerFile {
		for _, file := range slices.Sorted(maps.Keys(contents)) {
			if !strings.HasPrefix(file, policy.Folder+"/") {
				everything = append(everything, "tree", file, contents[file])
			}
		}
	}
	p.all, p.reuse = KeyOf(everything...), r.Reuse || p.Terms.Run.PerFile
	if p.reuse && p.known.Has(p.all) {
		p.Asked = nil
		return
	}
	if !p.Terms.Run.PerFile {
		return
	}
	p.keys = make(map[string]Key, len(p.Given))
	for _, file := range p.Given {
		p.keys[file] = KeyOf(string(p.identity[:]), file, contents[file])
	}
	p.Asked = nil
	for _, file := range p.Given {
		if !p.known.Has(p.keys[file]) {
			p.Asked = append(p.Asked, file)
		}
	}
}

// programOf tells a linter's program apart from other versions of it, as far as its file does.
func (r *Runner) programOf(run *policy.Run, contents map[string]string) (identity string, known bool) {
	name := run.Command[0]
	if strings.Contains(name, "/") && !filepath.IsAbs(name) {
		return name, contents[filepath.ToSlash(filepath.Join(run.Folder, name))] != "" // one of its inputs
	}
	return Program(name)
}

// recalled puts what is known together with what was just found. It is nil where what is known can't be read.
func (p *Plan) recalled(fresh *report.Report) *report.Report {
	if p.known == nil {
		return fresh
	}
	if fresh == nil {
		if data, ok := p.known.Get(p.all); ok {
			report, err := report.Decode(data)
			if err == nil {
				return report
			}
		}
	}
	all := fresh
	if all == nil && p.keys == nil {
		return nil
	}
	if all == nil {
		data, ok := p.known.Get(p.frame())
		report, err := report.Decode(data)
		if !ok || err != nil {
			return nil
		}
		all = report
	}
	if p.keys == nil || len(p.Asked) == len(p.Given) {
		return all
	}
	joined := *all
	joined.Findings = slices.Clone(all.Findings)
	asked := map[string]bool{}
	for _, file := range p.Asked {
		asked[file] = true
	}
	for _, file := range p.Given {
		if asked[file] {
			continue
		}
		data, ok := p.known.Get(p.keys[file])
		if ok && len(data) == 0 {
			continue
		}
		one, err := report.Decode(data)
		if !ok || err != nil {
			return nil
		}
		joined.Findings = append(joined.Findings, one.Findings...)
	}
	return &joined
}

// frame is the key of what the linter says of itself.
func (p *Plan) frame() Key { return KeyOf(string(p.identity[:]), "frame") }

// remember keeps what a linter said of each file it was asked about. Where it spoke of others too, stopped looking, or
// said what can't be read, nothing can be kept.
func (p *Plan) remember(fresh *report.Report) {
	if !fresh.Whole() || fresh.UnreadCount > 0 {
		return
	}
	if p.keys == nil {
		if data, err := fresh.Encode(); err == nil && len(data) <= mostWhole {
			p.known.Among(KeyOf("of all of the code"), p.all, data, keptWholes)
			p.known.Save()
		}
		return
	}
	apart := fresh.Apart()
	for file := range apart {
		if _, asked := slices.BinarySearch(p.Asked, file); !asked {
			return
		}
	}
	frame := *fresh
	frame.Findings = nil
	if data, err := frame.Encode(); err == nil {
		p.known.Put(p.frame(), data)
	}
	for _, file := range p.Asked {
		var data []byte
		if findings := apart[file]; len(findings) > 0 {
			var err error
			if data, err = (&report.Report{Findings: findings}).Encode(); err != nil {
				return
			}
		}
		p.known.Put(p.keys[file], data)
	}
	if whole := p.recalled(fresh); whole != nil {
		if data, err := whole.Encode(); err == nil {
			p.known.Put(p.all, data)
		}
	}
	p.known.Save() // without them they are asked for again
}
