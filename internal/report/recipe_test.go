package report

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/policyfile"
)

// recipes are one of every shape.
const recipes = `zincdoor: 1
ladder: [grave, error, warning, note]
recipes:
  vet:
    as: json
    each: "$.*.*[*]"
    noise: "^#"
    clean: "^\\s*(\\{\\}\\s*)+$"
    path: {at: $.posn, cut: "^(.+?):\\d+"}
    line: {at: $.posn, cut: ":(\\d+):\\d+$"}
    column: {at: $.posn, cut: ":(\\d+)$"}
    rule: {member: 1}
    message: $.message
    severity: {is: warning}
  nested:
    as: json
    each: ["$.files[*]", "$.faults[?@.kind != 'fine']"]
    path: {at: $.name, up: 1}
    line: {at: $.at.row, first: 0}
    column: {at: $.at.col, first: 0}
    rule: $.code
    message: $.text
    severity: $.kind
    measure: $.value
    help: $.more
    suggestion: $.instead
    severities: {bad: error, awful: grave}
    clean: '"files": \[\]'
  berths:
    as: xml
    each: [//file, fault]
    path: {at: "@name", up: 1}
    line: "@line"
    rule: "concat('B', @code)"
    message: text()
    severity: "@grade"
    severities: {high: error}
    clean: <berths\s*/>
  board:
    as: html
    each: ["//table[@class='faults']//tr[td]"]
    path: "preceding::h2[1]"
    line: td[1]
    rule: td[2]/@title
    message: td[3]
    clean: No faults
  table:
    as: csv
    path: File
    line: Line
    message: Text
    rule: {is: fare}
    clean: "^File,Line,Text\\s*$"
  bare:
    as: tsv
    header: false
    path: {nth: 1}
    line: {nth: 2}
    message: {nth: 3, cut: "^\\[(.*)\\]$"}
  lines:
    as: text
    match: '^(?P<severity>[A-Z]+) (?P<path>\S+)@(?P<line>\d+)(?:-(?P<end_line>\d+))? (?P<message>.*) \((?P<rule>\w+)\)$'
    then: '^    (?P<message>\S.*)$'
    tool: {is: gauge}
    severities: {W: warning, E: error}
    clean: all berths clear
doors: {d: {limits: [{count: new, most: 0}]}}
`

func TestRecipes(t *testing.T) {
	p, err := policyfile.Parse("p", []byte(recipes))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, recipe, text, want string }{
		{"one finding under two names", "vet", "# tideboard/fares\n{\"tideboard/fares\":{\"printf\":[{\"posn\":\"/src/fares/a.go:4:2\",\"message\":\"wrong verb\"}]}}\n{}\n# x\n{\"b\":{\"lost\":[{\"posn\":\"b.go:9:1\",\"message\":\"m\"}]}}",
			"/src/fares/a.go:4:2 printf warning wrong verb|b.go:9:1 lost warning m"},
		{"clean packages", "vet", "{}\n{}\n", "clean"},
		{"nested, counted from 0", "nested", `{"files": [{"name": "core\\tide.c", "faults": [{"at": {"row": 4, "col": 0}, "code": 7, "text": "deep", "kind": "awful", "value": 21.5, "more": "https://brackwater.example/7", "instead": "shallow"}, {"kind": "fine"}, {"text": "t", "kind": "odd"}]}]}`,
			`core/tide.c:5:1 7 grave deep measure 21.5 help https://brackwater.example/7 fix "shallow"|core/tide.c:0:0  grave t|notice the recipe nested has no severity for "odd", so it counts as grave`},
		{"an empty list", "nested", `{"files": []}`, "clean"},
		{"nothing it knows", "nested", `{"other": 1}`, "failure the recipe nested finds nothing in it; if that means that the tool found nothing, add clean: to the recipe, with what the report says then"},
		{"cut off", "nested", `{"files": [`, "error byte 11: value 1 is cut off"},
		{"no JSON", "nested", "oh\n", "error byte 0: no JSON: invalid character 'o' looking for beginning of value"},
		{"nothing", "nested", " ", "error byte 0: it is empty, which is no JSON"},
		{"a line that is no number", "nested", `{"files": [{"faults": [{"at": {"row": "x"}, "text": "t"}]}]}`, `error $['files'][0]['faults'][0]: line is "x", which is no number`},
		{"a line between lines", "nested", `{"files": [{"faults": [{"at": {"row": 10.05}, "text": "t"}]}]}`, `error $['files'][0]['faults'][0]: line is "10.05", which is no number`},
		{"elements", "berths", `<?xml version="1.0" encoding="ISO-8859-1"?><berths><file name="core/a.c"><fault line="3" code="7" grade="high">caf` + "\xe9" + `</fault><fault line="4" code="8" grade="note">b</fault></file></berths>`,
			"core/a.c:3:0 B7 error café|core/a.c:4:0 B8 note b"},
		{"no elements", "berths", "<berths/>", "clean"},
		{"cut-off XML", "berths", "<berths><file", "error line 1, column 14: no XML: XML syntax error on line 1: unexpected EOF"},
		{"unclosed XML", "berths", "<berths><file>", "error line 1, column 15: the document is cut off"},
		{"deep XML", "berths", strings.Repeat("<a>", 2000), "error line 1, column 3004: elements are nested more than 1000 deep"},
		{"no XML", "berths", "plain", "error line 1: a document without an element is no XML"},
		{"a page as it is in the wild", "board", "<!doctype html><HTML><body><h2>core/tide.c</h2><table class=faults><tr><th>line<tr><td>4<td title=deep>D<td>deep &amp; <b>wet<tr><td>9<td title=dry>D<td>dry</table><h2>b.c</h2><table class=faults><tr><td>1<td><td>x</table></HTML>",
			"core/tide.c:4:0 deep warning deep & wet|core/tide.c:9:0 dry warning dry|b.c:1:0  warning x"},
		{"a page without faults", "board", "<html><p>No faults</html>", "clean"},
		{"a page that is cut off", "board", "<html><h2>core/tide.c</h2><table class=faults><tr><td>4<td title=deep>D<td>deep", "error the page is cut off: it has no </html>"},
		{"a deep page", "board", strings.Repeat("<div>", 2000), "error no HTML: html: open stack of elements exceeds 512 nodes"},
		{"an empty page", "board", "\n", "error byte 0: it is empty, which is no HTML"},
		{"rows", "table", "Line,File,Text\n3,fares/a.go,\"late, and dear\"\n4,fares/b.go,x\n", "fares/a.go:3:0 fare warning late, and dear|fares/b.go:4:0 fare warning x"},
		{"a head without rows", "table", "File,Line,Text\n", "clean"},
		{"another head", "table", "Path,Row\nx,3\n", `error line 1: no column is called "File"; there are Path, Row`},
		{"a quote in a row", "table", "File,Line,Text\na,1,\"x\n", "error line 2, column 8: no CSV: extraneous or missing \" in quoted-field"},
		{"columns by number", "bare", "a.go\t3\t[dear]\nb.go\t4\n", "a.go:3:0  warning dear|b.go:4:0  warning the report gives no message"},
		{"text over lines", "lines", "gauge 2.1\nW core/a.c@3-5 deep water (D1)\n    below the keel\n    at noon\n\nE b.c@9 dry (D2)\n", `core/a.c:3:0-5 D1 warning gauge deep water below the keel at noon|b.c:9:0 D2 error gauge dry|notice the recipe lines skips what it can't read: 1 (line 1: "gauge 2.1"); for lines that say nothing, add noise: to the recipe|unread line 1`},
		{"text that says all is well", "lines", "all berths clear\n", "clean"},
		{"clean, in the middle of a line", "lines", "not all berths clear yet\nall berths clear, it seems\n", `failure the recipe lines finds nothing in it (line 1: "not all berths clear yet"); if that means that the tool found nothing, add clean: to the recipe, with what the report says then|unread line 1|unread line 2`},
		{"clean, beside what it can't read", "lines", "all berths clear\nSegmentation fault\n", `failure the recipe lines finds nothing in it (line 2: "Segmentation fault"); if that means that the tool found nothing, add clean: to the recipe, with what the report says then|unread line 2`},
		{"text it can't read", "lines", "berth 7: late\n", `failure the recipe lines finds nothing in it (line 1: "berth 7: late"); if that means that the tool found nothing, add clean: to the recipe, with what the report says then|unread line 1`},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := Read(strings.NewReader(c.text), Form{Recipe: p.Policy.Recipe(c.recipe)})
			var got []string
			if err != nil {
				if !errors.Is(err, ErrMalformed) {
					t.Errorf("%v isn't ErrMalformed", err)
				}
				got = append(got, "error "+strings.TrimSuffix(err.Error(), ": "+ErrMalformed.Error()))
				r = &Report{}
			}
			for _, f := range r.Findings {
				severity := f.Weight().Severity
				if severity == "" {
					severity = string(f.Level)
				}
				text := fmt.Sprintf("%s:%d:%d", f.Path, f.Region.Line, f.Region.Column)
				if f.Region.EndLine > f.Region.Line {
					text += fmt.Sprintf("-%d", f.Region.EndLine)
				}
				text += " " + f.Rule + " " + severity
				for _, more := range []string{f.Tool, f.Message} {
					if more != "" {
						text += " " + more
					}
				}
				if f.Weight().Measured != "" {
					text += " measure " + f.Weight().Measured + " help " + f.Details().Help + fmt.Sprintf(" fix %q", f.Details().Fixes[0].Edits[0].Text)
				}
				got = append(got, text)
			}
			if r.Clean && len(r.Findings) == 0 {
				got = append(got, "clean")
			}
			if r.Failure != "" {
				got = append(got, "failure "+r.Failure)
			}
			for _, n := range r.Notices {
				got = append(got, "notice "+n)
			}
			for _, u := range r.Unread {
				got = append(got, "unread "+u.At)
			}
			if text := strings.Join(got, "|"); text != c.want {
				t.Errorf("got\n%s\nwant\n%s", text, c.want)
			}
		})
	}
}

// FuzzRecipes: whatever a report holds, every kind of recipe ends with findings or an error that says where.
func FuzzRecipes(f *testing.F) {
	p, err := policyfile.Parse("p", []byte(recipes))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(`{"files": [{"name": "a", "faults": [{"at": {"row": 4}, "text": "t", "kind": "bad"}]}]}`)
	f.Add(`<berths><file name="a"><fault line="3">x</fault></file></berths>`)
	f.Add("File,Line,Text\na,3,x\n")
	f.Add("W core/a.c@3 deep (D1)\n    more\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, named := range p.Policy.Recipes {
			recipe := p.Policy.Recipe(named.Name)
			r, err := Read(strings.NewReader(text), Form{Recipe: recipe})
			if err != nil && !errors.Is(err, ErrMalformed) {
				t.Errorf("%s: %v", recipe.Name, err)
			}
			if err == nil && len(r.Findings) == 0 && r.Failure == "" && !r.Clean && strings.TrimSpace(text) != "" {
				t.Errorf("%s: %q is silently nothing", recipe.Name, text)
			}
		}
	})
}
