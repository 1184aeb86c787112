package main

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode"

	_ "github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif" // whose source holds the standard's schema
	"github.com/rivo/uniseg"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/net/html"
)

// hostile is a repository whose change has findings of every standing, with names and messages made to break out of
// every format. It returns the call that judges it.
func hostile(t *testing.T) (s *sandbox, call []string) {
	s = repository(t)
	paths := []string{"core/tide.c", "a b.c", `q"uo'te.c`, "new\nline.go", "rtl\u202ec.txt", "<b>.c", "`code`.c", "-dash.c"}
	for _, path := range paths {
		s.write(path, lines(6)+"\tint 潮 = \"e\u0301\"; /* wide */ x;\n")
	}
	s.write(".zincdoor/policy.yaml", `zincdoor: 1
link: "https://code.brackwater.example/{commit}/{path}#{line}"
teams: {tides: {path: "core/**", contact: "@everyone <b>"}}
notes: {"TIDE*": "Mind the <b>tide</b>."}
cost: {rule: {TIDE4: 2h}, severity: {error: 10m, note: 5m}}
severities: [{rule: TIDE9, is: ignored}]
doors:
  merge:
    judges: branch
    limits:
      - {count: new, severity: error, most: 0, say: "<script>alert(1)</script> ]]> @everyone"}
      - {count: all, severity: note, most: 5, mode: advise}
`)
	s.commit("one")
	s.git("checkout", "-q", "-b", "work")
	for _, path := range paths {
		s.write(path, s.read(path)+"\tx = 潮[<b>\"&amp;\"</b>];\n")
	}
	s.commit("two")
	message := "\x1b[31mred\x07 <script>alert('x')</script> ]]> **bold** [link](https://evil.example) @team `tick` | \u202ereversed &amp; \\u0000 =1+1"
	var results []string
	text := func(s string) string {
		data, _ := json.Marshal(s)
		return string(data)
	}
	for i, path := range paths {
		results = append(results, fmt.Sprintf(`{"ruleId":"TIDE%d","level":"%s","message":{"text":%s},"locations":[{"physicalLocation":{"artifactLocation":{"uri":%s},"region":{"startLine":8,"startColumn":6,"endColumn":7}}}],
			"codeFlows":[{"threadFlows":[{"locations":[{"location":{"physicalLocation":{"artifactLocation":{"uri":%s},"region":{"startLine":2}},"message":{"text":%s}}}]}]}],
			"relatedLocations":[{"message":{"text":"see <i>there</i>"}}],
			"fixes":[{"description":{"text":"<u>fix</u>"},"artifactChanges":[{"artifactLocation":{"uri":%s},"replacements":[{"deletedRegion":{"startLine":8,"startColumn":6,"endColumn":7},"insertedContent":{"text":"tide"}}]}]}]}`,
			i%3, []string{"error", "warning", "note"}[i%3], text(message+" "+strconv.Itoa(i)), text(escapePath(path)), text(escapePath(path)), text(message), text(escapePath(path))))
	}
	results = append(results,
		`{"ruleId":"TIDE4","level":"error","message":{"text":"of old"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"core/tide.c"},"region":{"startLine":2}}}]}`,
		`{"ruleId":"TIDE5","level":"warning","message":{"text":"twice"},"occurrenceCount":2,"rank":40,"locations":[{"physicalLocation":{"artifactLocation":{"uri":"core/tide.c"},"region":{"startLine":3}}}]}`,
		`{"ruleId":"TIDE9","level":"warning","message":{"text":"left out"},"suppressions":[{"kind":"external","justification":"agreed"}],"locations":[{"physicalLocation":{"artifactLocation":{"uri":"core/tide.c"},"region":{"startLine":4}}}]}`,
		`{"ruleId":"TIDE6","level":"none","message":{"text":"of no file"}}`)
	s.write("build/r.sarif", `{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"gauge <b>","version":"2","rules":[
		{"id":"TIDE0","name":"Tide","shortDescription":{"text":"The tide <b>."},"help":{"text":"Wait.","markdown":"*Wait.*"},"helpUri":"https://gauge.brackwater.example/0","properties":{"tags":["tide","<b>"],"security-severity":"7.5"}},
		{"id":"TIDE1","helpUri":"javascript:alert(1)"}]}},"results":[`+strings.Join(results, ",")+`]}]}`)
	s.write("build/g.txt", warn("core/tide.c", 8))
	return s, []string{"gate", "--into", "main", "--report", "build/r.sarif", "--report", "build/g.txt"}
}

func escapePath(path string) string { return (&url.URL{Path: path}).EscapedPath() }

// TestFormats: every format of one run is what its standard or schema says, and nothing from outside breaks out of it.
func TestFormats(t *testing.T) {
	t.Parallel()
	s, call := hostile(t)
	args := call
	formats := []string{"json", "sarif", "junit", "markdown", "html", "review", "terminal"}
	for _, format := range formats {
		args = append(args, "--write", format+"=out."+format)
	}
	terminal, errs, code := s.run(args...)
	if code != 1 {
		t.Fatalf("exit code %d\n%s%s", code, terminal, errs)
	}
	for _, format := range append(formats, "standard output") {
		text := terminal
		if format != "standard output" {
			text = s.read("out." + format)
		}
		if i := strings.IndexFunc(text, func(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' || r == '\u202e' }); i >= 0 && format != "sarif" && format != "json" && format != "review" {
			t.Errorf("%s: a control character in %q", format, text[max(0, i-20):i+10])
		}
	}
	t.Run("json", func(t *testing.T) { s.validate(t, "verdict", s.read("out.json")) })
	t.Run("review", func(t *testing.T) {
		s.validate(t, "review", s.read("out.review"))
		var review struct {
			Comments []struct {
				Path, Text string
				Line       int
				Shuts      bool
			}
		}
		json.Unmarshal([]byte(s.read("out.review")), &review)
		if len(review.Comments) != 8 || !review.Comments[0].Shuts || review.Comments[7].Shuts || strings.Contains(s.read("out.review"), "@team") {
			t.Errorf("%d comments: %+v", len(review.Comments), review.Comments)
		}
	})
	t.Run("sarif", func(t *testing.T) {
		validateBy(t, sarifSchema(t), s.read("out.sarif"))
		again := s.judge("--into", "main", "--report", "out.sarif")
		var first verdict
		json.Unmarshal([]byte(s.read("out.json")), &first)
		if fmt.Sprint(again.Findings) != fmt.Sprint(first.Findings) || fmt.Sprint(again.Limits) != fmt.Sprint(first.Limits) || again.Outcome != first.Outcome {
			t.Errorf("read back it is another verdict:\n%v\n%v\n%v\n%v", first.Findings, again.Findings, first.Limits, again.Limits)
		}
	})
	t.Run("junit", func(t *testing.T) {
		var suites struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
			Suites   []struct {
				Cases []struct {
					Name    string `xml:"name,attr"`
					Failure *struct {
						Text string `xml:",chardata"`
					} `xml:"failure"`
				} `xml:"testcase"`
			} `xml:"testsuite"`
		}
		if err := xml.Unmarshal([]byte(s.read("out.junit")), &suites); err != nil {
			t.Fatal(err)
		}
		failures := 0
		for _, suite := range suites.Suites {
			for _, c := range suite.Cases {
				if c.Failure != nil {
					failures++
				}
			}
		}
		if failures != suites.Failures || failures != 4 { // a limit, and three errors
			t.Errorf("%d failures, it says %d", failures, suites.Failures)
		}
	})
	t.Run("markdown", func(t *testing.T) {
		text := s.read("out.markdown")
		if !strings.HasPrefix(text, "## Door merge: shut\n") || !strings.Contains(text, "https://code.brackwater.example/") {
			t.Error(text)
		}
		for _, raw := range []string{"<script", "<b>", "](https://evil", "**bold**", " @team", "@everyone"} {
			if strings.Contains(regexp.MustCompile("(?s)`+.*?`+").ReplaceAllString(text, ""), raw) {
				t.Errorf("%q stands there as it is\n%s", raw, text)
			}
		}
		if out, _, _ := s.run(append(call, "--format", "markdown", "--max-length", "1500")...); len([]rune(out)) > 1500 || !strings.Contains(out, "left out to stay within 1500 characters") {
			t.Errorf("%d characters:\n%s", len([]rune(out)), out)
		}
	})
	t.Run("html", func(t *testing.T) { checkPage(t, s.read("out.html"), filepath.Join(s.dir, "out.html")) })
	t.Run("template", func(t *testing.T) {
		s.write("t.tmpl", `{{range only "severity" "error" .findings}}{{csv .path}},{{.line}},{{csv .message}}{{"\n"}}{{end}}`)
		out, errs, code := s.run(append(call, "--format", "template", "--template", "t.tmpl")...)
		if code != 1 || strings.Count(out, "\n") != 4 || !strings.Contains(out, "core/tide.c,2,of old\n") {
			t.Errorf("exit code %d\n%s%s", code, out, errs)
		}
		s.write("t.tmpl", "{{.nothing}}")
		if _, errs, code := s.run(append(call, "--format", "template", "--template", "t.tmpl")...); code != 2 || !strings.Contains(errs, "nothing") {
			t.Errorf("an unknown key: exit code %d\n%s", code, errs)
		}
	})
	t.Run("documented templates", func(t *testing.T) {
		names, _ := filepath.Glob("../../docs/templates/*")
		for _, name := range names {
			path, _ := filepath.Abs(name)
			out, errs, code := s.run(append(call, "--format", "template", "--template", path)...)
			if code != 1 || strings.Count(out, "\n") < 9 {
				t.Errorf("%s: exit code %d\n%s%s", name, code, out, errs)
			}
		}
		if len(names) != 2 {
			t.Errorf("templates: %v", names)
		}
	})
	t.Run("findings", func(t *testing.T) {
		list := append([]string{"findings"}, call[1:]...)
		for _, c := range []struct {
			args []string
			want string
		}{
			{[]string{"--rule", "TIDE4", "--fields", "path,line,standing"}, "core/tide.c\t2\texisting\n"},
			{[]string{"--team", "tides", "--severity", "error", "--fields", "rule", "--sort", "-line"}, "TIDE0\nTIDE4\n"},
			{[]string{"--tool", "diagnostics", "--fields", "path,rule", "--null"}, "core/tide.c\t-Wunused\x00"},
			{[]string{"--place", "touched", "--level", "error", "--count-by", "rule"}, "3  TIDE0\n"},
			{[]string{"--severity", "ignored", "--fields", "message"}, "left out\n"},
			{[]string{"--tag", "tide", "--fields", "rule", "--unique"}, "TIDE0\n"},
			{[]string{"--security", "7", "--path", "core/**", "--format", "csv", "--fields", "path,message"}, "path,message\ncore/tide.c,<1B>"},
			{[]string{"--rank", "30", "--format", "jsonl", "--fields", "rule,line"}, `{"rule":"TIDE5","line":3}` + "\n"},
			{[]string{"--message", "^twice$", "--fields", "occurrences"}, "2\n"},
			{[]string{"--standing", "accepted"}, ""},
		} {
			out, errs, code := s.run(append(list, c.args...)...)
			if code != 0 || !strings.HasPrefix(out, c.want) || !strings.HasSuffix(c.want, "<1B>") && out != c.want {
				t.Errorf("%v: exit code %d\n%q\n%s", c.args, code, out, errs)
			}
		}
		out, _, _ := s.run(append(list, "--format", "sarif")...)
		validateBy(t, sarifSchema(t), out)
		if _, errs, code := s.run("findings", "--report", "no.txt"); code != 2 || !strings.Contains(errs, "no.txt is missing") {
			t.Errorf("exit code %d: %s", code, errs)
		}
	})
	t.Run("explain", func(t *testing.T) {
		for _, c := range []struct {
			name string
			code int
			says []string
		}{
			{"TIDE0", 0, []string{"TIDE0 Tide  gauge <b>", "The tide <b>.", "*Wait.*", "https://gauge.brackwater.example/0", "The team says", "door merge: new error, at most 0", "zincdoor baseline accept", "no door allows a waiver for it"}},
			{"-Wunused", 0, []string{"1 finding in the work tree", "core/tide.c:8:1", "its tool: level warning", "door waiver(-Wunused)"}},
			{"TIDE9", 0, []string{"graded  ignored", "no limit counts it"}},
			{"TYDE0", 3, []string{`no rule and no finding is called "TYDE0"; did you mean TIDE0?`}},
		} {
			out, errs, code := s.run("explain", c.name, "--report", "build/r.sarif", "--report", "build/g.txt")
			for _, say := range c.says {
				if code != c.code || !strings.Contains(out+errs, say) {
					t.Errorf("%s: exit code %d, no %q in\n%s%s", c.name, code, say, out, errs)
				}
			}
		}
		id := s.judge("--into", "main", "--report", "build/g.txt").Findings[0].ID
		if out, errs, code := s.run("explain", id[:6], "--report", "build/g.txt"); code != 0 || !strings.Contains(out, "zincdoor baseline accept "+id) {
			t.Errorf("exit code %d\n%s%s", code, out, errs)
		}
	})
}

// TestTerminal: whatever the terminal, no line is too long for it, and nothing is shown that it can't show.
func TestTerminal(t *testing.T) {
	t.Parallel()
	s, call := hostile(t)
	for _, env := range []string{"COLUMNS=80", "COLUMNS=120", "COLUMNS=200", "COLUMNS=40", "LC_ALL=C"} {
		for _, args := range [][]string{nil, {"--show", "all", "--verbose", "--context", "2"}, {"--group", "rule"}, {"--group", "team"}, {"--show", "touched", "--group", "severity"}, {"--plain"}} {
			s.env = []string{env, "NO_COLOR=1"}
			out, _, _ := s.run(append(slices.Clone(call), args...)...)
			room := 100
			if columns, ok := strings.CutPrefix(env, "COLUMNS="); ok {
				room, _ = strconv.Atoi(columns)
			}
			if len(args) == 1 {
				room = math.MaxInt // sentences are for ears
			}
			for line := range strings.Lines(out) {
				line = strings.TrimSuffix(line, "\n")
				isCall := strings.Contains(line, "zincdoor fix ") || strings.HasPrefix(strings.TrimSpace(line), "zincdoor findings ")
				if uniseg.StringWidth(line) > room && !isCall { // which isn't broken off
					t.Errorf("%s %v: %d columns: %s", env, args, uniseg.StringWidth(line), line)
				}
				if i := strings.IndexFunc(strings.NewReplacer("潮", "", "e\u0301", "").Replace(line), func(r rune) bool { return r > unicode.MaxASCII }); env == "LC_ALL=C" && i >= 0 {
					t.Errorf("%v: beyond ASCII: %s", args, line)
				}
			}
			if last := strings.TrimSpace(out[strings.LastIndex(strings.TrimSpace(out), "\n")+1:]); !strings.Contains(strings.ToLower(last), "shut") {
				t.Errorf("%s %v: the last line is %q", env, args, last)
			}
		}
	}
	s.env = nil
	if out, _, _ := s.run(append(call, "-q")...); strings.Count(out, "\n") != 2 {
		t.Errorf("quiet: %q", out)
	}
	var many strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&many, "core/tide.c:8:1: error: fault %d [-Wfault]\n", i)
	}
	s.write("many.txt", many.String())
	if out, _, _ := s.run("gate", "--into", "main", "--report", "many.txt"); strings.Count(out, "\n") > 200 || !strings.Contains(out, "975 findings not shown; --show broken shows them all") {
		t.Errorf("%d lines", strings.Count(out, "\n"))
	}
	if out, _, _ := s.run("gate", "--into", "main", "--report", "many.txt", "--show", "broken"); strings.Count(out, "-Wfault") != 1000 {
		t.Errorf("%d findings shown", strings.Count(out, "-Wfault"))
	}
}

// TestCost: what findings take to put right is summed up by standing in every format that people read, and decides nothing.
func TestCost(t *testing.T) {
	t.Parallel()
	s, call := hostile(t)
	free := strings.ReplaceAll(s.read(".zincdoor/policy.yaml"), "cost: {", "#")
	var v struct {
		Debt     map[string]int
		Findings []struct {
			Rule, Standing, Severity string
			Cost                     int
		}
	}
	out, _, code := s.run(append(slices.Clone(call), "--format", "json")...)
	if err := json.Unmarshal([]byte(out), &v); err != nil {
		t.Fatal(err)
	}
	sums := map[string]int{}
	for _, f := range v.Findings {
		want := map[string]int{"error": 10, "note": 5}[f.Severity]
		if f.Rule == "TIDE4" {
			want = 120
		}
		if f.Cost != want {
			t.Errorf("%+v costs %d minutes, want %d", f, f.Cost, want)
		}
		sums["all"] += want
		sums[f.Standing] += want
	}
	if v.Debt["all"] != sums["all"] || v.Debt["new"] != sums["new"] || v.Debt["existing"] != sums["existing"] || sums["new"] == 0 || sums["existing"] == 0 {
		t.Errorf("debt is %v, want %v", v.Debt, sums)
	}
	said := fmt.Sprintf("about %d h %d min of work, %d min of it new", sums["all"]/60, sums["all"]%60, sums["new"])
	for _, format := range []string{"terminal", "markdown", "html"} {
		if out, _, _ := s.run(append(slices.Clone(call), "--format", format)...); !strings.Contains(out, said) {
			t.Errorf("%s doesn't say %q:\n%s", format, said, out)
		}
	}
	s.write("free.yaml", free)
	if out, _, again := s.run(append(slices.Clone(call), "--format", "json", "--policy", "free.yaml")...); again != code || strings.Contains(out, `"debt"`) || strings.Contains(out, `"cost"`) {
		t.Errorf("without costs: exit code %d, before %d; %s", again, code, out)
	}
}

// validate holds a text against one of our own schemas.
func (s *sandbox) validate(t *testing.T, schema, text string) {
	t.Helper()
	out, errs, code := s.run("schema", schema)
	if code != 0 {
		t.Fatal(errs)
	}
	validateBy(t, out, text)
}

func validateBy(t *testing.T, schema, text string) {
	t.Helper()
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(schema))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("schema.json", document); err != nil {
		t.Fatal(err)
	}
	compiled, err := compiler.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if err := compiled.Validate(value); err != nil {
		t.Errorf("%v\n%s", err, text)
	}
}

// sarifSchema is the JSON Schema of the standard (OASIS, SARIF 2.1.0 errata 01), out of the source of a package that has
// it as a constant.
func sarifSchema(t *testing.T) string {
	t.Helper()
	dir, err := exec.Command("go", "list", "-f", "{{.Dir}}", "github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif").Output()
	if err != nil {
		t.Fatal(err)
	}
	file, err := parser.ParseFile(token.NewFileSet(), filepath.Join(strings.TrimSpace(string(dir)), "schema.go"), nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	schema := ""
	ast.Inspect(file, func(n ast.Node) bool {
		if literal, ok := n.(*ast.BasicLit); ok && literal.Kind == token.STRING {
			schema, _ = strconv.Unquote(literal.Value)
		}
		return schema == ""
	})
	if !strings.Contains(schema, "sarif-schema-2.1.0") {
		t.Fatal("the package has no schema any more")
	}
	return schema
}

// checkPage holds a page against what everybody needs of one: headings in order, names for what can be filled in, tables
// with heads, colours that can be told apart; and nothing in it that isn't ours.
func checkPage(t *testing.T, text, file string) {
	t.Helper()
	document, err := html.Parse(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	level, scripts := 0, 0
	labels, named, ids := map[string]bool{}, []string{}, map[string]bool{}
	attribute := func(n *html.Node, name string) string {
		for _, a := range n.Attr {
			if a.Key == name {
				return a.Val
			}
		}
		return ""
	}
	for n := range document.Descendants() {
		if n.Type != html.ElementNode {
			continue
		}
		if id := attribute(n, "id"); id != "" {
			if ids[id] {
				t.Errorf("two elements are called %s", id)
			}
			ids[id] = true
		}
		for _, a := range n.Attr {
			if strings.HasPrefix(a.Key, "on") || (a.Key == "href" || a.Key == "src") && !strings.HasPrefix(a.Val, "https://") {
				t.Errorf("<%s %s=%q>", n.Data, a.Key, a.Val)
			}
		}
		switch n.Data {
		case "html":
			if attribute(n, "lang") == "" {
				t.Error("the page has no language")
			}
		case "h1", "h2", "h3":
			now := int(n.Data[1] - '0')
			if now > level+1 {
				t.Errorf("<%s> after <h%d>", n.Data, level)
			}
			level = now
		case "script":
			scripts++
		case "label":
			labels[attribute(n, "for")] = true
		case "input", "select":
			named = append(named, attribute(n, "id"))
		case "table":
			if attribute(n, "role") != "presentation" && (n.FirstChild == nil || !strings.Contains(childNames(n), "caption thead")) {
				t.Errorf("a table without caption and head: %s", childNames(n))
			}
		case "b", "u", "i", "iframe", "img":
			t.Errorf("<%s> is none of ours", n.Data)
		}
	}
	for _, id := range named {
		if !labels[id] {
			t.Errorf("nothing says what %s is", id)
		}
	}
	if scripts != 1 {
		t.Errorf("%d scripts", scripts)
	}
	for i, palette := range regexp.MustCompile(`(?s):root \{(.*?)\}`).FindAllStringSubmatch(text, 2) {
		colours := map[string]string{}
		for _, m := range regexp.MustCompile(`--(\w+): (#[0-9a-f]{6});`).FindAllStringSubmatch(palette[1], -1) {
			colours[m[1]] = m[2]
		}
		for _, pair := range [][2]string{{"ink", "ground"}, {"ink", "paper"}, {"faint", "ground"}, {"faint", "paper"}, {"zinc", "ground"}, {"signal", "paper"}, {"signal", "ground"}, {"ink", "touched"}, {"ink", "mark"}, {"signal", "touched"}} {
			if c := contrast(colours[pair[0]], colours[pair[1]]); c < 4.5 {
				t.Errorf("palette %d: %s on %s has a contrast of %.2f", i, pair[0], pair[1], c)
			}
		}
	}
	browser, err := exec.LookPath("chromium")
	if err != nil {
		if os.Getenv("ZINCDOOR_BROWSER") != "" {
			t.Fatal("there is no browser")
		}
		t.Log("not opened in a browser, since there is none")
		return
	}
	for _, scripted := range []bool{true, false} {
		if !scripted {
			file = filepath.Join(t.TempDir(), "unscripted.html")
			if err := os.WriteFile(file, regexp.MustCompile("(?s)<script>.*</script>").ReplaceAll([]byte(text), nil), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		args := []string{"--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--enable-logging=stderr", "--user-data-dir=" + t.TempDir(), "--dump-dom", "file://" + file}
		cmd := exec.Command(browser, args...)
		var out, errs bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &errs
		if err := cmd.Run(); err != nil {
			t.Fatalf("%v\n%s", err, errs.String())
		}
		if strings.Contains(errs.String(), ":CONSOLE") {
			t.Errorf("scripted %v: %s", scripted, errs.String())
		}
		count := regexp.MustCompile(`<span id="count" role="status">([^<]*)</span>`).FindStringSubmatch(out.String())
		if count == nil || scripted != (count[1] != "") || strings.Count(out.String(), "<article") < 8 {
			t.Errorf("scripted %v: the filter says %v", scripted, count)
		}
	}
}

func childNames(n *html.Node) string {
	var names []string
	for c := range n.ChildNodes() {
		if c.Type == html.ElementNode {
			names = append(names, c.Data)
		}
	}
	return strings.Join(names, " ")
}

// contrast is the ratio of two colours' luminance (WCAG 2.2, 1.4.3), 1 to 21.
func contrast(a, b string) float64 {
	luminance := func(colour string) (sum float64) {
		for i, weight := range []float64{0.2126, 0.7152, 0.0722} {
			n, _ := strconv.ParseUint(colour[1+2*i:3+2*i], 16, 8)
			c := float64(n) / 255
			if c <= 0.04045 {
				c /= 12.92
			} else {
				c = math.Pow((c+0.055)/1.055, 2.4)
			}
			sum += weight * c
		}
		return sum
	}
	x, y := luminance(a), luminance(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}
