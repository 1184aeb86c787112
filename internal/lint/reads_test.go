package lint

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestReadRules: what a compiler says it read is found in the site, and nothing is reported where it can't be.
func TestReadRules(t *testing.T) {
	s := &site{dir: t.TempDir()}
	for _, name := range []string{"core/tide.c", "core/low.h", "core/a b.h", "core/#$.h", "quay/low.h"} {
		at := filepath.Join(s.dir, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct{ name, folder, rules, want string }{
		{"one", "", "tide.o: core/tide.c core/low.h\n", "core/tide.c: core/low.h"},
		{"over several lines", "", "tide.o: core/tide.c \\\n  core/low.h \\\n quay/low.h\n", "core/tide.c: core/low.h, quay/low.h"},
		{"in a folder", "core", "tide.o: tide.c ../quay/low.h low.h\n", "core/tide.c: core/low.h, quay/low.h"},
		{"quoted", "", "tide.o: core/tide.c core/a\\ b.h core/\\#$$.h\n", "core/tide.c: core/#$.h, core/a b.h"},
		{"absolute", "", "DIR/tide.o: DIR/core/tide.c DIR/core/low.h /usr/include/stdio.h\n", "core/tide.c: core/low.h"},
		{"twice", "", "a.o: core/tide.c core/low.h\nb.o: core/tide.c core/low.h quay/low.h\n", "core/tide.c: core/low.h, quay/low.h"},
		{"nothing read", "", "tide.o: core/tide.c\n", "core/tide.c: "},
		{"targets alone", "", "tide.o: core/tide.c core/low.h\n\ncore/low.h:\n", "core/tide.c: core/low.h"},
		{"a file that isn't there", "", "tide.o: core/tide.c core/high.h\n", ""},
		{"no rules", "", "core/tide.c core/low.h\n", ""},
	} {
		name := filepath.Join(t.TempDir(), "reads")
		if err := os.WriteFile(name, []byte(strings.ReplaceAll(c.rules, "DIR", s.dir)), 0o644); err != nil {
			t.Fatal(err)
		}
		got := ""
		for about, read := range s.readRules(name, c.folder) {
			got += about + ": " + strings.Join(read, ", ")
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// FuzzPrerequisites: any names survive being written as a rule.
func FuzzPrerequisites(f *testing.F) {
	f.Add("tide.o: core/tide.c core/a\\ b.h", "core/#$.h")
	f.Fuzz(func(t *testing.T, rule, name string) {
		prerequisites(rule)
		if name == "" || strings.ContainsAny(name, "\t\r\n\\") {
			return
		}
		written := strings.NewReplacer(" ", `\ `, "#", `\#`, "$", "$$").Replace(name)
		if got := prerequisites("tide.o: " + written + " core/low.h"); !slices.Equal(got, []string{name, "core/low.h"}) {
			t.Errorf("%q comes out as %q", name, got)
		}
	})
}
