package fit

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/policyfile"
)

// TestCompilers: which compilers are proposed for which files, and with which flags.
func TestCompilers(t *testing.T) {
	for _, c := range []struct {
		name  string
		files map[string]string
		here  string // the programs of the machine
		want  string // each proposal as: language name command, in folder
	}{
		{"nothing", map[string]string{"README.md": ""}, "gcc go", ""},
		{"no compiler", map[string]string{"a.c": ""}, "go", ""},
		{"both compilers of C", map[string]string{"a.c": ""}, "clang gcc", "c gcc gcc -Wall -Wextra -fsyntax-only; c clang clang -Wall -Wextra -fsyntax-only"},
		{"headers beside their sources", map[string]string{"core/a.c": "#include \"a.h\"\n", "core/a.h": ""}, "gcc", "c gcc gcc -Wall -Wextra -fsyntax-only"},
		{"headers elsewhere", map[string]string{"core/a.c": " #  include <tide/low.h>\n#include \"fares.h\"\n#include <stdio.h>\n", "include/tide/low.h": "", "fares.h": ""}, "gcc",
			"c gcc gcc -Wall -Wextra -I. -Iinclude -fsyntax-only"},
		{"another name's end", map[string]string{"a.c": "#include \"low.h\"\n", "include/slow.h": ""}, "gcc", "c gcc gcc -Wall -Wextra -fsyntax-only"},
		{"the commands of a build", map[string]string{
			"a.c": "#include \"x.h\"\n", "include/x.h": "",
			"build/compile_commands.json": `[{"directory": "ROOT/build", "command": "cc -O2 -I../include -isystem /opt/sdk -DA=1 -DB=\"b c\" -std=c11 -c a.c"}, {"directory": "ROOT", "arguments": ["cc", "-I", "include", "-isystem", "/opt/sdk", "-D", "A=1", "-DONE", "-std=c11"]}]`,
		}, "gcc", "c gcc gcc -Wall -Wextra -Iinclude -isystem/opt/sdk -DA=1 -std=c11 -fsyntax-only"},
		{"broken commands of a build", map[string]string{"a.c": "", "compile_commands.json": "[{"}, "gcc", "c gcc gcc -Wall -Wextra -fsyntax-only"},
		{"modules", map[string]string{"boards/go.mod": "", "fares/go.mod": "", "fares/a.go": ""}, "go", "go vet-boards go vet ./..., in boards; go vet-fares go vet ./..., in fares"},
		{"a module at the root", map[string]string{"go.mod": "", "fares/go.mod": "", "a.go": ""}, "go", "go vet go vet ./..."},
		{"other languages", map[string]string{"a.cc": "", "B.java": "", "tsconfig.json": "", "c.ts": "", "c.d.ts": ""}, "g++ javac tsc",
			"c++ g++ g++ -Wall -Wextra -fsyntax-only; java javac javac -Xlint:all -proc:none -d build/classes; typescript tsc tsc --noEmit --pretty false"},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := t.TempDir()
			var files []string
			for name, text := range c.files {
				files = append(files, name)
				file := filepath.Join(root, filepath.FromSlash(name))
				if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(file, []byte(strings.ReplaceAll(text, "ROOT", filepath.ToSlash(root))), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			has := func(program string) bool { return strings.Contains(" "+c.here+" ", " "+program+" ") }
			var got []string
			for _, p := range Compilers(root, sorted(files), has) {
				said := fmt.Sprintf("%s %s %s", p.For, p.Report.Name, strings.Join(p.Report.Run.Command, " "))
				if p.Report.Run.Folder != "" {
					said += ", in " + p.Report.Run.Folder
				}
				got = append(got, said)
			}
			if said := strings.Join(got, "; "); said != c.want {
				t.Errorf("proposes %s\nwant %s", said, c.want)
			}
		})
	}
}

// TestStarter: every starter policy is a valid one.
func TestStarter(t *testing.T) {
	for _, s := range []Starter{{Branch: "main"}, {Branch: "origin/it's: new", Advise: true}, {Branch: "main", Reports: []policy.Report{FileReport("build/a b.sarif", "sarif")}}} {
		text, err := s.Text()
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			if len(line) > 81 {
				t.Errorf("a line of %d columns: %s", len(line)-1, line)
			}
		}
		checkPolicy(t, text)
	}
}

func sorted(list []string) []string { return slices.Sorted(slices.Values(list)) }

func checkPolicy(t *testing.T, text []byte) {
	t.Helper()
	file, err := policyfile.Parse("starter", text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if len(file.Policy.Doors) != 6 {
		t.Errorf("%d doors", len(file.Policy.Doors))
	}
}
