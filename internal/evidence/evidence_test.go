package evidence

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/gittest"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/target"
)

const doors = "doors: {d: {limits: [{count: new, most: 0}]}}\n"

// tideboard is a repository of two commits: the second inserts a line before the second of core/tide.c.
func tideboard(t *testing.T) *gittest.Repo {
	r := gittest.New(t)
	r.Write("core/tide.c", "int a;\nint b;\nint c;\n")
	r.Write("docs/tides.md", "Tides\n")
	r.Write("tide.c", "int t;\nint u;\n")
	r.Write("core/low.c", "int l;\n")
	r.Commit("one")
	r.Write("core/tide.c", "int a;\nint new;\nint b;\nint c;\n")
	r.Commit("two")
	return r
}

// collect collects the evidence of a change by a policy, and says what came of it: each report with its state, then each
// finding with its place.
func collect(t *testing.T, r *gittest.Repo, name target.Name, text string, given Given) (string, *Collected) {
	t.Helper()
	repo, err := git.Open(context.Background(), r.Dir)
	if err != nil {
		t.Fatal(err)
	}
	defer repo.Close()
	g, err := target.Of(repo, name)
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
	p, err := policyfile.Parse("p", []byte("zincdoor: 1\n"+text+doors))
	if err != nil {
		t.Fatal(err)
	}
	given.Dir = r.Dir
	all, err := Collect(context.Background(), Request{Target: g, Policy: p.Policy, Door: p.Policy.Doors[0], Given: given, Refusal: func() string { return "" }, Fresh: true})
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, e := range all.Evidence {
		said = append(said, fmt.Sprintf("%s %s", e.Name, e.State))
	}
	for _, f := range all.Findings {
		said = append(said, fmt.Sprintf("%s:%d %s", f.Path, f.Region.Line, all.Change.Place(f.Path, f.Region, true)))
	}
	return strings.Join(said, ", "), all
}

func warn(path string, line int) string {
	return fmt.Sprintf("%s:%d:1: warning: unused [-Wunused]\n", path, line)
}

// TestCollect: reports are read, placed in the tree they speak of, carried to the judged lines, and believed or not.
func TestCollect(t *testing.T) {
	r := tideboard(t)
	first := r.Git("rev-parse", "HEAD~1")
	const gauge = "recipes: {lines: {as: text, match: '^(?P<path>[^:]+):(?P<line>\\d+) (?P<message>.*)$'}}\n"
	change := target.Name{Kind: policy.Range, From: "HEAD~1", To: "HEAD"}
	for _, c := range []struct {
		name   string
		text   string // of the report
		policy string
		given  Given
		want   string
	}{
		{"at the head", warn("core/tide.c", 2) + warn("core/tide.c", 4), "", Given{}, "r.txt read, core/tide.c:2 touched, core/tide.c:4 file"},
		{"a path of another machine", warn("/build/core/tide.c", 2), "", Given{}, "r.txt read, core/tide.c:2 touched"},
		{"paths from a folder", warn("tide.c", 2), "", Given{Root: "core"}, "r.txt read, core/tide.c:2 touched"},
		{"of the state before, where a touched line differs", warn("core/tide.c", 2), "", Given{Commit: first}, "r.txt foreign"},
		{"past the end", warn("core/tide.c", 9), "", Given{}, "r.txt foreign"},
		{"of another tree", warn("harbour/quay.c", 2), "", Given{}, "r.txt foreign"},
		{"the name of a changed file", warn("elsewhere/tide.c", 2) + warn("docs/tides.md", 1), "", Given{}, "r.txt foreign"},
		{"paths of two folders, one of a changed file", warn("tide.c", 2) + warn("low.c", 1), "", Given{}, "r.txt foreign"},
		{"paths of two folders, where the call says which", warn("tide.c", 2) + warn("low.c", 1), "", Given{Root: "core"}, "r.txt read, core/low.c:1 elsewhere, core/tide.c:2 touched"},
		{"empty", "", "", Given{}, "r.txt failed"},
		{"empty, and said to be clean", "", "", Given{Files: []File{{Name: "diagnostics", Path: "r.txt"}}, EmptyIsClean: true}, "r.txt empty"},
		{"empty, by a recipe for text", "", gauge, Given{Files: []File{{Name: "lines", Path: "r.txt"}}}, "r.txt failed"},
		{"empty, by a recipe for text, and said to be clean", "", gauge, Given{Files: []File{{Name: "lines", Path: "r.txt"}}, EmptyIsClean: true}, "r.txt empty"},
		{"our own checks beside it", warn("core/tide.c", 2), "house: {forbid: {no-new: {text: new, path: '**/*.c'}}}\n", Given{}, "r.txt read, house read, core/tide.c:2 touched, core/tide.c:2 touched"},
		{"a linter that is started", "", "reports: {vet: {run: [sh, -c, 'echo core/tide.c:2:1: warning: old'], as: diagnostics}}\n", Given{Files: []File{}}, "vet read, core/tide.c:2 touched"},
		{"one that the call stands in for", warn("core/tide.c", 4), "reports: {vet: {run: [false], as: diagnostics}}\n", Given{Files: []File{{Name: "vet", Path: "r.txt"}}}, "vet read, core/tide.c:4 file"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r.Write("r.txt", c.text)
			if c.given.Files == nil {
				c.given.Files = []File{{Path: "r.txt"}}
			}
			if got, all := collect(t, r, change, c.policy, c.given); got != c.want {
				t.Errorf("got  %s\nwant %s\n%+v", got, c.want, all.Evidence)
			}
		})
	}
}

// TestBuildLogs: a build's log covers what was compiled in it, and is no evidence for a changed file of that kind that wasn't.
func TestBuildLogs(t *testing.T) {
	r := tideboard(t)
	r.Write(".gitignore", "r.txt\n")
	r.Write("core/low.c", "int l;\n")
	r.Write("core/tide.h", "int t;\n")
	r.Write("fares/low.c", "int l;\n")
	r.Commit("three")
	r.Write("core/tide.c", "int a;\nint new;\n")
	r.Write("core/tide.h", "int new;\n")
	r.Write("core/low.c", "int new;\n")
	r.Commit("four")
	change := target.Name{Kind: policy.Range, From: "HEAD~1", To: "HEAD"}
	in := func(folder, text string) string {
		return "make[1]: Entering directory '" + folder + "'\n" + text + "make[1]: Leaving directory '" + folder + "'\n"
	}
	for _, c := range []struct{ name, text, policy, want, covers string }{
		{"all of it", "gcc -c core/tide.c core/low.c\n" + warn("core/tide.h", 1), "", "read, core/tide.h:1 touched", "core/low.c core/tide.c core/tide.h"},
		{"a part of it", "gcc -c core/tide.c\n" + warn("core/tide.c", 1), "", "failed, core/tide.c:1 file", ""},
		{"a part of it, found in the rest", "gcc -c core/tide.c\n" + warn("core/low.c", 1), "", "read, core/low.c:1 touched", ""},
		{"a part, and the policy says that there is no more", "gcc -c core/tide.c\n" + warn("core/tide.c", 1), "covers: core/t*", "read, core/tide.c:1 file", "core/tide.c"},
		{"objects of all", "  CC    core/tide.o\n  CC    core/low.o\n" + warn("core/tide.c", 1), "", "read, core/tide.c:1 file", "core/low.c core/tide.c fares/low.c tide.c"},
		{"objects of a part", "  CC    core/tide.o\n" + warn("core/tide.c", 1), "", "failed, core/tide.c:1 file", ""},
		{"nobody knows what", "gcc -c core/*.c\n" + warn("core/tide.c", 1), "", "read, core/tide.c:1 file", "**"},
		{"in a folder of this machine", in(r.Dir+"/core", "gcc -c tide.c low.c\n"+warn("tide.c", 1)), "", "read, core/tide.c:1 file", "core/low.c core/tide.c"},
		{"in a folder of a container", in("/usr/src/app/core", "gcc -c tide.c low.c\n"+warn("low.c", 1)), "", "read, core/low.c:1 touched", "core/low.c core/tide.c"},
		{"in another folder that has such a file too", in("/usr/src/app/fares", "gcc -c low.c ../core/tide.c ../core/low.c\n"+warn("low.c", 1)), "", "read, fares/low.c:1 elsewhere", "core/low.c core/tide.c fares/low.c"},
		{"where no command of it fits the folder", in("/usr/src/app/nowhere", "gcc -c core/tide.c core/low.c\n"+warn("core/low.c", 1)), "", "read, core/low.c:1 touched", ""},
		{"in two folders at once", "make[1]: Entering directory '" + r.Dir + "/fares'\n" + in(r.Dir+"/core", warn("low.c", 1)) + "make[1]: Leaving directory '" + r.Dir + "/fares'\n", "", "foreign", ""},
		{"a log without its end", strings.Split(in("/srv/core", "gcc -c tide.c low.c\n"), "make[1]: L")[0] + warn("tide.c", 1), "", "failed, core/tide.c:1 file", ""},
	} {
		r.Write("r.txt", c.text)
		got, all := collect(t, r, change, "reports: {build: {as: diagnostics, file: r.txt"+strings.TrimSuffix(", "+c.policy, ", ")+"}}\n", Given{Files: []File{}})
		covers := strings.Join(all.Evidence[0].Covers[0].Paths, " ")
		if got != "build "+c.want || c.covers != "" && covers != c.covers {
			t.Errorf("%s: %s, want %s; covers %s, want %s; %+v", c.name, got, c.want, covers, c.covers, all.Evidence)
		}
	}
}

// TestGoStops: what go can't compile keeps all that import it from being looked at, and what it can't load everything.
func TestGoStops(t *testing.T) {
	r := gittest.New(t)
	r.Write(".gitignore", "r.txt\n")
	r.Write("go.mod", "module brackwater.example/tideboard\n\ngo 1.26\n")
	r.Write("tide.go", "package tideboard\n")
	r.Write("fares/fare.go", "package fares\n")
	r.Write("fares/zone/zone.go", "package zone\n\nimport _ \"brackwater.example/tideboard/fares\"\n")
	r.Write("boards/board.go", "package boards\n\nimport (\n\t\"fmt\"\n\tfare \"brackwater.example/tideboard/fares/zone\"\n)\n\nfunc Say(x fare.Zone) { fmt.Println(x) }\n")
	r.Write("quay/quay.go", "package quay\n\nimport \"fmt\"\n\nfunc Say() { fmt.Println(\"brackwater.example/tideboard/fares\") }\n")
	r.Write("tools/go.mod", "module brackwater.example/elsewhere\n")
	r.Write("tools/low/low.go", "package low\n")
	r.Write("tools/high/high.go", "package high\n\nimport _ \"brackwater.example/elsewhere/low\"\n")
	r.Write("tools/root.go", "package elsewhere\n\nimport _ \"brackwater.example/tideboard\"\n")
	r.Commit("one")
	stop := func(at string) string {
		return "# a\nvet: " + at + ":1:1: undefined: tide\n# b\nquay/quay.go:5:14: unreachable code\n"
	}
	for _, c := range []struct{ changed, text, want string }{
		{"fares/fare.go", stop("fares/fare.go"), "failed"},
		{"fares/zone/zone.go", stop("fares/fare.go"), "failed"},
		{"boards/board.go", stop("fares/fare.go"), "failed"},
		{"boards/board.go", "# a\nfares/fare.go:1:1: undefined: tide\n", "failed"},
		{"quay/quay.go", stop("fares/fare.go"), "read"},
		{"tide.go", stop("fares/fare.go"), "read"},
		{"tools/high/high.go", stop("fares/fare.go"), "read"},
		{"tools/high/high.go", stop("tools/low/low.go"), "failed"},
		{"tools/root.go", stop("tide.go"), "failed"},
		{"fares/fare.go", stop("tide.go"), "read"},
		{"quay/quay.go", "fares/fare.go:3:8: no required module provides package brackwater.example/low; to add it:\n\tgo get brackwater.example/low\n", "failed"},
		{"quay/quay.go", "quay/quay.go:5:14: unreachable code\nfares/fare.go:3:1: expected 'package', found 'EOF'\n", "failed"},
		{"quay/quay.go", "quay/quay.go:5:14: unreachable code\nfares/fare.go:1:1: a tide table is too long\n", "read"},
	} {
		text := r.Git("show", "HEAD:"+c.changed)
		r.Write(c.changed, text+"\n\n// changed\n")
		r.Commit("two")
		r.Write("r.txt", c.text)
		_, all := collect(t, r, target.Name{Kind: policy.Range, From: "HEAD~1", To: "HEAD"}, "", Given{Files: []File{{Path: "r.txt"}}})
		if got := string(all.Evidence[0].State); got != c.want {
			t.Errorf("%s changed, %q: %s, want %s; %+v", c.changed, c.text, got, c.want, all.Evidence)
		}
		r.Git("reset", "-q", "--hard", "HEAD~")
	}
}

// TestOtherBreaks: where tools may number a file's lines otherwise than git, all of it counts as touched, unless the report shows
// which line it means.
func TestOtherBreaks(t *testing.T) {
	for _, sign := range []string{"\r", "\f", "\v", "\u0085", "\u2028", "\u2029"} {
		r := gittest.New(t)
		r.Write(".gitignore", "r.txt\n")
		r.Write("core/gauge.c", "int q; /* a"+sign+"b */\nint r;\n")
		r.Write("core/tide.c", "int a; /* a"+sign+"b */\nint b;\nint c;\n")
		r.Commit("one")
		r.Write("core/tide.c", "int a; /* a"+sign+"b */\nint new;\nint b;\nint c;\n")
		r.Commit("two")
		for _, c := range []struct {
			text, want string
			notices    int
		}{
			{warn("core/tide.c", 3), "core/tide.c:3 touched", 1},
			{warn("core/tide.c", 7), "core/tide.c:7 touched", 1},
			{warn("core/tide.c", 3) + "    3 | int b;\n", "core/tide.c:3 file", 0},
			{warn("core/tide.c", 3) + "    3 | int new;\n", "core/tide.c:3 touched", 1},
			{warn("core/gauge.c", 3), "core/gauge.c:3 elsewhere", 0},
		} {
			r.Write("r.txt", c.text)
			got, all := collect(t, r, target.Name{Kind: policy.Range, From: "HEAD~1", To: "HEAD"}, "", Given{Files: []File{{Path: "r.txt"}}})
			if got != "r.txt read, "+c.want || len(all.Notices) != c.notices {
				t.Errorf("%q, %q: %s %v %+v", sign, c.text, got, all.Notices, all.Evidence)
			}
		}
	}
}

// TestHalfStaged: a report of the work tree can shut the door for what is staged in part, by the lines that are the same there,
// and never open it.
func TestHalfStaged(t *testing.T) {
	r := tideboard(t)
	r.Write("core/tide.c", "int a;\nint new;\nint b;\nint c;\nint staged;\n")
	r.Git("add", "-A")
	r.Write("core/tide.c", "int disk;\nint a;\nint new;\nint b;\nint c;\nint staged;\n")
	r.Write(".git/r.txt", warn("core/tide.c", 6)+warn("docs/tides.md", 1))
	got, all := collect(t, r, target.Name{Kind: policy.Staged}, "", Given{Files: []File{{Path: ".git/r.txt"}}})
	if got != ".git/r.txt foreign, core/tide.c:5 touched, docs/tides.md:1 elsewhere" || !strings.Contains(all.Evidence[0].Problem, "core/tide.c is staged in part") || len(all.Notices) != 0 {
		t.Errorf("%s\n%+v\n%v", got, all.Evidence, all.Notices)
	}
	r.Git("reset", "-q", "--hard")
	if got, all := collect(t, r, target.Name{Kind: policy.Staged}, "", Given{}); got != "" || len(all.Notices) != 1 || !strings.Contains(all.Notices[0], "nothing is staged") {
		t.Errorf("nothing staged: %q, %v", got, all.Notices)
	}
}

// TestWaiversAreFound: in files with findings, in changed ones without, and where everything is judged in all others.
func TestWaiversAreFound(t *testing.T) {
	r := tideboard(t)
	const comment = "int w; // door waiver(-Wunused): measured\n"
	r.Write("core/tide.c", r.Read("core/tide.c")+comment)
	r.Write("core/silent.c", comment)
	r.Commit("three")
	r.Write("core/later.c", "int l;\n")
	r.Commit("four")
	r.Write("r.txt", warn("core/tide.c", 5))
	for _, c := range []struct {
		name target.Name
		want int
	}{
		{target.Name{Kind: policy.Range, From: "HEAD~2", To: "HEAD"}, 2},
		{target.Name{Kind: policy.Range, From: "HEAD~1", To: "HEAD"}, 1},
		{target.Name{Kind: policy.Tree}, 2},
	} {
		if _, all := collect(t, r, c.name, "", Given{Files: []File{{Path: "r.txt"}}}); len(all.Waivers) != c.want {
			t.Errorf("%+v: %d waivers, want %d", c.name, len(all.Waivers), c.want)
		}
	}
}

// TestNoticesOnce: how a report was read is said once, whoever made it.
func TestNoticesOnce(t *testing.T) {
	r := tideboard(t)
	r.Write("r.txt", "core/tide.c:2 odd deep\n")
	const recipe = "recipes: {lines: {as: text, match: '^(?P<path>[^:]+):(?P<line>\\d+) (?P<severity>\\w+) (?P<message>.*)$'}}\n"
	change := target.Name{Kind: policy.Range, From: "HEAD~1", To: "HEAD"}
	for _, c := range []struct {
		text  string
		given Given
	}{
		{recipe + "reports: {gauge: {run: [cat, r.txt], as: lines}}\n", Given{}},
		{recipe, Given{Files: []File{{Name: "lines", Path: "r.txt"}}}},
	} {
		r.Git("add", "-A", "-f")
		r.Git("commit", "-q", "--amend", "-m", "two")
		if _, all := collect(t, r, change, c.text, c.given); len(all.Notices) != 1 || !strings.Contains(all.Notices[0], "has no severity for \"odd\"") {
			t.Errorf("%q", all.Notices)
		}
	}
}

// TestCancelled: what runs beside ends with the context, and the error is the first one's.
func TestCancelled(t *testing.T) {
	r := tideboard(t)
	ctx, cancel := context.WithCancel(context.Background())
	repo, err := git.Open(ctx, r.Dir)
	if err != nil {
		t.Fatal(err)
	}
	defer repo.Close()
	g, err := target.Of(repo, target.Name{Kind: policy.Range, From: "HEAD~1", To: "HEAD"})
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
	p, err := policyfile.Parse("p", []byte("zincdoor: 1\nhouse: {blank-ends: on}\nreports: {slow: {run: [sleep, \"60\"], as: diagnostics}}\n"+doors))
	if err != nil {
		t.Fatal(err)
	}
	cancel()
	if all, err := Collect(ctx, Request{Target: g, Policy: p.Policy, Door: p.Policy.Doors[0], Given: Given{Dir: r.Dir}, Refusal: func() string { return "" }}); err == nil {
		t.Errorf("a call that was called off gives %+v", all)
	}
}
