package authority

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/baselinefile"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/gittest"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

// policyOf is a policy whose only door is called name.
func policyOf(name string) string {
	return "zincdoor: 1\ndoors: {" + name + ": {limits: [{count: new, most: 0}]}}\n"
}

// listOf is a baseline with an entry for each message.
func listOf(t *testing.T, messages ...string) string {
	t.Helper()
	b := &baseline.Baseline{}
	for _, m := range messages {
		b.Entries = append(b.Entries, baseline.Entry{Tool: "gcc", Path: "core/tide.c", Message: m, Why: baseline.Debt, On: "2026-10-01"})
	}
	var text strings.Builder
	if err := baselinefile.Write(&text, b); err != nil {
		t.Fatal(err)
	}
	return text.String()
}

func open(t *testing.T, r *gittest.Repo, name target.Name) *target.Target {
	t.Helper()
	repo, err := git.Open(context.Background(), r.Dir)
	if err != nil {
		t.Fatal(err)
	}
	g, err := target.Of(repo, name)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { g.Close(); repo.Close() })
	return g
}

// altered is a repository whose branch side alters the policy and the baseline that main has.
func altered(t *testing.T) *gittest.Repo {
	r := gittest.New(t)
	r.Write(policyfile.Path, policyOf("main"))
	r.Write(baseline.Path, listOf(t, "one"))
	r.Commit("one")
	r.Git("checkout", "-q", "-b", "side")
	r.Write(policyfile.Path, policyOf("side"))
	r.Write(baseline.Path, listOf(t, "one", "two"))
	r.Commit("two")
	r.Write(policyfile.Path, policyOf("disk"))
	return r
}

var toMain = target.Name{Kind: policy.Branch, Into: "main"}

// TestFind: a branch is judged by its target's policy, and what is on disk by its own; the call goes before both.
func TestFind(t *testing.T) {
	r := altered(t)
	for _, c := range []struct {
		name target.Name
		by   Overrides
		want string // the door, and where the policy is from
	}{
		{toMain, Overrides{}, "main main"},
		{target.Name{Kind: policy.Worktree}, Overrides{}, "disk the work tree"},
		{target.Name{Kind: policy.Staged}, Overrides{}, "side the index"},
		{toMain, Overrides{Policy: "HEAD:" + policyfile.Path}, "side HEAD:" + policyfile.Path},
		{toMain, Overrides{Policy: policyfile.Path}, "disk " + policyfile.Path},
		{toMain, Overrides{Policy: BuiltIn}, "default built-in"},
	} {
		c.by.Dir = r.Dir
		a, err := Find(open(t, r, c.name), c.by)
		if err != nil {
			t.Fatal(err)
		}
		if got := a.Policy.Policy.Doors[0].Name + " " + a.Origin.From; got != c.want {
			t.Errorf("%+v %+v: %s, want %s", c.name, c.by, got, c.want)
		}
	}
	if _, err := Find(open(t, r, toMain), Overrides{Dir: r.Dir, Policy: "nowhere.yaml"}); !errors.Is(err, target.ErrCall) {
		t.Errorf("a policy that isn't there: %v", err)
	}
}

// TestLists: the baseline of a branch is that of where it left, and what the branch changes in it is reported apart.
func TestLists(t *testing.T) {
	r := altered(t)
	for _, c := range []struct {
		name target.Name
		by   Overrides
		want string // entries, added, honoured whole, how much of the policy is altered
	}{
		{toMain, Overrides{}, "1 1 false 2"},
		{toMain, Overrides{Baseline: "HEAD:" + baseline.Path}, "2 0 false 2"},
		{target.Name{Kind: policy.Staged}, Overrides{}, "2 0 false 0"},
		{target.Name{Kind: policy.Worktree}, Overrides{}, "2 0 false 2"},
	} {
		c.by.Dir = r.Dir
		g := open(t, r, c.name)
		a, err := Find(g, c.by)
		if err != nil {
			t.Fatal(err)
		}
		l, err := a.Lists(g, c.by)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(len(l.Baseline.Entries), " ", len(l.Added), " ", l.Whole, " ", len(l.Altered)); got != c.want {
			t.Errorf("%+v %+v: %s, want %s", c.name, c.by, got, c.want)
		}
	}
}

// TestRefusal: nothing is started where it isn't allowed, and nothing at all of a policy that the change brings itself.
func TestRefusal(t *testing.T) {
	r := altered(t)
	g := open(t, r, toMain)
	a, err := Find(g, Overrides{Dir: r.Dir})
	if err != nil {
		t.Fatal(err)
	}
	if a.Refusal(g, Overrides{}) == "" || a.Refusal(g, Overrides{Run: true}) != "" {
		t.Error("leave isn't what the call says")
	}
	r.Git("config", "zincdoor.run", "true")
	if why := a.Refusal(g, Overrides{}); why != "" {
		t.Error(why)
	}
	r.Git("checkout", "-qf", "main")
	r.Git("rm", "-q", "-r", ".zincdoor")
	r.Commit("no policy")
	r.Git("checkout", "-q", "side")
	g = open(t, r, toMain)
	if a, err = Find(g, Overrides{Dir: r.Dir}); err != nil || a.Origin.From != target.OwnName {
		t.Fatalf("%v, %v", a, err)
	}
	if !strings.Contains(a.Refusal(g, Overrides{Run: true}), "judged by its own policy") {
		t.Error("a change's own policy may start programs")
	}
}

func TestChooseDoor(t *testing.T) {
	two, err := policyfile.Parse("p", []byte("zincdoor: 1\ndoors: {commit: {judges: staged, limits: [{count: new, most: 0}]}, other: {judges: staged, limits: [{count: new, most: 0}]}, merge: {judges: branch, needs: [house], limits: [{count: new, most: 0}]}}\n"))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		kind policy.Kind
		name string
		any  bool
		want string
	}{
		{policy.Branch, "", false, "merge"},
		{policy.Staged, "", false, "several doors judge a staged"},
		{policy.Staged, "other", false, "other"},
		{policy.Range, "", false, "the policy has no door that judges a range"},
		{policy.Staged, "comit", false, `did you mean "commit"`},
		{policy.Staged, "", true, "commit"},
		{policy.Range, "", true, "commit"},
	} {
		a := &Authority{Policy: two}
		choose := a.ChooseDoor
		if c.any {
			choose = a.ChooseAnyDoor
		}
		err := choose(&target.Target{Kind: c.kind}, c.name)
		if got := a.Door.Name + fmt.Sprint(err); !strings.Contains(got, c.want) || err != nil && !errors.Is(err, target.ErrCall) {
			t.Errorf("%s %q: %s, want %s", c.kind, c.name, got, c.want)
		}
	}
}
