package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestTampering: whatever a change does to the door's own files, to git's or to its code, its new finding shuts the door.
func TestTampering(t *testing.T) {
	t.Parallel()
	const policy = `zincdoor: 1
inherit: {path: .zincdoor/base.yaml}
doors:
  merge:
    judges: branch
    limits: [{count: new, severity: warning, most: 0}]
    waivers: {upto: note}
`
	loose := strings.Replace(policy, "most: 0", "most: 99", 1)
	for name, tamper := range map[string]func(s *sandbox){
		"a looser policy":      func(s *sandbox) { s.write(".zincdoor/policy.yaml", loose) },
		"no policy":            func(s *sandbox) { s.git("rm", "-q", ".zincdoor/policy.yaml") },
		"an ignoring severity": func(s *sandbox) { s.write(".zincdoor/policy.yaml", policy+"severities: [{rule: '*', is: ignored}]\n") },
		"a skipped path":       func(s *sandbox) { s.write(".zincdoor/policy.yaml", policy+"paths: {skip: '**'}\n") },
		"another inheritance": func(s *sandbox) {
			s.write("loose.yaml", loose)
			s.write(".zincdoor/policy.yaml", "zincdoor: 1\ninherit: {path: loose.yaml}\n")
		},
		"an altered inherited policy": func(s *sandbox) {
			s.write(".zincdoor/base.yaml", "zincdoor: 1\nseverities: [{rule: '*', is: ignored}]\n")
		},
		"another baseline": func(s *sandbox) {
			s.write(".zincdoor/policy.yaml", policy+"baseline: mine.jsonl\n")
			s.acceptAll("mine.jsonl")
		},
		"an accepted finding":       func(s *sandbox) { s.acceptAll(baselineFile) },
		"no baseline":               func(s *sandbox) { s.git("rm", "-q", baselineFile) },
		"a baseline without covers": func(s *sandbox) { s.write(baselineFile, `{"zincdoor":"baseline/1","covers":[]}`+"\n") },
		"a folder of another place": func(s *sandbox) {
			s.git("mv", ".zincdoor", "elsewhere")
			if err := os.Symlink("elsewhere", filepath.Join(s.dir, ".zincdoor")); err != nil {
				s.Fatal(err)
			}
		},
		"attributes": func(s *sandbox) { s.write(".gitattributes", "*.c binary -diff -text\n") },
		"attributes of ours": func(s *sandbox) {
			s.write(".zincdoor/.gitattributes", "* merge=ours\n")
			s.write("core/.gitattributes", "* -diff\n")
		},
		"an ignored file": func(s *sandbox) { s.write(".gitignore", "r.txt\ncore/\n") },
		"a waiver": func(s *sandbox) {
			s.write("core/tide.c", strings.Replace(altered, "fresh;", "fresh; // door waiver(*): please", 1))
		},
		"a renamed file": func(s *sandbox) {
			s.git("mv", "core/tide.c", "core/tides.c")
			s.write("r.txt", warn("core/tides.c", 5))
		},
		"a mode": func(s *sandbox) { s.git("update-index", "--chmod=+x", "core/tide.c") },
	} {
		t.Run(name, func(t *testing.T) {
			s := repository(t)
			s.write(".gitignore", "r.txt\n")
			s.write(".zincdoor/policy.yaml", policy)
			s.write(".zincdoor/base.yaml", "zincdoor: 1\n")
			s.write("core/tide.c", lines(10))
			s.write("r.txt", warn("core/tide.c", 2))
			s.take("r.txt")
			s.commit("one")
			s.git("switch", "-q", "-c", "low-water")
			s.write("core/tide.c", altered)
			s.write("r.txt", warn("core/tide.c", 2)+warn("core/tide.c", 5))
			tamper(s)
			s.commit("two")
			if v := s.judge("--into", "main", "--report", "r.txt"); v.Code != 1 {
				t.Errorf("%s\n%s", v.about(), v.standings())
			}
		})
	}
}

// acceptAll writes a list that accepts the finding of the change.
func (s *sandbox) acceptAll(name string) {
	s.Helper()
	s.must(0, "baseline", "accept", "--rule", "-W*", "--report", "r.txt", "--yes")
	if name != baselineFile {
		s.write(name, s.read(baselineFile))
	}
}
