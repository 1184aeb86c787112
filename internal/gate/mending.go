package gate

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/aymanbagabas/go-udiff"
	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/mend"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/runs"
	"zincdoor/internal/tools"
)

// Workshop is where files are mended: the work tree, and with Staged the index beside it. It must be closed.
type Workshop struct {
	repo   *git.Repo
	staged bool
	head   *git.Tree // where a commit is judged, nil elsewhere
	index  *git.Tree
	disk   *git.Tree
	cached map[string]mend.Text
}

// OpenWorkshop opens the repository for mending.
func OpenWorkshop(ctx context.Context, dir string, kind policy.Kind) (*Workshop, error) {
	repo, err := open(ctx, Request{Dir: dir})
	if err != nil {
		return nil, err
	}
	if repo.Bare {
		return nil, fmt.Errorf("this is a bare repository: there are no files to mend")
	}
	w := &Workshop{repo: repo, staged: kind == policy.Staged, cached: map[string]mend.Text{}}
	if w.index, err = repo.Tree(git.Index); err != nil {
		return nil, err
	}
	if w.disk, err = repo.Tree(git.Worktree); err != nil {
		return nil, err
	}
	if kind == policy.Branch || kind == policy.Range {
		commit, ok := repo.Head()
		if !ok {
			return nil, fmt.Errorf("this branch has no commit yet")
		}
		w.head, err = repo.Tree(git.Side(commit))
	}
	return w, err
}

// Close ends the workshop.
func (w *Workshop) Close() error {
	err := errors.Join(w.index.Close(), w.disk.Close(), w.repo.Close())
	if w.head != nil {
		err = errors.Join(err, w.head.Close())
	}
	return err
}

// Text is a file as it is judged: of the index or of the work tree.
func (w *Workshop) Text(path string) mend.Text {
	t, known := w.cached[path]
	if !known {
		t = w.read(path)
		w.cached[path] = t
	}
	return t
}

func (w *Workshop) read(path string) mend.Text {
	if !fs.ValidPath(path) || path == "." {
		return mend.Text{Refused: "it lies outside the repository"}
	}
	if links, err := w.disk.Links(path); err != nil || len(links) > 0 {
		return mend.Text{Refused: "it is a symbolic link, or lies behind one"}
	}
	var data []byte
	var found bool
	var err error
	if w.staged {
		data, found, err = w.index.Read(path)
	} else {
		data, found, err = w.disk.Plain(path)
	}
	if w.head != nil && err == nil && found {
		judged, _, err := w.head.Read(path)
		if err != nil || !bytes.Equal(judged, data) {
			return mend.Text{Refused: "it isn't in the work tree as the judged commit has it"}
		}
	}
	switch {
	case err != nil:
		return mend.Text{Refused: err.Error()}
	case !found:
		return mend.Text{Refused: "there is no such file"}
	}
	return mend.Text{Data: data, Binary: bytes.IndexByte(data[:min(len(data), 8000)], 0) >= 0}
}

// ByTools has linters mend copies of files by themselves, as far as the policy names their commands, and offers what they
// altered, hunk by hunk. Problems tell of those that failed.
func (w *Workshop) ByTools(ctx context.Context, q Request, r *Result, files []string) (offers []mend.Offer, problems []string, err error) {
	var wanted []policy.Report
	for _, report := range r.Case.Policy.Reports {
		if len(report.Mend) > 0 {
			wanted = append(wanted, report)
		}
	}
	if len(wanted) == 0 {
		return nil, nil, nil
	}
	if !q.Run && !w.repo.RunsHere() {
		return nil, []string{"nothing that a policy names is started here without leave: git config " + git.Leave + " true, or --run"}, nil
	}
	bench, err := tools.NewBench()
	if err != nil {
		return nil, nil, err
	}
	defer bench.Close()
	for _, report := range wanted {
		made, problem, err := w.byTool(ctx, bench, report, files)
		if err != nil {
			return nil, nil, err
		}
		offers = append(offers, made...)
		if problem != "" {
			problems = append(problems, report.Name+": "+problem)
		}
	}
	return offers, problems, nil
}

func (w *Workshop) byTool(ctx context.Context, bench *tools.Bench, report policy.Report, files []string) (offers []mend.Offer, problem string, err error) {
	run := report.Run
	if run == nil {
		run = &policy.Run{Timeout: policy.Patience}
	}
	dir, err := bench.Place()
	if err != nil {
		return nil, "", err
	}
	inputs, err := w.repo.Contents(git.Index)
	if err != nil {
		return nil, "", err
	}
	maps.DeleteFunc(inputs, func(path, _ string) bool {
		return !policy.MatchPath(run.Inputs, path) && !slices.Contains(report.Mend, path)
	})
	if len(inputs) > 0 {
		if err := w.repo.CheckOut(git.Index, dir, slices.Sorted(maps.Keys(inputs))); err != nil {
			return nil, "", err
		}
	}
	var given []string
	for _, path := range files {
		t := w.Text(path)
		if t.Refused != "" || t.Binary || len(run.Files) > 0 && !policy.MatchPath(run.Files, path) {
			continue
		}
		at := filepath.Join(dir, filepath.FromSlash(path))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return nil, "", err
		}
		if err := os.WriteFile(at, t.Data, 0o644); err != nil {
			return nil, "", err
		}
		given = append(given, path)
	}
	if len(given) == 0 {
		return nil, "", nil
	}
	o := bench.Run(ctx, tools.Task{
		Command: slices.Concat(report.Mend, runs.Arguments(run.Folder, given)), Dir: filepath.Join(dir, filepath.FromSlash(run.Folder)),
		Env: append(git.Unbound(os.Environ()), run.Environment...), Timeout: run.Timeout,
		Fault: func(code int) string {
			if run.Declares(code) {
				return ""
			}
			return fmt.Sprintf("it ended with code %d", code)
		},
	})
	if o.Problem != "" {
		return nil, o.Problem, nil
	}
	for _, path := range given {
		now, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(path)))
		if err != nil {
			return nil, fmt.Sprintf("it took %s away", path), nil
		}
		for _, e := range udiff.Lines(string(w.Text(path).Data), string(now)) {
			offers = append(offers, mend.Offer{Index: -1, Tool: report.Name, Edits: []finding.Edit{{Path: path, Offset: &finding.Offset{At: e.Start, Length: e.End - e.Start, Bytes: true}, Text: e.New}}})
		}
	}
	return offers, "", nil
}

// Mended is a file with its new text.
type Mended struct {
	Path     string
	Old, New []byte
	worktree []byte // what the work tree gets; nil for New
}

// Ready makes a plan's texts. A file whose work tree has altered the same lines as the mending would is refused: aside
// tells why, by path.
func (w *Workshop) Ready(p *mend.Plan) (files []Mended, aside map[string]string, err error) {
	aside = map[string]string{}
	for _, path := range slices.Sorted(maps.Keys(p.Pieces)) {
		if len(p.Pieces[path]) == 0 {
			continue
		}
		old := w.Text(path).Data
		m := Mended{Path: path, Old: old, New: mend.Apply(old, p.Pieces[path])}
		if w.staged {
			why, err := w.beside(&m)
			if err != nil {
				return nil, nil, err
			}
			if why != "" {
				aside[path] = why
				continue
			}
		}
		files = append(files, m)
	}
	return files, aside, nil
}

// beside finds what the work tree's copy of a staged file becomes: what isn't staged of it stays so.
func (w *Workshop) beside(m *Mended) (why string, err error) {
	now, found, err := w.disk.Plain(m.Path)
	if err != nil {
		return "", err
	}
	written, err := w.repo.Written(m.Path)
	switch {
	case err != nil:
		return "", err
	case !found:
		return "the work tree doesn't have it any more", nil
	case bytes.Equal(now, m.Old):
		m.worktree = m.New
		return "", nil
	case bytes.Equal(now, written): // the same but for git's conversions, which write it anew
		m.worktree = nil
		return "", nil
	}
	merged, clean, err := w.repo.Merge(now, m.Old, m.New)
	if err != nil {
		return "", err
	}
	if !clean {
		return "what isn't staged of it alters the same lines; stage or set aside the rest first", nil
	}
	m.worktree = merged
	return "", nil
}

// trace is what a mending did, so that it can be taken back.
type trace struct {
	File  string   `json:"-"`
	Files []traced `json:"files"`
}

type traced struct {
	Path        string `json:"path"`
	Before      []byte `json:"before"` // in the work tree
	After       []byte `json:"after"`
	IndexBefore []byte `json:"index_before,omitempty"`
	IndexAfter  []byte `json:"index_after,omitempty"`
	Staged      bool   `json:"staged"`
}

func (w *Workshop) traceFile() (string, error) {
	dir, err := w.repo.GitDir()
	return filepath.Join(dir, "zincdoor-mended.json"), err
}

// Write writes mended files: index and work tree, each whole or not at all. What was there before is kept for Undo.
func (w *Workshop) Write(files []Mended) error {
	name, err := w.traceFile()
	if err != nil {
		return err
	}
	lock := flock.New(filepath.Dir(name), flock.SetFlag(os.O_RDONLY))
	if err := lock.Lock(); err != nil {
		return fmt.Errorf("the repository can't be locked: %w", err)
	}
	defer lock.Unlock()
	t := trace{}
	staged := map[string][]byte{}
	for _, f := range files {
		now, found, err := w.disk.Plain(f.Path)
		if err != nil || !found {
			return fmt.Errorf("%s can't be read any more: %w", f.Path, err)
		}
		if !w.staged && !bytes.Equal(now, f.Old) {
			return fmt.Errorf("%s was altered in the meantime; nothing is written", f.Path)
		}
		one := traced{Path: f.Path, Before: now, After: f.New, Staged: w.staged}
		if w.staged {
			one.IndexBefore, one.IndexAfter, one.After = f.Old, f.New, f.worktree
			staged[f.Path] = f.New
		}
		t.Files = append(t.Files, one)
	}
	if len(staged) > 0 {
		if err := w.repo.Stage(staged); err != nil {
			return err
		}
	}
	for i := range t.Files {
		one := &t.Files[i]
		if one.Staged && one.After == nil {
			if one.After, err = w.repo.Written(one.Path); err != nil {
				return err
			}
		}
		if err := w.replace(one.Path, one.After); err != nil {
			return err
		}
	}
	data, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return renameio.WriteFile(name, data, 0o600)
}

// replace writes a file of the work tree, keeping its mode.
func (w *Workshop) replace(path string, data []byte) error {
	file := filepath.Join(w.repo.Root, filepath.FromSlash(path))
	info, err := os.Lstat(file)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is no plain file", path)
	}
	return renameio.WriteFile(file, data, info.Mode().Perm(), renameio.IgnoreUmask(), renameio.WithTempDir(filepath.Dir(file)))
}

// Undo takes back what was written last. Nothing is taken back where a file isn't any more as it was left.
func (w *Workshop) Undo() (paths []string, err error) {
	name, err := w.traceFile()
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is nothing to take back: fix has written nothing here, or it is taken back already")
	}
	var t trace
	if err == nil {
		err = json.Unmarshal(data, &t)
	}
	if err != nil {
		return nil, fmt.Errorf("what fix wrote can't be read: %w", err)
	}
	staged := map[string][]byte{}
	for _, f := range t.Files {
		now, found, err := w.disk.Plain(f.Path)
		if err != nil || !found || !bytes.Equal(now, f.After) {
			return nil, fmt.Errorf("%s isn't any more as fix left it, so nothing is taken back", f.Path)
		}
		if !f.Staged {
			continue
		}
		if now, _, err := w.index.Read(f.Path); err != nil || !bytes.Equal(now, f.IndexAfter) {
			return nil, fmt.Errorf("what is staged of %s isn't any more as fix left it, so nothing is taken back", f.Path)
		}
		staged[f.Path] = f.IndexBefore
	}
	if len(staged) > 0 {
		if err := w.repo.Stage(staged); err != nil {
			return nil, err
		}
	}
	for _, f := range t.Files {
		if err := w.replace(f.Path, f.Before); err != nil {
			return nil, err
		}
		paths = append(paths, f.Path)
	}
	return paths, os.Remove(name)
}
