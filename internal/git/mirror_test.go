package git_test

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"zincdoor/internal/git"
	"zincdoor/internal/gittest"
)

// TestMirror: a mirror follows branches, tags and the refs that are asked for; what is gone there goes here, and a fetch that was enough
// isn't made again.
func TestMirror(t *testing.T) {
	r := gittest.New(t)
	r.Git("symbolic-ref", "HEAD", "refs/heads/quay")
	r.Write("core/tide.c", "int tide;\n")
	first := r.Commit("Tides")
	r.Git("branch", "ebb")
	r.Git("update-ref", "refs/pulls/1/head", first)
	ctx := t.Context()
	m := git.Mirror{Dir: filepath.Join(t.TempDir(), "a", "mirror.git"), Address: r.Dir}
	var all sync.WaitGroup
	for range 4 { // at once
		all.Go(func() {
			if err := m.Fetch(ctx, time.Now(), "+refs/pulls/1/head:refs/pulls/1/head"); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	tip := func(name string) string {
		t.Helper()
		commit, err := m.Tip(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		return commit
	}
	if m.Main(ctx) != "refs/heads/quay" || tip("refs/heads/ebb") != first || tip("refs/pulls/1/head") != first || !m.Has(ctx, first) || m.Has(ctx, strings.Repeat("a", 40)) {
		t.Errorf("main %s, ebb %s, pull %s", m.Main(ctx), tip("refs/heads/ebb"), tip("refs/pulls/1/head"))
	}
	if parent, err := m.Parent(ctx, first); parent != "" || err != nil {
		t.Errorf("the parent of a root: %q, %v", parent, err)
	}
	before := time.Now()
	r.Git("branch", "-D", "ebb")
	r.Write(".zincdoor/policy.yaml", "zincdoor: 1\n")
	second := r.Commit("A policy")
	if err := m.Fetch(ctx, before.Add(-time.Hour)); err != nil || tip("refs/heads/quay") != first {
		t.Errorf("a fetch that isn't needed: %s, %v", tip("refs/heads/quay"), err)
	}
	if err := m.Fetch(ctx, before); err != nil || tip("refs/heads/quay") != second || tip("refs/heads/ebb") != "" {
		t.Errorf("quay %s, ebb %q, %v", tip("refs/heads/quay"), tip("refs/heads/ebb"), err)
	}
	if !m.Alters(ctx, first, second, ".zincdoor") || m.Alters(ctx, first, second, "core") || !m.Alters(ctx, strings.Repeat("a", 40), second, "core") {
		t.Error("what lies between two commits")
	}
	// A first fetch that fails leaves nothing that a later one stumbles over; an address starts no program.
	other := git.Mirror{Dir: filepath.Join(t.TempDir(), "mirror.git"), Address: filepath.Join(r.Dir, "nowhere")}
	if err := other.Fetch(ctx, time.Now()); err == nil {
		t.Error("a repository that isn't there was fetched")
	}
	other.Address = "ext::sh -c touch% " + filepath.Join(r.Dir, "started")
	if err := other.Fetch(ctx, time.Now()); err == nil {
		t.Error("a program was fetched from")
	}
	if _, err := os.Stat(filepath.Join(r.Dir, "started")); err == nil {
		t.Error("an address started a program")
	}
	other.Address = r.Dir
	if err := other.Fetch(ctx, time.Now()); err != nil || other.Main(ctx) != "refs/heads/quay" {
		t.Errorf("after a first fetch that failed: %s, %v", other.Main(ctx), err)
	}
}
