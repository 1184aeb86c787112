package target

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/gittest"
)

// branches is a repository whose branch side left main at its first commit, with something staged and something that isn't.
func branches(t *testing.T) (*gittest.Repo, *git.Repo) {
	r := gittest.New(t)
	r.Write("core/tide.c", "one\ntwo\n")
	r.Commit("one")
	r.Git("branch", "side")
	r.Write("fares/fare.go", "package fares\n")
	r.Commit("two")
	r.Git("checkout", "-q", "side")
	r.Write("core/tide.c", "one\ntwo\nthree\n")
	r.Commit("three")
	r.Write("core/gauge.c", "staged\n")
	r.Git("add", "-A")
	r.Write("core/gauge.c", "on disk\n")
	r.Write("core/untracked.c", "new\n")
	repo, err := git.Open(context.Background(), r.Dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { repo.Close() })
	return r, repo
}

// summary says what a target is: its files, the states whose policy and baseline may count, by the names people use.
func summary(t *testing.T, g *Target) string {
	t.Helper()
	files, err := g.Files()
	if err != nil {
		t.Fatal(err)
	}
	var names, policies []string
	for _, f := range files {
		names = append(names, fmt.Sprintf("%c %s", f.Status, f.Path))
	}
	slices.Sort(names)
	for _, at := range g.PolicyAt {
		policies = append(policies, at.Name)
	}
	return strings.Join(names, ", ") + "; " + strings.Join(policies, ", ")
}

func TestOf(t *testing.T) {
	_, repo := branches(t)
	for _, c := range []struct {
		name Name
		want string
	}{
		{Name{Kind: policy.Staged}, "A core/gauge.c; the index"},
		{Name{Kind: policy.Worktree}, "A core/gauge.c, A core/untracked.c; the work tree"},
		{Name{Kind: policy.Branch, Into: "main"}, "M core/tide.c; main, HEAD of the change"},
		{Name{Kind: policy.Range, From: "main", To: "side"}, "D fares/fare.go, M core/tide.c; main, HEAD of the change"},
		{Name{Kind: policy.Tree}, "; the work tree"},
		{Name{Kind: policy.Tree, To: "main"}, "; the work tree"},
	} {
		g, err := Of(repo, c.name)
		if err != nil {
			t.Errorf("%+v: %v", c.name, err)
			continue
		}
		if got := summary(t, g); got != c.want {
			t.Errorf("%+v: %s, want %s", c.name, got, c.want)
		}
		g.Close()
	}
	for _, c := range []struct {
		name Name
		say  string
	}{
		{Name{Kind: policy.Branch, Into: "nowhere"}, `"nowhere" names no commit here`},
		{Name{Kind: policy.Range, From: "-x", To: "side"}, `"-x" names no commit here`},
	} {
		if _, err := Of(repo, c.name); err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%+v: %v, want %q", c.name, err, c.say)
		}
	}
}

// TestTrees: the judged state is read as it is, whatever lies on disk, and the state before it holds the old paths.
func TestTrees(t *testing.T) {
	_, repo := branches(t)
	for _, c := range []struct {
		name Name
		want string
	}{{Name{Kind: policy.Staged}, "staged\n"}, {Name{Kind: policy.Worktree}, "on disk\n"}, {Name{Kind: policy.Range, From: "main", To: "side"}, ""}} {
		g, err := Of(repo, c.name)
		if err != nil {
			t.Fatal(err)
		}
		data, found, err := g.Tree.Read("core/gauge.c")
		if err != nil || string(data) != c.want || found != (c.want != "") {
			t.Errorf("%+v: %q, %v, %v", c.name, data, found, err)
		}
		g.Close()
	}
	g, err := Of(repo, Name{Kind: policy.Range, From: "main", To: "side"})
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
	before, err := g.BeforeChange()
	if err != nil {
		t.Fatal(err)
	}
	defer before.Close()
	present, err := before.Present()
	if slices.Sort(present); err != nil || fmt.Sprint(present) != "[core/tide.c fares/fare.go]" {
		t.Errorf("before: %v, %v", present, err)
	}
}

// TestPush: each ref is compared with what the other side has of it, and its policy is that of its old tip, else of the
// default branch.
func TestPush(t *testing.T) {
	r, repo := branches(t)
	main, side, none := r.Git("rev-parse", "main"), r.Git("rev-parse", "side"), strings.Repeat("0", 40)
	first := r.Git("rev-parse", "main~1")
	r.Git("update-ref", "refs/remotes/origin/main", first)
	for _, c := range []struct{ name, line, want string }{
		{"a branch that is there", fmt.Sprintf("refs/heads/main %s refs/heads/main %s", main, first), "A fares/fare.go; the old tip of main, origin/main, HEAD of the change"},
		{"a new branch", fmt.Sprintf("refs/heads/side %s refs/heads/side %s", side, none), "M core/tide.c; origin/main, HEAD of the change"},
		{"a deleted one", fmt.Sprintf("(delete) %s refs/heads/side %s", none, side), "refs/heads/side is deleted, which brings nothing in"},
		{"nothing new", fmt.Sprintf("refs/heads/old %s refs/heads/old %s", first, none), "refs/heads/old names a commit that a guarded branch already has"},
	} {
		p, err := ReadPush(strings.NewReader(c.line + "\n"))
		if err != nil || len(p.Updates) != 1 {
			t.Fatalf("%s: %v, %v", c.name, p, err)
		}
		receiver, err := ReceiverOf(repo, p, "origin")
		if err != nil {
			t.Fatal(err)
		}
		g, got, err := OfUpdate(repo, receiver, p.Updates[0], func(*Target) (Guard, error) {
			return Guard{Takes: func(ref string) bool { return ref == receiver.Main() }}, nil
		})
		if err != nil {
			t.Fatal(err)
		}
		if g != nil {
			got = summary(t, g)
			g.Close()
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	if _, err := ReadPush(strings.NewReader("nonsense\n")); !errors.Is(err, ErrCall) {
		t.Errorf("nonsense: %v", err)
	}
}

// TestPatch: a diff is judged by the folder it is for, as far as that holds its new text, and never by a policy that it
// brings itself.
func TestPatch(t *testing.T) {
	r := gittest.New(t)
	r.Write("core/tide.c", "one\ntwo\n")
	diff := "--- a/core/tide.c\n+++ b/core/tide.c\n@@ -1 +1,2 @@\n one\n+two\n"
	g, err := OfPatch(nil, r.Dir, "-", strings.NewReader(diff), false)
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
	if got := summary(t, g); got != "M core/tide.c; the folder" || len(g.Notices) != 0 {
		t.Errorf("%s, %v", got, g.Notices)
	}
	other, err := OfPatch(nil, r.Dir, "-", strings.NewReader(strings.ReplaceAll(diff, "+two", "+other")), false)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if _, found, _ := other.Tree.Read("core/tide.c"); found || len(other.Notices) != 1 {
		t.Errorf("a text that doesn't fit is read: %v", other.Notices)
	}
	own := strings.ReplaceAll(diff, "core/tide.c", ".zincdoor/policy.yaml")
	if _, err := OfPatch(nil, r.Dir, "-", strings.NewReader(own), false); err == nil || !strings.Contains(err.Error(), "--policy and --baseline") {
		t.Errorf("a patch of the policy: %v", err)
	}
	if g, err := OfPatch(nil, r.Dir, "-", strings.NewReader(own), true); err != nil {
		t.Error(err)
	} else {
		g.Close()
	}
}
