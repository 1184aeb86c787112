package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// estuary is a repository whose last commit touches line 5 of core/tide.c, core/low.h, core/söl.c and core/twin.h, which has a
// twin in all but case. Links lead to files and folders of it.
func estuary(t *testing.T) *sandbox {
	s := repository(t)
	for _, name := range touchedFiles {
		s.write(name, lines(10))
	}
	for _, name := range []string{"core/gauge.c", "core/Twin.h", "boards/zone.c", "fares/zone.c", "zone.h"} {
		s.write(name, lines(10))
	}
	for link, to := range map[string]string{"include/low.h": "../core/low.h", "inc": "core", "loop": ".", "boards/up": "..", "quay.c": "inc/tide.c"} {
		os.MkdirAll(filepath.Dir(filepath.Join(s.dir, link)), 0o755)
		if err := os.Symlink(to, filepath.Join(s.dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	s.write(".gitignore", "/build/\n")
	s.commit("one")
	for _, name := range touchedFiles {
		s.write(name, altered)
	}
	s.commit("two")
	s.write("build/core/copy.c", lines(10))
	return s
}

var touchedFiles = []string{"core/tide.c", "core/low.h", "core/s\u00f6l.c", "core/twin.h", "boards/zone.h"}

// trusted is what a report says, and for what it is judged.
type trusted struct {
	name, report string
	args         []string // in place of judging the last commit
}

func (s *sandbox) judgeReport(c trusted) verdict {
	s.Helper()
	s.stdin = c.report
	if c.args == nil {
		c.args = []string{"--range", "HEAD~..HEAD", "--report", "-"}
	}
	return s.judge(c.args...)
}

// TestNothingOpens: a finding on a touched line, or one that may be missing, never leaves the door open, however it is told.
func TestNothingOpens(t *testing.T) {
	s := estuary(t)
	for _, path := range []string{
		"/usr/src/app/core/tide.c", "/usr/src/app/core/low.h", "/app/node_modules/app/core/tide.c", "/opt/site-packages/tideboard/core/tide.c", "/root/go/pkg/mod/tideboard/core/tide.c", "/usr/tide.c", "node_modules/x/core/tide.c", "/usr/local/lib/python3/dist-packages/core/tide.c",
		"include/low.h", "inc/tide.c", "loop/core/tide.c", "loop/loop/loop/core/tide.c", "boards/up/core/tide.c", "inc/../core/tide.c", "quay.c", "loop/inc/tide.c", "/usr/src/app/inc/tide.c", "./loop/./core//tide.c", "/builds/7/loop/core/tide.c",
		"core/so\u0308l.c", "/usr/src/app/core/so\u0308l.c", "CORE/TIDE.C", "/Users/x/Core/Tide.c", "core/TWIN.h", "TWIN.H", "core/twiN.h", `C:\tideboard\core\tide.c`, `core\tide.c`, `\\server\share\core\tide.c`,
		"build/core/copy.c", "build/core/tide.c", "<stdin>", "core", "core/", ".", "-", "/dev/stdin", "stdin", "<unknown>", "(standard input)", "loop", "inc", "build", "/somewhere/zone.h",
		"file:///usr/src/app/core/tide.c", "../core/tide.c", "../../core/tide.c", "/core/tide.c", "core/../../core/tide.c", "tide.c", "./tide.c", "core/./tide.c", "core//tide.c", "/tmp/copy-81/tide.c",
	} {
		for form, report := range map[string]string{"text": warn(path, 5), "SARIF": sarifLog(sarifResult(path, 5)[1:])} {
			if v := s.judgeReport(trusted{report: report}); v.Code == 0 {
				t.Errorf("%s, %s alone: %s", path, form, v.about())
			}
		}
		if !strings.ContainsAny(path, "/.") || path == "." || strings.HasPrefix(path, "/dev/") || strings.HasPrefix(path, "build/core/copy") || path == "core/" {
			continue // another file, beside which nothing can be said of the change's
		}
		if v := s.judgeReport(trusted{report: warn("core/gauge.c", 1) + warn(path, 5)}); v.Code == 0 {
			t.Errorf("%s beside another: %s", path, v.about())
		}
	}
}

// TestHonest: what honest tools say of what is well doesn't stop anybody.
func TestHonest(t *testing.T) {
	s := estuary(t)
	for _, path := range []string{
		"/usr/src/app/core/tide.c", "/app/node_modules/app/core/tide.c", "include/low.h", "inc/tide.c", "loop/core/tide.c", "core/so\u0308l.c", "/usr/src/app/core/so\u0308l.c", "CORE/TIDE.C", "quay.c", "./core/tide.c", `C:\tideboard\core\tide.c`, "../core/tide.c",
	} {
		for name, report := range map[string]string{
			"alone": warn(path, 2), "beside a system's header": warn(path, 2) + warn("/usr/include/math.h", 9), "beside another": warn("core/gauge.c", 1) + warn(path, 2),
		} {
			if v := s.judgeReport(trusted{report: report}); v.Code != 0 || !strings.HasPrefix(v.Findings[len(v.Findings)-1].Path, "core/") && !strings.HasPrefix(v.Findings[0].Path, "core/") {
				t.Errorf("%s %s: %s %s", path, name, v.standings(), v.about())
			}
		}
	}
}
