package lint

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/report"
)

// The bounds of what is kept of answers for all of the code.
const (
	mostWhole  = 16 << 20 // bytes of one
	keptWholes = 4
)

// known is what is remembered of a linter's answers.
type known struct {
	*Answers
	inputs   []string // the files that all of its answers depend on, sorted
	content  func(file string) string
	namesOf  func() map[string][]string // the files of the state by their names without a folder
	identity Key                        // of all that an answer depends on beside the file and what was read for it
	bases    map[string]Key             // by file that it is asked about: of what its answer depends on at least
	keys     map[string]Key             // the same, with what was read for it when it was last asked; nil where it isn't asked per file
	base     func() Key                 // of all files together
	all      Key                        // the same, with what was read for them; unset where it isn't reused
	reuse    bool                       // the answer for all of them may be taken for known
}

// recall looks up which of a plan's files have a known answer.
func (r *Runner) recall(p *Plan, contents map[string]string) {
	program, ok := r.programOf(p.Terms.Run, contents)
	if !ok {
		return
	}
	k := &known{inputs: r.inputs(p.Terms.Run, contents), content: contentOf(contents, p.home.dir), namesOf: sync.OnceValue(func() map[string][]string { return byName(contents) })}
	p.known = k
	name := KeyOf(r.Repo.CommonDir(), p.Terms.Name)
	k.Answers = OpenAnswers(filepath.Join(r.Store, fmt.Sprintf("%x.answers", name[:12])))
	parts := []string{r.Depends, p.Terms.Name, p.Version, program}
	for _, file := range k.inputs {
		parts = append(parts, file, contents[file])
	}
	k.identity = KeyOf(parts...)
	k.base = sync.OnceValue(func() Key { return p.keyOfAll(contents, r.Policy.Own) })
	if k.reuse = r.Reuse || p.Terms.Run.PerFile; k.reuse {
		if k.all = k.withRead(k.base(), k.readFor(k.base())); k.Has(k.all) {
			p.Asked = nil
			return
		}
	}
	if !p.Terms.Run.PerFile {
		return
	}
	k.bases, k.keys = make(map[string]Key, len(p.Given)), make(map[string]Key, len(p.Given))
	p.Asked = nil
	for _, file := range p.Given {
		base := KeyOf(string(k.identity[:]), file, contents[file])
		k.bases[file], k.keys[file] = base, k.withRead(base, k.readFor(base))
		if !k.Has(k.keys[file]) {
			p.Asked = append(p.Asked, file)
		}
	}
}

// keyOfAll is the key of the answer for all files together, but for the policy and the list, which are its own.
func (p *Plan) keyOfAll(contents map[string]string, own func(file string) bool) Key {
	everything := []string{string(p.known.identity[:]), "all"}
	for _, file := range p.Given {
		everything = append(everything, file, contents[file])
	}
	if !p.Terms.Run.PerFile {
		for _, file := range slices.Sorted(maps.Keys(contents)) {
			if !own(file) {
				everything = append(everything, "tree", file, contents[file])
			}
		}
	}
	return KeyOf(everything...)
}

// programOf tells a linter's program apart from other versions of it, as far as its file does.
func (r *Runner) programOf(run *policy.Run, contents map[string]string) (identity string, known bool) {
	name := run.Command[0]
	if strings.Contains(name, "/") && !filepath.IsAbs(name) {
		return name, contents[filepath.ToSlash(filepath.Join(run.Folder, name))] != "" // one of its inputs
	}
	return Program(name)
}

// contentOf tells the contents of a file apart: by the tree, or where the tree doesn't have it by the folder that linters are
// started in; "" where neither does, or that folder is a copy.
func contentOf(contents map[string]string, dir string) func(file string) string {
	return func(file string) string {
		if id, ok := contents[file]; ok || dir == "" {
			return id
		}
		data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(file)))
		if err != nil {
			return ""
		}
		return fmt.Sprintf("sha256:%x", sha256.Sum256(data))
	}
}

func byName(contents map[string]string) map[string][]string {
	names := make(map[string][]string, len(contents))
	for file := range contents {
		names[path.Base(file)] = append(names[path.Base(file)], file)
	}
	for _, files := range names {
		slices.Sort(files)
	}
	return names
}

// readFor gives the files that were read when the answer of a key was last given, nil where that isn't known.
func (k *known) readFor(base Key) []string {
	data, _ := k.Get(KeyOf(string(base[:]), "what was read"))
	if len(data) == 0 {
		return nil
	}
	return strings.Split(string(data), "\x00")
}

// setRead keeps what was read for an answer, and gives the answer's key.
func (k *known) setRead(base Key, read []string) Key {
	k.Put(KeyOf(string(base[:]), "what was read"), []byte(strings.Join(read, "\x00")))
	return k.withRead(base, read)
}

// withRead is the key of an answer that also depends on files which were read: on their contents, and on there being no others
// of their names, which may be found first.
func (k *known) withRead(base Key, read []string) Key {
	if len(read) == 0 {
		return base
	}
	parts := []string{string(base[:])}
	names := k.namesOf()
	for _, file := range read {
		parts = append(parts, "read", file, k.content(file))
		parts = append(parts, names[path.Base(file)]...)
	}
	return KeyOf(parts...)
}

// complete reports whether all of the answer seems to be known.
func (p *Plan) complete() bool {
	return p.known != nil && (p.known.reuse && p.known.Has(p.known.all) || len(p.Given) > 0 && len(p.Asked) == 0)
}

// recalled puts what is known together with what was just found. It is nil where what is known can't be read.
func (p *Plan) recalled(fresh *report.Report) *report.Report {
	k := p.known
	if k == nil {
		return fresh
	}
	if fresh == nil {
		if data, ok := k.Get(k.all); ok {
			report, err := report.Decode(data)
			if err == nil {
				return report
			}
		}
	}
	all := fresh
	if all == nil && k.keys == nil {
		return nil
	}
	if all == nil {
		data, ok := k.Get(k.frame())
		report, err := report.Decode(data)
		if !ok || err != nil {
			return nil
		}
		all = report
	}
	if k.keys == nil || len(p.Asked) == len(p.Given) {
		return all
	}
	joined := *all
	joined.Findings = slices.Clone(all.Findings)
	for _, file := range p.Given {
		if p.asks(file) {
			continue
		}
		data, ok := k.Get(k.keys[file])
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

// asks reports whether the linter is asked about a file.
func (p *Plan) asks(file string) bool {
	_, asked := slices.BinarySearch(p.Asked, file)
	return asked
}

// frame is the key of what the linter says of itself.
func (k *known) frame() Key { return KeyOf(string(k.identity[:]), "frame") }

// remember keeps what a linter said of each file it was asked about, and says why it can't. Where the linter stopped looking,
// or said what can't be read, nothing is kept, and of single files that it gave up nothing of these, for reasons that are shown
// elsewhere.
func (p *Plan) remember(fresh *report.Report, read Reads) (why string) {
	k := p.known
	givenUp, known := p.givenUp(fresh)
	if !known || fresh.UnreadCount > 0 || k.keys == nil && !fresh.Whole() {
		return ""
	}
	if k.keys == nil {
		if data, err := fresh.Encode(); err == nil && len(data) <= mostWhole {
			k.Among(KeyOf("of all of the code"), k.base(), data, keptWholes)
			k.Save()
		}
		return ""
	}
	apart, why := p.apart(fresh, read)
	if why != "" {
		return why
	}
	frame := *fresh
	frame.Findings, frame.Stops = nil, nil
	if data, err := frame.Encode(); err == nil {
		k.Put(k.frame(), data)
	}
	lost := 0
	for _, file := range p.Asked {
		if givenUp[file] {
			continue
		}
		reason := p.unkeyed(file, apart[file], read)
		if reason != "" {
			why = cmp.Or(why, reason)
			lost++
			continue
		}
		var data []byte
		if findings := apart[file]; len(findings) > 0 {
			var err error
			if data, err = (&report.Report{Findings: findings}).Encode(); err != nil {
				return ""
			}
		}
		k.keys[file] = k.setRead(k.bases[file], read[file])
		k.Put(k.keys[file], data)
	}
	if whole := p.recalled(fresh); whole != nil && lost == 0 && len(givenUp) == 0 {
		if data, err := whole.Encode(); err == nil {
			k.all = k.setRead(k.base(), k.readForAll(p.Given))
			k.Put(k.all, data)
		}
	}
	k.Save() // without them they are asked for again
	if lost > 1 {
		why += fmt.Sprintf(" (and %d more like it)", lost-1)
	}
	return why
}

// givenUp are the files asked about that the linter stopped at; it is false where that can't be told.
func (p *Plan) givenUp(fresh *report.Report) (files map[string]bool, known bool) {
	files = map[string]bool{}
	for _, stop := range fresh.Stops {
		among := slices.DeleteFunc(slices.Clone(stop.Files), func(file string) bool { return !p.asks(file) })
		if len(among) == 0 || stop.Package {
			return nil, false
		}
		for _, file := range among {
			files[file] = true
		}
	}
	return files, fresh.Failure == "" && fresh.Stopped == ""
}

// readForAll gives all the files that were read for the answers of some, sorted.
func (k *known) readForAll(files []string) (all []string) {
	seen := map[string]bool{}
	for _, file := range files {
		for _, read := range k.readFor(k.bases[file]) {
			seen[read] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

// apart gives each finding to the file that the linter was asked about when it found it: the one it stands in, or that includes
// that. It says why where that can't be told.
func (p *Plan) apart(fresh *report.Report, read Reads) (all map[string][]finding.Finding, why string) {
	all = map[string][]finding.Finding{}
	for _, f := range fresh.Findings {
		about := f.Path
		if through := f.Details().Includers; len(through) > 0 {
			about = through[len(through)-1]
		}
		if !p.asks(about) {
			readers := read.of(f.Path)
			if len(readers) != 1 {
				return nil, fmt.Sprintf("it found something in %s, and it isn't known for which of its files", cmp.Or(f.Path, "no file"))
			}
			about = readers[0]
		}
		all[about] = append(all[about], f)
	}
	return all, ""
}

// unkeyed says why an answer can't be kept, "" where it can: some of what it depends on isn't known.
func (p *Plan) unkeyed(about string, findings []finding.Finding, read Reads) string {
	files, known := read[about]
	for _, file := range files {
		if p.known.content(file) == "" {
			return fmt.Sprintf("for %s it reads %s, which git doesn't have", about, file)
		}
	}
	depends := func(file string) bool {
		_, isInput := slices.BinarySearch(p.known.inputs, file)
		return file == about || isInput || known && slices.Contains(files, file)
	}
	for _, f := range findings {
		for _, file := range append(f.Details().Includers[:len(f.Details().Includers):len(f.Details().Includers)], f.Path) {
			if !depends(file) {
				return fmt.Sprintf("for %s it found something in %s, which isn't among its inputs:", about, file)
			}
		}
	}
	return ""
}
