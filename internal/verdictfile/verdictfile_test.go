package verdictfile

import (
	"bytes"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/change"
	"zincdoor/internal/core/finding"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
)

// full is a verdict with something of everything that the document has.
func full() judge.Verdict {
	at := func(id, path, message string, line int) judge.Finding {
		return judge.Finding{Finding: &finding.Finding{Tool: "gcc", Rule: "-Wshadow", Level: finding.Warning, Path: path, Message: message, Region: finding.Region{Line: line, Column: 4, EndLine: line + 1},
			Occurrences: 2, Sources: []string{"compiler", "again"}, Suppressed: true, Extra: &finding.Details{Help: "https://boards.example/shadow", Logical: "slack()", Justification: "known"}},
			ID: id, Place: change.OnTouched, Severity: "error", Team: "tides", Cost: 30}
	}
	a, b := at("00000000000000a1", "core/tide.c", "shadows 'n' \x00\u2028<b>", 4), at("00000000000000a2", "fares/é.go", "length 130", 9)
	a.Standing, b.Standing, b.EntryID, b.Measure, b.AcceptedMeasure = judge.New, judge.Worsened, "00000000000000e2", "130", "0x7f"
	also := at("", "", "the same", 0)
	also.Finding = &finding.Finding{Tool: "vet", Rule: "shadow", Message: "declared again"}
	also.Standing, also.Place, also.Team, also.Cost = judge.Existing, "", "", 0
	a.Also = []judge.Finding{also}
	limit := func(name string, found int, held bool, broke ...int) judge.LimitResult {
		return judge.LimitResult{Limit: policy.Limit{Name: name, Count: policy.CountNew, Mode: policy.Enforce, Say: "ask tides"}, Mode: policy.Enforce, Bound: 1, Found: found, Held: held, Findings: broke}
	}
	v := judge.Verdict{
		Subject: judge.Subject{Kind: "push", Ref: "refs/heads/main", Base: "b", Head: "h", Files: 3}, Door: "push", Mode: policy.Enforce, Today: "2030-03-01", Outcome: judge.Shut, Enforced: judge.Shut,
		Origin:   judge.Origin{From: "main", Digest: "sha256:1", Inherits: []policy.Inherited{{Name: "harbour", Digest: "sha256:2"}}, Altered: []policy.Alteration{{What: "most 3 → 4"}}},
		Evidence: []judge.Evidence{{Name: "compiler", Format: "diagnostics", Forms: []string{"gnu"}, State: judge.Read, Findings: 2, Version: "12", Files: 3}, {Name: "vet", State: judge.Missing, Problem: "none", Optional: true}},
		Findings: []judge.Finding{a, b}, Ladder: policy.Ladder{"error", "note"}, Notices: []string{"one"},
		Gone:        []baseline.Entry{{Tool: "gcc", Rule: "-Wold", Path: "core/ebb.c", Message: "gone", Line: 3}},
		Waivers:     []judge.WaiverUse{{Added: true, Findings: []string{a.ID}}},
		Acceptances: []judge.Acceptance{{Entry: baseline.Entry{Tool: "gcc", Rule: "r", Path: "p", Message: "m", Why: baseline.Debt, Reason: "later", By: "Ida", Until: "2031-01-01"}, Change: "added", Finding: b.ID, Honoured: true}},
		Teams:       []policy.Team{{Name: "tides", Contact: "tides@boards.example"}},
	}
	v.Limits = []judge.LimitResult{limit("new", 2, false, 0, 1), limit("held", 0, true)}
	v.Limits = append(v.Limits, judge.LimitResult{Limit: policy.Limit{Name: "waivers", Mode: policy.Advise}, Counted: judge.WaiversMade, Mode: policy.Advise, Waiting: true, Unknown: true})
	v.Limits[1].NoGrowth, v.Limits[1].Severity = true, "error"
	v.Limits[0].PerLines = 100
	v.Totals = judge.Totals{Findings: 2, By: map[judge.Standing]int{judge.New: 1, judge.Worsened: 1}, Gone: 1, Debt: 60, DebtBy: map[judge.Standing]int{judge.New: 30, judge.Worsened: 30}}
	return v
}

// TestRoundTrip: a document that was read is written the same, also where its findings stand apart; and it is as the schema says.
func TestRoundTrip(t *testing.T) {
	var once bytes.Buffer
	if err := Write(&once, full()); err != nil {
		t.Fatal(err)
	}
	read, err := Read(once.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	apart, err := WithoutFindings(full())
	if err != nil {
		t.Fatal(err)
	}
	var arrays [][]byte
	for i := range read.Findings {
		arrays = append(arrays, append(AppendFinding([]byte("["), &read.Findings[len(read.Findings)-1-i]), ']'))
	}
	together, err := Read(apart, arrays...)
	if err != nil {
		t.Fatal(err)
	}
	for name, v := range map[string]judge.Verdict{"read": read, "put together": together} {
		var twice bytes.Buffer
		if err := Write(&twice, v); err != nil || twice.String() != once.String() {
			t.Errorf("%s, it is\n%s\nnot\n%s (%v)", name, twice.String(), once.String(), err)
		}
	}
	if len(read.Limits[0].Findings) != 2 || read.Limits[0].PerLines != 100 || !read.Limits[1].NoGrowth || !read.Limits[2].Waiting || read.Limits[2].Counted != judge.WaiversMade {
		t.Errorf("its limits: %+v", read.Limits)
	}
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	compiler.AddResource("verdict.json", schema)
	document, _ := jsonschema.UnmarshalJSON(bytes.NewReader(once.Bytes()))
	if err := compiler.MustCompile("verdict.json").Validate(document); err != nil {
		t.Error(err)
	}
}

func TestReadNonsense(t *testing.T) {
	for _, text := range []string{"", "[]", "{}", `{"zincdoor":"verdict/2"}`, `{"zincdoor":"verdict/1","findings":{}}`, `{"zincdoor":"verdict/1","limits":3}`} {
		if _, err := Read([]byte(text)); err == nil {
			t.Errorf("%s is read", text)
		}
	}
	if v, err := Read([]byte(`{"zincdoor":"verdict/1","outcome":"open"}`)); err != nil || v.Outcome != judge.Open {
		t.Errorf("%v %v", v, err)
	}
}
