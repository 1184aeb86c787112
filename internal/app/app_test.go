package app

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/evidence"
	"zincdoor/internal/gittest"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// tideboard is a repository whose branch side adds a line with a finding, which r.txt reports beside an old one.
func tideboard(t *testing.T) *gittest.Repo {
	r := gittest.New(t)
	r.Write("core/tide.c", "int a;\nint b;\n")
	r.Commit("one")
	r.Git("checkout", "-q", "-b", "side")
	r.Write("core/tide.c", "int a;\nint b;\nint c;\n")
	r.Commit("two")
	r.Write(".git/r.txt", "core/tide.c:1:1: error: old [-Wold]\ncore/tide.c:3:1: error: fresh [-Wfresh]\n")
	return r
}

func request(r *gittest.Repo, name target.Name) GateRequest {
	return GateRequest{Call: Call{Dir: r.Dir, Today: "2026-11-23"}, Change: name, Reports: Reports{Given: evidence.Given{Dir: r.Dir, Files: []evidence.File{{Path: ".git/r.txt"}}}}}
}

func standings(j *Judged) string {
	var all []string
	for _, f := range j.Findings {
		all = append(all, fmt.Sprintf("%s %s", f.Rule, f.Standing))
	}
	return fmt.Sprintf("%s: %s", j.Outcome, strings.Join(all, ", "))
}

var intoMain = target.Name{Kind: policy.Branch, Into: "main"}

// TestGate: a branch is judged by what it brings; several calls at once don't disturb each other, nor does one change what
// another has been given.
func TestGate(t *testing.T) {
	r := tideboard(t)
	const want = "shut: -Wold existing, -Wfresh new"
	var wait sync.WaitGroup
	for range 4 {
		wait.Go(func() {
			all, err := Gate(context.Background(), request(r, intoMain))
			if err != nil {
				t.Error(err)
			} else if got := standings(all[0]); got != want {
				t.Errorf("%s, want %s", got, want)
			}
		})
	}
	wait.Wait()
	all, err := Gate(context.Background(), request(r, intoMain))
	if err != nil {
		t.Fatal(err)
	}
	j := all[0]
	if again := judge.Judge(j.Input); again.Outcome != j.Outcome || len(again.Findings) != len(j.Findings) {
		t.Errorf("judged again, the same input is %s", again.Outcome)
	}
	if !j.Touched("core/tide.c", 3) || j.Touched("core/tide.c", 1) || j.Text("core/tide.c").Line(3) != "int c;" {
		t.Error("the texts aren't those of the verdict")
	}
}

// TestErrors: a wrong call and a wrong policy are told apart from what can't be judged.
func TestErrors(t *testing.T) {
	r := tideboard(t)
	wrong := request(r, intoMain)
	wrong.Door = "nowhere"
	if _, err := Gate(context.Background(), wrong); !errors.Is(err, ErrCall) {
		t.Errorf("unknown door: %v", err)
	}
	if _, err := Gate(context.Background(), request(r, target.Name{Kind: policy.Branch, Into: "nowhere"})); err == nil || errors.Is(err, ErrCall) {
		t.Errorf("unknown revision: %v", err)
	}
	r.Write(policyfile.Path, "zincdoor: 1\ndoors: {}\n")
	var problems policyfile.Problems
	if _, err := Gate(context.Background(), request(r, target.Name{Kind: policy.Worktree})); !errors.As(err, &problems) {
		t.Errorf("a broken policy: %v", err)
	}
	elsewhere := request(r, intoMain)
	elsewhere.Dir = t.TempDir()
	if _, err := Gate(context.Background(), elsewhere); err == nil || !strings.Contains(err.Error(), "no git repository") {
		t.Errorf("no repository: %v", err)
	}
}

// TestKeepingTheList: what is taken is accepted, what is gone is swept, and what another run did meanwhile stays.
func TestKeepingTheList(t *testing.T) {
	r := tideboard(t)
	survey := func() *Survey {
		t.Helper()
		s, err := OpenSurvey(context.Background(), SurveyRequest{Call: Call{Dir: r.Dir, Today: "2026-11-23"}, Reports: request(r, intoMain).Reports.Given})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	reasons := baseline.Entry{Why: baseline.Debt, On: "2026-11-23"}
	first, second := survey(), survey()
	for _, s := range []*Survey{first, second} {
		in, out := s.Acceptances(s.Findings[:1], reasons)
		if err := s.Accept(in, out); err != nil {
			t.Fatal(err)
		}
	}
	kept, err := OpenList(context.Background(), Call{Dir: r.Dir})
	if err != nil || len(kept.Entries) != 1 {
		t.Fatalf("accepted twice: %+v, %v", kept, err)
	}
	if _, err := survey().Take(reasons, nil, false); !errors.Is(err, ErrCall) {
		t.Errorf("a list with entries is replaced: %v", err)
	}
	if _, err := survey().Take(reasons, nil, true); err != nil {
		t.Fatal(err)
	}
	r.Write(".git/r.txt", "core/tide.c:3:1: error: fresh [-Wfresh]\n")
	s := survey()
	swept := s.Sweep()
	if len(swept.Gone) != 1 || swept.Gone[0].Rule != "-Wold" || swept.Stay != 1 {
		t.Fatalf("swept: %+v", swept)
	}
	if _, err := s.ApplySweep(swept, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := s.ApplySweep(swept, 0); err == nil {
		t.Error("a list that was changed meanwhile is swept")
	}
	if kept, err = OpenList(context.Background(), Call{Dir: r.Dir}); err != nil || len(kept.Entries) != 1 {
		t.Errorf("after the sweep: %+v, %v", kept, err)
	}
}

// TestFix: what is suggested is planned, written and taken back, on touched lines alone.
func TestFix(t *testing.T) {
	r := tideboard(t)
	r.Write(policyfile.Path, "zincdoor: 1\nhouse: {blank-ends: on}\ndoors: {d: {judges: worktree, needs: house, limits: [{count: new, most: 0}]}}\n")
	r.Commit("policy")
	const text = "int a; \nint b;\nint c;\nint d; \n"
	r.Write("core/tide.c", "int a; \nint b;\nint c;\n")
	r.Commit("an old blank")
	r.Write("core/tide.c", text)
	q := FixRequest{GateRequest: GateRequest{Call: Call{Dir: r.Dir, Today: "2026-11-23"}, Change: target.Name{Kind: policy.Worktree}, Reports: Reports{Given: evidence.Given{Dir: r.Dir}}}}
	q.Takes = func(*Judged) (func(judge.Finding) bool, error) {
		return func(judge.Finding) bool { return true }, nil
	}
	f, err := OpenFix(context.Background(), q)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	suggestions, _, err := f.Suggestions(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	plan, err := f.Plan(suggestions)
	if err != nil || len(plan.Fixed) != 1 || len(plan.Files) != 1 {
		t.Fatalf("%+v, %v", plan, err)
	}
	if fresh, err := f.Write(plan); err != nil || len(fresh) != 0 {
		t.Fatalf("%v, %v", fresh, err)
	}
	if got := r.Read("core/tide.c"); got != "int a; \nint b;\nint c;\nint d;\n" {
		t.Errorf("%q", got)
	}
	if paths, err := Undo(context.Background(), r.Dir); err != nil || len(paths) != 1 || r.Read("core/tide.c") != text {
		t.Errorf("%v, %v: %q", paths, err, r.Read("core/tide.c"))
	}
	if _, err := Undo(context.Background(), r.Dir); !errors.Is(err, ErrCall) {
		t.Errorf("taken back twice: %v", err)
	}
}
