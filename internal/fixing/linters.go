package fixing

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/aymanbagabas/go-udiff"

	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/fix"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/lint"
)

// ByLinters has linters fix copies of files by themselves, as far as the policy names their commands, and suggests what they
// altered, hunk by hunk. Trusted is the state that has the linters' own files, "" for the index. Refused says why nothing may be
// started, "" where it may; problems say what failed.
func (s *Files) ByLinters(ctx context.Context, p *policy.Policy, refused string, trusted git.Side, files []string) (offers []fix.Suggestion, problems []string, err error) {
	var wanted []policy.Report
	for _, report := range p.Reports {
		if len(report.Fix) > 0 {
			wanted = append(wanted, report)
		}
	}
	if len(wanted) == 0 {
		return nil, nil, nil
	}
	if refused != "" {
		return nil, []string{refused}, nil
	}
	bench, err := lint.NewBench()
	if err != nil {
		return nil, nil, err
	}
	defer bench.Close()
	for _, report := range wanted {
		made, problem, err := s.byLinter(ctx, bench, report, trusted, files)
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

func (s *Files) byLinter(ctx context.Context, bench *lint.Bench, report policy.Report, trusted git.Side, files []string) (offers []fix.Suggestion, problem string, err error) {
	run := report.Run
	if run == nil {
		run = &policy.Run{Timeout: policy.Patience}
	}
	dir, err := bench.Place()
	if err != nil {
		return nil, "", err
	}
	entries, err := s.repo.Entries(git.Index)
	if err != nil {
		return nil, "", err
	}
	laid, err := lint.LayTrusted(s.repo, trusted, git.Index, entries, []policy.Report{report})
	if err != nil {
		return nil, "", err
	}
	inputs := git.ContentsOf(entries)
	maps.DeleteFunc(inputs, func(path, _ string) bool {
		return !policy.MatchPath(run.Inputs, path) && !slices.Contains(report.Fix, path)
	})
	if len(inputs) > 0 {
		if err := s.repo.CheckOut(git.Index, dir, slices.Sorted(maps.Keys(inputs))); err != nil {
			return nil, "", err
		}
	}
	if err := laid.Lay(s.repo, trusted, dir, nil); err != nil {
		return nil, "", err
	}
	var given []string
	for _, path := range files {
		t := s.Text(path)
		if t.Refused != "" || t.Binary || run.TakesFiles() && !run.TakesFile(path) {
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
	o := bench.Run(ctx, lint.Task{
		Command: slices.Concat(report.Fix, lint.Arguments(run.Folder, given)), Dir: filepath.Join(dir, filepath.FromSlash(run.Folder)),
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
		for _, e := range udiff.Lines(string(s.Text(path).Data), string(now)) {
			offers = append(offers, fix.Suggestion{Index: -1, Tool: report.Name, Edits: []finding.Edit{{Path: path, Offset: &finding.Offset{At: e.Start, Length: e.End - e.Start, Bytes: true}, Text: e.New}}})
		}
	}
	return offers, "", nil
}
