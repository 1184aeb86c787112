package report

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"zincdoor/internal/core/policy"
)

// log wraps one run's members in a log.
func log(run string) string { return `{"version":"2.1.0","runs":[{` + run + `}]}` }

// gauge is a tool with two rules, one of them an error by default.
const gauge = `"tool":{"driver":{"name":"gauge","version":"1.4","rules":[
  {"id":"tide/late","defaultConfiguration":{"level":"error"},"messageStrings":{"m":{"text":"{0} is late by {1}"}}},
  {"id":"tide/early"}]}},`

func one(result string) string { return log(gauge + `"results":[{` + result + `}]`) }

func TestSARIF(t *testing.T) {
	const where = `"locations":[{"physicalLocation":{"artifactLocation":{"uri":"core/tide.c"},"region":{"startLine":4,"startColumn":2,"endColumn":7}}}]`
	for _, c := range []struct{ name, text, want string }{
		{"no results", log(gauge + `"results":[]`), ""},
		{"the result's own level", one(`"ruleId":"tide/late","level":"note","message":{"text":"m"},` + where), "core/tide.c:4:2-7 note tide/late| m"},
		{"the rule's default", one(`"ruleId":"tide/late","message":{"text":"m"}`), ":0:0-0 error tide/late| m"},
		{"the rule by index", one(`"ruleIndex":0,"message":{"text":"m"}`), ":0:0-0 error tide/late| m"},
		{"the rule by reference", one(`"rule":{"id":"tide/late"},"message":{"text":"m"}`), ":0:0-0 error tide/late| m"},
		{"the rule by the beginning of its id", one(`"ruleId":"tide/late/spring","message":{"text":"m"}`), ":0:0-0 error tide/late/spring| m"},
		{"warning where nothing says", one(`"ruleId":"tide/early","message":{"text":"m"}`), ":0:0-0 warning tide/early| m"},
		{"an unknown level", one(`"level":"dire","message":{"text":"m"}`), ":0:0-0 error | m"},
		{"an override", log(gauge + `"invocations":[{"executionSuccessful":true,"ruleConfigurationOverrides":[{"descriptor":{"index":0},"configuration":{"level":"note"}}]}],
			"results":[{"ruleIndex":0,"message":{"text":"m"},"provenance":{"invocationIndex":0}}]`), ":0:0-0 note tide/late| m"},
		{"kinds that are no fault", log(gauge + `"results":[{"kind":"pass","message":{"text":"a"}},{"kind":"notApplicable","message":{"text":"b"}},
			{"kind":"informational","message":{"text":"c"}},{"kind":"review","message":{"text":"d"}},{"kind":"fail","message":{"text":"e"}}]`),
			":0:0-0 none | d\n:0:0-0 warning | e"},
		{"absent since the last run", one(`"baselineState":"absent","message":{"text":"m"}`), ""},
		{"message by id", one(`"ruleId":"tide/late","message":{"id":"m","arguments":["Ferry","5 min"]}`), ":0:0-0 error tide/late| Ferry is late by 5 min"},
		{"related locations", one(`"message":{"text":"m"},"relatedLocations":[{"message":{"text":"see"},"physicalLocation":{"artifactLocation":{"uri":"b.c"},"region":{"startLine":9}}}],` + where),
			"core/tide.c:4:2-7 warning | m + b.c:9 see"},
		{"percent-encoding", one(`"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"file:///srv/tide%20board/s%C3%B6.c"}}}]`), "/srv/tide board/sö.c:0:0-0 warning | m"},
		{"a base that comes later", log(gauge + `"results":[{"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"a.c","uriBaseId":"CORE"}}}]}],
			"originalUriBaseIds":{"ROOT":{"uri":"file:///srv/"},"CORE":{"uri":"core/","uriBaseId":"ROOT"}}`), "/srv/core/a.c:0:0-0 warning | m"},
		{"an artifact by index", log(gauge + `"results":[{"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"index":1}}}]}],
			"artifacts":[{"location":{"uri":"x.c"}},{"location":{"uri":"y.c"}}]`), "y.c:0:0-0 warning | m"},
		{"a drive letter", one(`"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"file:///C:/tide/a.c"}}}]`), "C:/tide/a.c:0:0-0 warning | m"},
		{"clang: the last location, notes to the finding before", log(`"tool":{"driver":{"name":"clang","rules":[{"id":"7"},{"id":"7"}]}},"results":[
			{"ruleId":"7","ruleIndex":1,"rank":-1,"level":"warning","message":{"text":"m"},"locations":[
			 {"physicalLocation":{"artifactLocation":{"uri":"file:///a.c"},"region":{"startLine":4,"startColumn":1,"endColumn":9}}},
			 {"physicalLocation":{"artifactLocation":{"uri":"file:///a.c"},"region":{"startLine":5,"startColumn":8,"endColumn":8}}}]},
			{"ruleId":"7","level":"note","message":{"text":"here"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"file:///a.c"},"region":{"startLine":2}}}]}]`),
			"/a.c:5:8-0 warning 7| m + /a.c:2 here"},
		{"clang: a base that comes after the notes", log(`"tool":{"driver":{"name":"clang"}},"results":[` + strings.ReplaceAll(
			`{"ruleId":"7","level":"warning","message":{"text":"m"},AT},{"ruleId":"7","level":"note","message":{"text":"here"},AT},{"ruleId":"8","level":"error","message":{"text":"n"},AT}`,
			"AT", `"locations":[{"physicalLocation":{"artifactLocation":{"uri":"a.c","uriBaseId":"CORE"},"region":{"startLine":4}}}]`) + `],
			"originalUriBaseIds":{"CORE":{"uri":"file:///core/"}}`), "/core/a.c:4:0-0 warning 7| m + /core/a.c:4 here\n/core/a.c:4:0-0 error 8| n"},
		{"blanks before the first log", "\n  " + one(`"message":{"text":"m"}`) + " \t\r\n \n", ":0:0-0 warning | m"},
		{"lines of a build around it", "[1/3] cc -c core/tide.c\n  4 | int berth[] = {\n" + one(`"message":{"text":"m"}`) + "\n\x1b[1mcore/tide.c:\x1b[0m in {berth}\n", ":0:0-0 warning | m"},
		{"beside the only run", `{"version":"2.1.0","inlineExternalProperties":[{"results":[{"ruleIndex":0,"message":{"text":"m"}}]}],"runs":[{` + gauge + `"externalPropertyFileReferences":{"results":[{"guid":"g"}]}}]}`, ":0:0-0 error tide/late| m"},
		{"beside one of two runs", `{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"lead"}},"results":[]},{` + gauge + `"automationDetails":{"guid":"B"},"results":[{"message":{"text":"n"}}]}],
			"inlineExternalProperties":[{"runGuid":"b","results":[{"ruleIndex":0,"message":{"text":"m"}}]}]}`, ":0:0-0 warning | n\n:0:0-0 error tide/late| m"},
		{"a run that says it was good, whatever its code", log(gauge + `"invocations":[{"executionSuccessful":true,"exitCode":139}],"results":[]`), ""},
		{"a code that reports findings", log(gauge + `"invocations":[{"exitCode":1}],"results":[{"message":{"text":"m"}}]`), ":0:0-0 warning | m"},
		{"several logs between lines", "clang: warning: unstable\n\n" + one(`"message":{"text":"m"}`) + "\n1 warning generated.\n" + one(`"message":{"text":"n"}`) + "\n",
			":0:0-0 warning | m\n:0:0-0 warning | n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := Read(strings.NewReader(c.text), Form{Format: policy.SARIF})
			if err != nil {
				t.Fatal(err)
			}
			if got := show(r); got != c.want || r.Failure != "" {
				t.Errorf("got\n%s\nwant\n%s\nfailure %q", got, c.want, r.Failure)
			}
		})
	}
}

func TestSARIFRun(t *testing.T) {
	r, err := Read(strings.NewReader(log(gauge+`"results":[],"versionControlProvenance":[{"revisionId":"abc"}],
		"artifacts":[{"location":{"uri":"a.c"},"roles":["analysisTarget"]},{"location":{"uri":"b.h"}}]`)), Form{Format: policy.SARIF})
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprint(r.Tools, r.Commit); got != "[{gauge 1.4 [a.c]}]abc" {
		t.Errorf("tools and commit: %s", got)
	}
}

func TestSARIFNoEvidence(t *testing.T) {
	for _, c := range []struct{ name, text, failure, err string }{
		{"no run", `{"version":"2.1.0","runs":[]}`, "no run", ""},
		{"no results", log(gauge + `"invocations":[]`), "has no results", ""},
		{"null results", log(gauge + `"results":null`), "has no results", ""},
		{"it failed", log(gauge + `"invocations":[{"executionSuccessful":false,"toolExecutionNotifications":[{"level":"error","message":{"text":"no licence"}}]}],"results":[]`), "executionSuccessful is false): no licence", ""},
		{"a signal", log(gauge + `"invocations":[{"executionSuccessful":true,"exitSignalName":"SIGSEGV"}],"results":[]`), "SIGSEGV", ""},
		{"a signal's number", log(gauge + `"invocations":[{"executionSuccessful":true,"exitSignalNumber":9}],"results":[]`), "the signal 9", ""},
		{"a shell's word of a signal", log(gauge + `"invocations":[{"exitCode":137}],"results":[{"message":{"text":"m"}}]`), "ended with code 137", ""},
		{"a code below 0", log(gauge + `"invocations":[{"exitCode":-11}],"results":[{"message":{"text":"m"}}]`), "ended with code -11", ""},
		{"a code and no results", log(gauge + `"invocations":[{"exitCode":1}],"results":[]`), "ended with code 1, and doesn't say that its run was good", ""},
		{"results beside two runs", `{"version":"2.1.0","runs":[{` + gauge + `"results":[]},{` + gauge + `"results":[]}],"inlineExternalProperties":[{"results":[]}]}`, "results are beside the runs of the log, so their run isn't known", ""},
		{"incomplete", log(gauge + `"invocations":[{"executionSuccessful":true,"toolConfigurationNotifications":[{"level":"error","message":{"text":"bad rule"}}]}],"results":[]`), "not complete: bad rule", ""},
		{"two revisions", log(gauge + `"results":[],"versionControlProvenance":[{"revisionId":"a"},{"revisionId":"b"}]`), "two revisions", ""},
		{"a crash beside it", log(gauge+`"results":[]`) + "\nclang: error: unable to execute command\n", "an error without a flag", ""},
		{"results elsewhere", log(gauge + `"results":[],"externalPropertyFileReferences":{"results":[{"location":{"uri":"more.sarif"}}]}`), "keeps results in other files", ""},
		{"an earlier draft", `{"version":"2.1.0-rtm.5","runs":[]}`, "", "SARIF 2.1.0-rtm.5 can't be read, only 2.1.0"},
		{"nothing", "", "", "no SARIF log in it"},
		{"text only", "clang: error: diagnostic formatting in SARIF mode is currently unstable\n", "", "no SARIF log in it"},
		{"cut off", log(gauge + `"results":[{}]`)[:90], "", "cut off"},
		{"wrong kind", log(gauge + `"results":{}`), "", `at "/runs/0/results": '[' is wanted`},
		{"wrong value", one(`"level":7`), "", `at "/runs/0/results/0/level"`},
		{"another version", `{"version":"2.0.0","runs":[]}`, "", "SARIF 2.0.0 can't be read"},
		{"no version", `{"runs":[]}`, "", `without "version"`},
		{"a member twice", `{"version":"2.1.0","version":"2.1.0","runs":[]}`, "", "duplicate"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := Read(strings.NewReader(c.text), Form{Format: policy.SARIF})
			switch {
			case c.err != "" && (!errors.Is(err, ErrMalformed) || !strings.Contains(err.Error(), c.err)):
				t.Errorf("error %v, want %q", err, c.err)
			case c.err == "" && (err != nil || !strings.Contains(r.Failure, c.failure)):
				t.Errorf("failure %+v, error %v, want %q", r, err, c.failure)
			}
		})
	}
}

// TestSecondLog: a log is read where it begins a line, and is never passed by elsewhere.
func TestSecondLog(t *testing.T) {
	a, b := log(gauge+`"results":[]`), one(`"message":{"text":"m"}`)
	for _, text := range []string{
		a + " " + b, a + b, a + "," + b, a + ",\n" + b, a + "\n  " + b, a + "\n\t" + b, "\x1e" + a + "\n\x1e" + b + "\n", a + "\n[" + b + "]", a + "\n[\n" + b + "\n]", "[" + a + "," + b + "]",
		a + "\n" + `"` + b + `"`, a + "\nreport: " + b, a + "\n\ufeff" + b, a + "\n\x00" + b, a + "\n}\n", a + "\n({\n", a + " done\n", a + ";\n" + b, a + "\n\x1b[0m" + b, a + "\r" + b, a + "\f\n\f" + b,
	} {
		if r, err := Read(strings.NewReader(text), Form{Format: policy.SARIF}); !errors.Is(err, ErrMalformed) && (err != nil || len(r.Findings) == 0) {
			t.Errorf("%q: %v, %+v", text, err, r)
		}
	}
}

// TestTaxa: the classes of faults that a rule or a result is said to be of are tags.
func TestTaxa(t *testing.T) {
	r, err := Read(strings.NewReader(log(`"tool":{"driver":{"name":"gauge","rules":[{"id":"deep","properties":{"tags":["depth"]},"relationships":[{"target":{"id":"120","toolComponent":{"name":"CWE"}}}]}]}},
		"results":[{"ruleId":"deep","message":{"text":"m"},"taxa":[{"index":0,"toolComponent":{"index":0}},{"id":"CWE-7","toolComponent":{"name":"CWE"}}]},{"ruleId":"deep","message":{"text":"n"}}],
		"taxonomies":[{"name":"tides","taxa":[{"id":"spring"}]}]`)), Form{Format: policy.SARIF})
	if err != nil {
		t.Fatal(err)
	}
	late, err := Read(strings.NewReader(log(`"tool":{"driver":{"name":"gauge","rules":[{"id":"deep","relationships":[{"target":{"index":0,"toolComponent":{"index":0}}}]}]}},
		"results":[{"ruleId":"deep","message":{"text":"m"}}],"taxonomies":[{"name":"tides","taxa":[{"id":"neap"}]}]`)), Form{Format: policy.SARIF})
	if err != nil || fmt.Sprint(late.Findings[0].Weight().Tags) != "[tides-neap]" {
		t.Errorf("by its place in a taxonomy that comes later: %v %v", err, late)
	}
	if got := fmt.Sprint(r.Findings[0].Weight().Tags, r.Findings[1].Weight().Tags); got != "[depth CWE-120 tides-spring CWE-7] [depth CWE-120]" {
		t.Errorf("tags %s", got)
	}
}

// TestSARIFDetails: what there is to show of a result is kept, and what is reported of its rule.
func TestSARIFDetails(t *testing.T) {
	const step = `{"location":{"physicalLocation":{"artifactLocation":{"uri":"b.c"},"region":{"startLine":%s}},"message":{"text":"%s"}}}`
	place := func(line, text string) string {
		return strings.NewReplacer("%s}}", line+"}}", `"%s"`, `"`+text+`"`).Replace(step)
	}
	r, err := Read(strings.NewReader(log(`"tool":{"driver":{"name":"gauge","rules":[{"id":"deep","name":"Depth","shortDescription":{"text":"Too deep."},
		"fullDescription":{"text":"Deep water."},"help":{"text":"Go up.","markdown":"Go *up*."},"helpUri":"https://brackwater.example/deep"}]}},"results":[{"ruleId":"deep","message":{"text":"m"},
		"locations":[{"physicalLocation":{"artifactLocation":{"uri":"a.c"},"region":{"startLine":4}},"logicalLocations":[{"name":"low","fullyQualifiedName":"tide::low"}]}],
		"codeFlows":[{"threadFlows":[{"locations":[`+place("2", "from here")+","+place("3", "to there")+`]}]}],
		"fixes":[{"description":{"text":"go up"},"artifactChanges":[{"artifactLocation":{"uri":"a.c"},"replacements":[{"deletedRegion":{"startLine":4,"startColumn":2,"endColumn":5},"insertedContent":{"text":"up"}}]}]}],
		"suppressions":[{"kind":"external","status":"accepted","justification":"the pilot knows"}]}]`)), Form{Format: policy.SARIF})
	if err != nil || len(r.Findings) != 1 {
		t.Fatalf("%v %v", err, r)
	}
	d := r.Findings[0].Details()
	got := fmt.Sprintf("%v|%v|%s|%s|%s|%v", d.Flows, d.Fixes, d.Logical, d.Help, d.Justification, r.Rules["deep"])
	want := "[[{from here b.c {2 0 2 0}} {to there b.c {3 0 3 0}}]]|[{go up [{a.c {4 2 4 5} false <nil> up  }]}]|tide::low|https://brackwater.example/deep|the pilot knows|{Depth Too deep. Deep water. Go up. Go *up*. https://brackwater.example/deep}"
	if got != want || !r.Findings[0].Suppressed {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func FuzzSARIF(f *testing.F) {
	f.Add(one(`"ruleId":"tide/late","message":{"id":"m","arguments":["a"]}`))
	f.Add("x\n" + log(gauge+`"results":[{"ruleIndex":-1,"rule":{"index":9}}],"artifacts":[{"location":{"index":0}}]`))
	f.Fuzz(func(t *testing.T, text string) {
		r, err := Read(strings.NewReader(text), Form{Format: policy.SARIF})
		if (r == nil) == (err == nil) {
			t.Fatal("either a report or an error")
		}
		if r != nil {
			for _, f := range r.Findings {
				if f.Region.Line < 0 || f.Level == "" {
					t.Fatalf("impossible finding %+v", f)
				}
			}
		}
	})
}

// TestFlagsOfClang: clang's rules are the flags that it tells, else numbers, which is said once.
func TestFlagsOfClang(t *testing.T) {
	result := func(rule, message string) string {
		return `{"ruleId":"` + rule + `","message":{"text":"` + message + `"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"a.c"},"region":{"startLine":1}}}]}`
	}
	log := `{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"clang","rules":[{"id":"7","name":"-Wunused"},{"id":"8","name":""}]}},"results":[` + result("7", "a") + "," + result("8", "b [-Wshadow]") + "," + result("8", "c") + "," + result("9", "d") + `]}]}`
	r, err := Read(strings.NewReader(log), Form{})
	if err != nil || len(r.Findings) != 4 {
		t.Fatal(err, r)
	}
	var got []string
	for _, f := range r.Findings {
		got = append(got, f.Rule+" "+f.Message)
	}
	if strings.Join(got, ", ") != "-Wunused a, -Wshadow b, 8 c, 9 d" || len(r.Notices) != 1 || !strings.Contains(r.Notices[0], "such as 8") {
		t.Errorf("%v %v", got, r.Notices)
	}
}
