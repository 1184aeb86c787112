package main

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const harbour = `zincdoor: 1
doors:
  merge:
    judges: branch
    limits: [{name: warnings, count: new, severity: warning, most: 0, firm: true}]
`

// standards makes a repository with the organisation's policy at the tag v1, and a looser one at v2.
func standards(t *testing.T) *sandbox {
	s := repository(t)
	s.write("door.yaml", harbour)
	s.write("quay/door.yaml", "zincdoor: 1\ninherit: {path: door.yaml}\n")
	s.commit("one")
	s.git("tag", "v1")
	s.write("door.yaml", strings.Replace(harbour, "most: 0", "most: 7", 1))
	s.commit("two")
	s.git("tag", "v2")
	return s
}

func digest(text string) string { return fmt.Sprintf("sha256:%x", sha256.Sum256([]byte(text))) }

// inheriting makes a repository whose main inherits a policy, with a branch that brings a warning in.
func inheriting(t *testing.T, ref string) *sandbox {
	s := branch(t, "zincdoor: 1\ninherit: {"+ref+"}\n")
	s.commit("two")
	return s
}

func TestInherit(t *testing.T) {
	t.Parallel()
	org := standards(t)
	against := []string{"--into", "main", "--report", "-"}
	folder := func(s *sandbox, rest string) string {
		to, err := filepath.Rel(s.dir, org.dir)
		if err != nil {
			t.Fatal(err)
		}
		return "git: " + to + ", " + rest
	}
	pin := ", digest: \"" + digest(harbour) + "\""

	s := inheriting(t, folder(org, "at: v1, path: door.yaml"))
	s.git("switch", "-q", "main")
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\ninherit: {"+folder(s, "at: v1, path: door.yaml"+pin)+"}\n")
	s.commit("pinned")
	s.git("switch", "-q", "low-water")
	if v := s.judge(against...); v.Code != 1 || len(v.Policy.Inherits) != 1 || v.Policy.Inherits[0].Digest != digest(harbour) {
		t.Errorf("pinned in a folder: %s %v", v.about(), v.Policy.Inherits)
	}
	s.git("switch", "-q", "main")
	for rest, want := range map[string]string{
		"at: v1, path: door.yaml":       "unjudged: it isn't pinned",
		"at: v1, path: quay/door.yaml":  "unjudged: it isn't pinned",
		"at: v9, path: door.yaml" + pin: "unjudged: v9 is no tag and no whole commit name there",
		"at: v1, path: gone.yaml" + pin: "unjudged: there is no file gone.yaml at v1",
		"at: v2, path: door.yaml" + pin: "wrong: has the digest",
		"at: v1, path: door.yaml" + pin + "}\ndoors: {merge: {limits: [{name: warnings, count: new, severity: warning, most: 3}]}": "wrong: is firm in " + strings.TrimPrefix(folder(s, "")[5:], " "),
	} {
		s.write(".zincdoor/policy.yaml", "zincdoor: 1\ninherit: {"+folder(s, rest)+"}\n")
		code, want := map[string]int{"unjudged": 2, "wrong": 3}[want[:strings.IndexByte(want, ':')]], want[strings.IndexByte(want, ' ')+1:]
		want = strings.TrimSuffix(want, ", ")
		if said := s.must(code, "gate", "--worktree", "--report", "-"); !strings.Contains(said, want) {
			t.Errorf("%s: want %q in %s", rest, want, said)
		}
	}
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\ninherit: {"+folder(s, "at: v1, path: quay/door.yaml")+"}\n")
	if said := s.must(0, "policy", "show", "--origin", "--run"); !strings.Contains(said, "@v1:door.yaml:5") {
		t.Errorf("through two levels: %s", said)
	}
	s.git("config", "zincdoor.run", "true")
	s.must(0, "policy", "check")

	// What the change makes of the policy is reported with what it inherits.
	s.git("checkout", "-q", "--", ".")
	s.git("switch", "-q", "low-water")
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\ninherit: {"+folder(s, "at: v2, path: door.yaml, digest: \""+digest(strings.Replace(harbour, "most: 0", "most: 7", 1))+"\"")+"}\n")
	s.commit("another pin")
	if v := s.judge(against...); v.Code != 1 || strings.Join(v.Policy.Altered, "|") != "merge: warnings 0 → 7" {
		t.Errorf("another pin: %s %v", v.about(), v.Policy.Altered)
	}
}

// TestInheritInside: a policy of the same repository is inherited from the state that the policy itself is read from.
func TestInheritInside(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\ninherit: {path: .zincdoor/base.yaml}\n")
	s.write(".zincdoor/base.yaml", harbour)
	s.commit("one")
	s.git("switch", "-q", "-c", "low-water")
	s.write("core/tide.c", altered)
	s.write(".zincdoor/base.yaml", strings.Replace(harbour, "most: 0", "most: 2", 1))
	s.commit("two")
	s.stdin = warn("core/tide.c", 5)
	if v := s.judge("--into", "main", "--report", "-"); v.Code != 1 || strings.Join(v.Policy.Altered, "|") != "merge: warnings 0 → 2" {
		t.Errorf("%s %v", v.about(), v.Policy.Altered)
	}
	s.git("rm", "-q", "--cached", ".zincdoor/base.yaml")
	if err := os.Remove(filepath.Join(s.dir, ".zincdoor/base.yaml")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("../core/tide.c", filepath.Join(s.dir, ".zincdoor/base.yaml")); err != nil {
		t.Fatal(err)
	}
	if said := s.must(2, "gate", "--worktree", "--report", "-"); !strings.Contains(said, "symbolic link") {
		t.Errorf("a link in its place: %s", said)
	}
}

// TestInheritFetched: a policy on another machine is fetched where the user lets it be, and kept.
func TestInheritFetched(t *testing.T) {
	t.Parallel()
	org := standards(t)
	address := "git: \"file://" + filepath.ToSlash(org.dir) + "\", at: v1, path: door.yaml"
	against := []string{"--into", "main", "--report", "-"}

	s := inheriting(t, address+", digest: \""+digest(harbour)+"\"")
	if said := s.must(2, append([]string{"gate"}, against...)...); !strings.Contains(said, "git config zincdoor.run true") {
		t.Errorf("not allowed: %s", said)
	}
	away := org.dir + "-away"
	if v := s.judge(append(against, "--run")...); v.Code != 1 {
		t.Errorf("fetched: %s", v.about())
	}
	if err := os.Rename(org.dir, away); err != nil {
		t.Fatal(err)
	}
	if v := s.judge(against...); v.Code != 1 {
		t.Errorf("pinned and kept: %s", v.about())
	}

	s = inheriting(t, strings.Replace(address, org.dir, away, 1))
	s.git("config", "zincdoor.run", "true")
	if v := s.judge(against...); v.Code != 1 || len(v.Notices) > 1 {
		t.Errorf("not pinned, fetched: %s", v.about())
	}
	moved := &sandbox{T: t, dir: away}
	before := moved.git("rev-parse", "v1^{commit}")
	moved.write("door.yaml", strings.Replace(harbour, "most: 0", "most: 1", 1))
	moved.commit("milder")
	moved.git("tag", "-f", "v1")
	if v := s.judge(against...); !strings.Contains(v.about(), "v1 was moved. To pin") {
		t.Errorf("a tag that was moved: %s", v.about())
	}
	if v := s.judge(against...); strings.Contains(v.about(), "was moved. To pin what it is now: digest:") {
		t.Errorf("told twice: %s", v.about())
	}
	moved.git("tag", "-f", "v1", before)
	s.judge(against...)
	if err := os.Rename(away, org.dir); err != nil {
		t.Fatal(err)
	}
	if v := s.judge(against...); v.Code != 1 || !strings.Contains(v.about(), "), so the last copy of it is used") {
		t.Errorf("not pinned, kept: %s", v.about())
	}
	s.git("config", "zincdoor.run", "false")
	s.must(2, append([]string{"gate"}, against...)...)

	s = branch(t, "")
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\ninherit: {"+strings.Replace(address, org.dir, away, 1)+"}\n")
	s.commit("a policy of its own, where main has none")
	if said := s.must(2, append([]string{"gate", "--run"}, against...)...); !strings.Contains(said, "trust the policy that names it") {
		t.Errorf("a policy of the change's own starts something: %s", said)
	}
}
