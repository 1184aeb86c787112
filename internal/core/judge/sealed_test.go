package judge

import (
	"testing"

	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/waiver"
)

// TestLastDay: a verdict holds until the first of the days on which something that it rests on changes.
func TestLastDay(t *testing.T) {
	accepted := func(until string) Finding {
		return Finding{Status: Status{Entry: &baseline.Entry{Until: until}}}
	}
	limit := func(from, until string) LimitResult {
		return LimitResult{Limit: policy.Limit{From: from, Until: until}}
	}
	also := Finding{Also: []Finding{accepted("2030-03-05")}}
	for name, c := range map[string]struct {
		v    Verdict
		want string
	}{
		"nothing ends":           {Verdict{Findings: []Finding{{}, accepted("")}, Limits: []LimitResult{limit("", ""), limit("2029-01-01", "")}}, ""},
		"an acceptance":          {Verdict{Findings: []Finding{accepted("2030-04-01"), accepted("2030-03-09")}}, "2030-03-09"},
		"that of another tool":   {Verdict{Findings: []Finding{accepted("2030-04-01"), also}}, "2030-03-05"},
		"one that has ended":     {Verdict{Findings: []Finding{accepted("2030-02-01")}}, ""},
		"a waiver":               {Verdict{Waivers: []WaiverUse{{Waiver: waiver.Waiver{Until: "2030-03-02"}}}}, "2030-03-02"},
		"a limit that ends":      {Verdict{Limits: []LimitResult{limit("", "2030-03-01")}}, "2030-03-01"},
		"a limit that begins":    {Verdict{Limits: []LimitResult{limit("2030-03-11", "")}}, "2030-03-10"},
		"a limit begins earlier": {Verdict{Limits: []LimitResult{limit("2030-03-02", "")}, Findings: []Finding{accepted("2030-03-03")}}, "2030-03-01"},
	} {
		if c.v.Today = "2030-03-01"; c.v.LastDay() != c.want {
			t.Errorf("%s: %q, want %q", name, c.v.LastDay(), c.want)
		}
	}
}
