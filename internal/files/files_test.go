package files

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

// TestFolders: what this run holds is there until it is removed, what a dead run left goes, and
// what works in either is ended first.
func TestFolders(t *testing.T) {
	tmp := t.TempDir()
	t.Setenv("TMPDIR", tmp)
	if real, err := filepath.EvalSymlinks(tmp); err == nil {
		tmp = real
	}
	var ended []string
	end := func(path string) { ended = append(ended, path) }
	bench := NewKind("bench", end)
	first, err := bench.Folder()
	if err != nil {
		t.Fatal(err)
	}
	dead, other := filepath.Join(tmp, "zincdoor-bench-1"), filepath.Join(tmp, "zincdoor-git-1")
	for _, dir := range []string{filepath.Join(dead, "place"), other} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	os.Chmod(filepath.Join(dead, "place"), 0o500)
	RemoveAbandoned()
	second, err := bench.Folder()
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(ended, []string{dead}) || exists(dead) || !exists(first.Path) || !exists(other) || first.Path == second.Path {
		t.Errorf("ended %v; dead %v, held %v, of another kind %v", ended, exists(dead), exists(first.Path), exists(other))
	}
	if err := first.Remove(); err != nil || exists(first.Path) || !slices.Equal(ended, []string{dead, first.Path}) {
		t.Errorf("%v, %v", err, ended)
	}
	if RemoveHeld(); exists(second.Path) {
		t.Error("a run that can't wait leaves a folder")
	}
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// TestUnfinished: what a killed run left beside a file goes, at once under a lock, else once it is old; nothing else does.
func TestUnfinished(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "list.jsonl")
	names := []string{".list.jsonl", ".list.jsonl12", ".list.jsonl.swp", ".list.jsonl12x", "list.jsonl12", ".other.jsonl12"}
	for _, name := range names {
		if err := os.WriteFile(filepath.Join(dir, name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := Write(file, []byte("one"), 0o644); err != nil || !exists(filepath.Join(dir, names[1])) {
		t.Errorf("%v: what another run may be writing is gone", err)
	}
	old := time.Now().Add(-time.Hour)
	os.Chtimes(filepath.Join(dir, names[1]), old, old)
	if err := Write(file, []byte("two"), 0o644); err != nil || exists(filepath.Join(dir, names[1])) {
		t.Errorf("%v: what is old stays", err)
	}
	os.WriteFile(filepath.Join(dir, names[1]), nil, 0o644)
	if err := WriteLocked(file, []byte("three"), 0o644); err != nil || exists(filepath.Join(dir, names[1])) {
		t.Errorf("%v: it stays under a lock", err)
	}
	for i, name := range names {
		if i != 1 && !exists(filepath.Join(dir, name)) {
			t.Errorf("%s is gone", name)
		}
	}
	if data, err := os.ReadFile(file); err != nil || string(data) != "three" {
		t.Errorf("%q, %v", data, err)
	}
}
