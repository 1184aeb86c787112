package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestPolicyReports: a door is judged by the reports that the policy names, on its terms.
func TestPolicyReports(t *testing.T) {
	t.Parallel()
	finding, fine := warn("core/tide.c", 5), sarifLog("", "")
	versioned := func(version string) string {
		return strings.Replace(fine, `"name":"farecheck"`, `"name":"farecheck","version":"`+version+`"`, 1)
	}
	for _, c := range []struct {
		name, reports, needs string
		files                map[string]string
		call                 []string
		code                 int
		say                  string
	}{
		{"read where it lies", "gauge: {file: build/w.txt}", "", map[string]string{"build/w.txt": finding}, nil, 1, "gauge read"},
		{"not there", "gauge: {file: build/w.txt}", "", nil, nil, 2, "gauge missing the file build/w.txt is missing"},
		{"empty", "gauge: {file: w.txt, as: diagnostics}", "", map[string]string{"w.txt": ""}, nil, 2, "clean: empty"},
		{"empty and clean", "gauge: {file: w.txt, as: diagnostics, clean: empty}", "", map[string]string{"w.txt": ""}, nil, 0, "gauge empty"},
		{"two shards", "gauge: {file: [a.txt, b.txt]}", "", map[string]string{"a.txt": warn("core/tide.c", 2), "b.txt": finding}, nil, 1, "gauge: b.txt read"},
		{"a shard that isn't there", "gauge: {file: [a.txt, b.txt]}", "", map[string]string{"a.txt": warn("core/tide.c", 2)}, nil, 2, "gauge: b.txt missing"},
		{"optional and not there", "gauge: {file: w.txt, optional: true}\n  fares: {file: f.sarif}", "", map[string]string{"f.sarif": fine}, nil, 0, "open\nfares read"},
		{"optional and broken", "gauge: {file: w.txt, optional: true, as: sarif}\n  fares: {file: f.sarif}", "", map[string]string{"w.txt": "{", "f.sarif": fine}, nil, 0, "gauge failed"},
		{"nothing but optional and broken", "gauge: {file: w.txt, optional: true, as: sarif}", "", map[string]string{"w.txt": "{"}, nil, 2, "gauge failed"},
		{"nothing but optional and not there", "gauge: {file: w.txt, optional: true}", "", nil, nil, 2, "there is no report to judge by, e.g. --report FILE, or reports: in the policy"},
		{"needed though optional", "gauge: {file: w.txt, optional: true}", "needs: gauge, ", nil, nil, 2, "gauge missing"},
		{"not needed here", "gauge: {file: w.txt}\n  fares: {file: f.sarif}", "needs: fares, ", map[string]string{"f.sarif": fine}, nil, 0, "open\nfares read"},
		{"stood in for", "gauge: {file: w.txt, as: diagnostics, clean: empty}", "", map[string]string{"other.txt": ""}, []string{"--report", "gauge=other.txt"}, 0, "gauge empty"},
		{"one of the call beside it", "gauge: {file: w.txt}", "", map[string]string{"other.txt": finding}, []string{"--report", "other.txt"}, 1, "gauge missing"},
		{"the version", "fares: {file: f.sarif, version: '>=2.1 <3'}", "", map[string]string{"f.sarif": versioned("2.4.1-beta")}, nil, 0, "fares read"},
		{"a longer version", "fares: {file: f.sarif, version: '>=19 <20'}", "", map[string]string{"f.sarif": versioned("Tidal farecheck version 19.1.7 (3)")}, nil, 0, "fares read"},
		{"another version", "fares: {file: f.sarif, version: '>=2.1 <3'}", "", map[string]string{"f.sarif": versioned("3.0")}, nil, 2, "fares foreign it comes from version 3.0, and the policy expects >=2.1 <3"},
		{"no version", "gauge: {file: w.txt, version: '2'}", "", map[string]string{"w.txt": warn("core/tide.c", 2)}, nil, 2, "it doesn't say the version of its tool; the policy expects"},
		{"asked for the version", "gauge: {file: w.txt, version: '>=12', ask: [sh, -c, 'echo gauge 12.2']}", "", map[string]string{"w.txt": warn("core/tide.c", 2)}, []string{"--run"}, 0, "gauge read"},
		{"asked for another version", "gauge: {file: w.txt, version: '>=13', ask: [sh, -c, 'echo gauge 12.2']}", "", map[string]string{"w.txt": warn("core/tide.c", 2)}, []string{"--run"}, 2, "it comes from version gauge 12.2"},
		{"not to be asked", "gauge: {file: w.txt, version: '>=12', ask: [sh, -c, 'echo gauge 12.2']}", "", map[string]string{"w.txt": warn("core/tide.c", 2)}, nil, 2, "git config zincdoor.run true"},
		{"asked and failing", "gauge: {file: w.txt, version: '>=12', ask: [nosuchgauge]}", "", map[string]string{"w.txt": warn("core/tide.c", 2)}, []string{"--run"}, 2, "its version isn't known:"},
		{"another tool", "fares: {file: f.sarif, tool: gauge}", "", map[string]string{"f.sarif": fine}, nil, 2, "it comes from farecheck, where the policy expects gauge"},
		{"errors that stop", "gauge: {file: w.txt}", "", map[string]string{"w.txt": "core/tide.c:2:1: error: broken\n"}, nil, 2, "an error without a flag"},
		{"errors that are findings", "gauge: {file: w.txt, errors: findings}", "", map[string]string{"w.txt": "core/tide.c:2:1: error: broken\n"}, nil, 0, "gauge read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := repository(t)
			s.write(".gitignore", "*.txt\n*.sarif\n")
			s.write("core/tide.c", lines(10))
			s.write(".zincdoor/policy.yaml", "zincdoor: 1\nreports:\n  "+c.reports+"\ndoors:\n  commit: {judges: worktree, "+c.needs+"limits: [{count: new, severity: warning, most: 0}]}\n")
			s.commit("one")
			s.write("core/tide.c", altered)
			for name, text := range c.files {
				s.write(name, text)
			}
			if v := s.judge(append([]string{"--worktree"}, c.call...)...); v.Code != c.code || !strings.Contains(v.about(), c.say) {
				t.Errorf("code %d, want %d and %q: %s", v.Code, c.code, c.say, v.about())
			}
		})
	}
}

// TestOldReport: at the door of a branch the times of files prove nothing, and are told where they can mean something.
func TestOldReport(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(10))
	s.write("core/gauge.c", lines(3))
	s.commit("one")
	s.write("core/tide.c", altered)
	s.write("core/gauge.c", lines(4))
	s.commit("two")
	s.write("w.txt", warn("core/tide.c", 2))
	age := func(name string, by time.Duration) {
		if err := os.Chtimes(filepath.Join(s.dir, name), time.Time{}, time.Now().Add(-by)); err != nil {
			t.Fatal(err)
		}
	}
	const say = "w.txt is older than the changed core/tide.c"
	for _, c := range []struct {
		name                string
		report, tide, gauge time.Duration // their ages
		call                []string
		told                bool
	}{
		{"younger than all", 0, time.Hour, 2 * time.Hour, nil, false},
		{"older than one", 90 * time.Minute, time.Hour, 2 * time.Hour, nil, true},
		{"a checkout wrote them all", 90 * time.Minute, time.Hour, time.Hour + time.Second, nil, false},
		{"it is said of which commit it is", 90 * time.Minute, time.Hour, 2 * time.Hour, []string{"--report-commit", "HEAD"}, false},
	} {
		age("w.txt", c.report)
		age("core/tide.c", c.tide)
		age("core/gauge.c", c.gauge)
		if v := s.judge(append([]string{"--range", "HEAD~..HEAD", "--report", "w.txt"}, c.call...)...); strings.Contains(v.about(), say) != c.told || v.Code == 2 {
			t.Errorf("%s: exit code %d, %s", c.name, v.Code, v.about())
		}
	}
}

// TestReportOnDisk: a report that the policy names must be younger than what it speaks of, and lie in the repository.
func TestReportOnDisk(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(10))
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\nreports: {gauge: {file: w.txt, covers: 'core/**'}}\ndoors: {commit: {limits: [{count: new, severity: warning, most: 0}]}}\n")
	s.commit("one")
	s.write("core/tide.c", altered)
	s.git("add", "-A")
	s.write("w.txt", warn("core/tide.c", 2))
	s.must(0, "gate", "--staged")
	if out := s.must(0, "baseline", "take", "--why", "debt"); !strings.Contains(s.read(baselineFile), `{"tool":"diagnostics","paths":["core/**"]}`) {
		t.Errorf("taken by the policy's report: %s\n%s", out, s.read(baselineFile))
	}
	old := time.Now().Add(-time.Hour)
	if err := os.Chtimes(filepath.Join(s.dir, "w.txt"), old, old); err != nil {
		t.Fatal(err)
	}
	for _, change := range []string{"--staged", "--worktree"} {
		if v := s.judge(change); v.Code != 2 || !strings.Contains(v.about(), "core/tide.c was changed after the report was written") {
			t.Errorf("%s, an old report: %s", change, v.about())
		}
	}
	s.write("README.md", "altered, and nothing that the tool looks at\n")
	os.Chtimes(filepath.Join(s.dir, "core/tide.c"), old.Add(-time.Hour), old.Add(-time.Hour))
	if v := s.judge("--worktree"); v.Code != 0 {
		t.Errorf("a file that the tool doesn't look at: %s", v.about())
	}
	s.write("core/tide.c", altered)
	if v := s.judge("--staged", "--report", "w.txt"); v.Code != 2 || !strings.Contains(v.about(), "core/tide.c was changed after the report was written") {
		t.Errorf("one of the call: %s", v.about())
	}
	if v := s.judge("--tree", "--report", "w.txt"); v.Code == 2 {
		t.Errorf("one of the call, for everything: %s", v.about())
	}
	s.git("add", "-f", "w.txt")
	s.write("w.txt", warn("core/tide.c", 2))
	for _, call := range [][]string{{"--staged"}, {"--staged", "--report", "w.txt"}, {"--staged", "--report", "./core/../w.txt"}} {
		if v := s.judge(call...); v.Code != 2 || !strings.Contains(v.about(), "the change itself brings w.txt") {
			t.Errorf("%s, a report that is staged itself: %s", call, v.about())
		}
	}
	s.git("rm", "-q", "--cached", "w.txt")
	outside := filepath.Join(t.TempDir(), "w.txt")
	if err := os.WriteFile(outside, []byte(warn("core/tide.c", 2)), 0o644); err != nil {
		t.Fatal(err)
	}
	os.Remove(filepath.Join(s.dir, "w.txt"))
	if err := os.Symlink(outside, filepath.Join(s.dir, "w.txt")); err != nil {
		t.Fatal(err)
	}
	if v := s.judge("--tree"); v.Code != 2 || !strings.Contains(v.about(), "gauge missing it can't be read") {
		t.Errorf("a link that leads out: %s", v.about())
	}
}

// TestRecipe: a report of any shape is read as its recipe says, and judged like all others.
func TestRecipe(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.json\n")
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
ladder: [grave, error, warning, note]
recipes:
  depths:
    as: json
    each: ["$.files[*]", "$.faults[*]"]
    path: {at: $.name, up: 1}
    line: $.line
    message: $.text
    severity: $.kind
    measure: $.depth
    severities: {deep: grave, shoal: note}
    clean: '"files": \[\]'
reports:
  depths: {file: d.json, as: depths}
doors: {d: {limits: [{count: new, severity: warning, most: 0}]}}
`)
	if said := s.must(3, "gate", "--tree"); !strings.Contains(said, `a report and a recipe are both called "depths"`) {
		t.Errorf("one name for two things: %s", said)
	}
	s.write(".zincdoor/policy.yaml", strings.Replace(s.read(".zincdoor/policy.yaml"), "  depths: {file", "  sounder: {file", 1))
	s.write("core/tide.c", lines(10))
	s.commit("one")
	report := func(faults string) {
		s.write("d.json", `{"files": [{"name": "core/tide.c", "faults": [`+faults+`]}]}`)
	}
	report(`{"line": 2, "text": "too deep", "kind": "deep", "depth": 12}, {"line": 4, "text": "a shoal", "kind": "shoal"}, {"line": 5, "text": "odd", "kind": "odd"}`)
	v := s.judge("--tree")
	if got := v.Findings[0].Severity + v.Findings[1].Severity + v.Findings[2].Severity; v.Code != 1 || got != "gravenotegrave" || !strings.Contains(v.about(), `has no severity for "odd"`) {
		t.Errorf("%s: %s", got, v.about())
	}
	report(`{"line": 2, "text": "too deep", "kind": "deep", "depth": 12}`)
	s.must(0, "baseline", "take")
	report(`{"line": 2, "text": "too deep", "kind": "deep", "depth": 14}`)
	if v := s.judge("--tree"); v.Totals["worsened"] != 1 {
		t.Errorf("a measure beside the message: %v", v.Totals)
	}
	s.write("d.json", `{"files": []}`)
	if v := s.judge("--tree"); v.Code != 0 || v.Evidence[0].State != "empty" {
		t.Errorf("clean: %s", v.about())
	}
	s.write("d.json", `{"file": []}`)
	if v := s.judge("--tree"); v.Code != 2 || !strings.Contains(v.about(), "; if that means that the tool found nothing, add clean: to the recipe, with what the report says then") {
		t.Errorf("another shape: %s", v.about())
	}
	s.write("other.json", `{"files": [{"name": "core/tide.c", "faults": [{"line": 3, "text": "x", "kind": "deep"}]}]}`)
	for _, name := range []string{"depths", "sounder"} {
		if v := s.judge("--tree", "--report", name+"=other.json"); v.Totals["new"] != 1 {
			t.Errorf("given as %s: %v %s", name, v.Totals, v.about())
		}
	}
	if said := s.must(0, "recipe", "try", "depths", "other.json"); said != "finding 1\n  path        core/tide.c\n  line        3\n  severity    grave\n  message     x\n\n1 finding read\n" {
		t.Errorf("tried: %s", said)
	}
	s.must(1, "recipe", "try", "depths", "d.json")
	s.must(2, "recipe", "try", "depths", "gone.json")
	s.must(3, "recipe", "try", "depth", "other.json")
}

// TestFlows: with flows: true, a finding on an untouched line is touched when a step on the way to it is.
func TestFlows(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write("core/tide.c", lines(10))
	s.write("core/gauge.c", lines(10))
	s.commit("one")
	s.write("core/tide.c", altered)
	s.commit("two")
	flow := `,"codeFlows":[{"threadFlows":[{"locations":[{"location":{"physicalLocation":{"artifactLocation":{"uri":"core/tide.c"},"region":{"startLine":5}}}}]}]}]}`
	result := sarifResult("core/gauge.c", 3)
	s.write("r.sarif", sarifLog(strings.TrimSuffix(result, "}")[1:]+flow))
	for policy, want := range map[string]string{"": "core/gauge.c:3 elsewhere existing", "place: {flows: true}\n": "core/gauge.c:3 touched new"} {
		s.write("p.yaml", "zincdoor: 1\n"+policy+"doors: {d: {limits: [{count: new, most: 0}]}}\n")
		if v := s.judge("--range", "HEAD~..HEAD", "--policy", "p.yaml", "--report", "r.sarif"); v.standings() != want {
			t.Errorf("%s: %s, want %s", policy, v.standings(), want)
		}
	}
}

// TestToolKeepsItsName: a report that later gets a name in the policy keeps its entries, and a tool that is called otherwise is
// known by what it says; a sweep writes its new name.
func TestToolKeepsItsName(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(10))
	s.write("w.txt", warn("core/tide.c", 2)+warn("core/tide.c", 4))
	s.must(0, "baseline", "take", "--report", "w.txt", "--why", "debt")
	s.commit("one")
	s.write("core/gauge.c", lines(3))
	s.commit("two")
	policy := func(report string) {
		s.write(".zincdoor/policy.yaml", "zincdoor: 1\nreports: {compiler: "+report+"}\ndoors: {d: {judges: branch, limits: [{count: new, severity: warning, most: 0}]}}\n")
	}
	policy("{file: w.txt, as: diagnostics}")
	if v := s.judge("--tree", "--door", "d"); v.Code != 0 || v.Totals["accepted"] != 2 || strings.Contains(v.about(), "taken for") {
		t.Errorf("a report that got a name: %s", v.about())
	}
	policy("{file: w.txt, as: diagnostics, tool: gcc}")
	if v := s.judge("--tree", "--door", "d"); v.Code != 0 || v.Totals["accepted"] != 2 || !strings.Contains(v.about(), "gcc is taken as diagnostics, the name in the baseline: it has 2 of its 2 findings") {
		t.Errorf("a tool that got another name: %s", v.about())
	}
	out := s.must(0, "baseline", "sweep")
	if !strings.Contains(out, "renamed  diagnostics is called gcc now") {
		t.Errorf("%s", out)
	}
	if list := s.read(baselineFile); strings.Contains(list, "diagnostics") || strings.Count(list, `"tool":"gcc"`) != 3 {
		t.Errorf("swept:\n%s", list)
	}
	if v := s.judge("--tree", "--door", "d"); v.Code != 0 || v.Totals["accepted"] != 2 || strings.Contains(v.about(), "taken for") {
		t.Errorf("swept: %s", v.about())
	}
}

// TestHeadersAreCovered: what a linter reports on beside the files it is given is covered too, so that a new finding there is
// new on whatever line, and the notices don't say otherwise.
func TestHeadersAreCovered(t *testing.T) {
	t.Parallel()
	s := repository(t)
	s.write(".gitignore", "*.txt\n")
	s.write("core/tide.c", lines(10))
	s.write("core/low.h", lines(10))
	s.write("core/low.inc", lines(3))
	s.write(".zincdoor/policy.yaml", "zincdoor: 1\nreports: {gauge: {file: w.txt, covers: '**/*.c'}}\ndoors: {d: {judges: branch, limits: [{count: new, severity: warning, most: 0}]}}\n")
	s.write("w.txt", warn("core/tide.c", 2)+warn("core/low.h", 2))
	s.must(0, "baseline", "take", "--why", "debt")
	if header, _, _ := strings.Cut(s.read(baselineFile), "\n"); !strings.Contains(header, `"paths":["**/*.c","**/*.h"]`) {
		t.Errorf("taken: %s", header)
	}
	s.commit("one")
	s.write("core/tide.c", altered)
	s.commit("two")
	os.Chtimes(filepath.Join(s.dir, "core/tide.c"), time.Now().Add(-time.Hour), time.Now().Add(-time.Hour))
	s.write("w.txt", warn("core/tide.c", 2)+warn("core/low.h", 2)+warn("core/low.h", 7))
	v := s.judge("--range", "HEAD~..HEAD", "--door", "d")
	if v.Code != 1 || v.standings() != "core/low.h:2 elsewhere accepted\ncore/low.h:7 elsewhere new\ncore/tide.c:2 file accepted" || strings.Contains(v.about(), "lines alone") {
		t.Errorf("%s\n%s", v.standings(), v.about())
	}
	s.write("w.txt", warn("core/tide.c", 2)+warn("core/low.h", 2)+warn("core/low.inc", 2))
	if v := s.judge("--range", "HEAD~..HEAD", "--door", "d"); v.Code != 0 || !strings.Contains(v.about(), "no baseline covers diagnostics in core/low.inc, so only findings on changed lines count as new") {
		t.Errorf("a kind that wasn't there: %s", v.about())
	}
}
