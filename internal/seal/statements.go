package seal

import (
	"net/url"
	"strings"
	"time"

	vsa "github.com/in-toto/attestation/go/predicates/vsa/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/types/known/structpb"
	"google.golang.org/protobuf/types/known/timestamppb"
)

// What statements are about. A verdict is a SLSA Verification Summary (v1), with what it leaves open as an extension.
const (
	ReportsType   = "zincdoor:reports/1"
	VerdictType   = "https://slsa.dev/verification_summary/v1"
	ExceptionType = "zincdoor:exception/1"

	verdictExtension = "zincdoor:verdict/1"
)

// Reports are reports that were made at a tree.
type Reports struct {
	Reports []Report  `json:"reports"`
	Time    time.Time `json:"time"`    // when they were sealed
	Program string    `json:"program"` // the version that sealed them
}

// Report is a report of one name.
type Report struct {
	Name    string `json:"name"`
	Files   []File `json:"files"`
	Tool    string `json:"tool,omitempty"`
	Version string `json:"version,omitempty"`
	Command string `json:"command,omitempty"`
	Exit    *int   `json:"exit,omitempty"` // the exit code of the run; nil where nobody said
}

// File is one of a report's files.
type File struct {
	SHA256 string `json:"sha256"` // 64 hexadecimal digits
	Bytes  int64  `json:"bytes"`
}

// Named is the report of that name, nil where there is none.
func (r *Reports) Named(name string) *Report {
	for i := range r.Reports {
		if r.Reports[i].Name == name {
			return &r.Reports[i]
		}
	}
	return nil
}

func readReports(from *structpb.Struct) (*Reports, error) {
	var r Reports
	if err := decode(from, &r); err != nil {
		return nil, err
	}
	if len(r.Reports) == 0 || len(r.Reports) > mostReports {
		return nil, malformed("it has %d reports, where 1 to %d are allowed", len(r.Reports), mostReports)
	}
	var names []string
	for _, report := range r.Reports {
		names = append(names, report.Name)
		if report.Name == "" || len(report.Files) == 0 || len(report.Files) > mostReports {
			return nil, malformed("a report in it has no name or no file")
		}
		for _, file := range report.Files {
			if !digestOK(file.SHA256) || file.Bytes < 0 {
				return nil, malformed("the digest of its report %.80q isn't a SHA-256", report.Name)
			}
		}
	}
	if name := twice(names); name != "" {
		return nil, malformed("it has two reports called %.80q", name)
	}
	return &r, nil
}

// Verdict is what a door answered.
type Verdict struct {
	Passed bool // the door was open, and enforced

	Door, Mode        string
	Outcome, Enforced string
	Kind              string   // of change
	Ref               string   // the target, "" where it is no ref
	Base              string   // the commit that the change starts from, "" for none
	Tip               string   // the target's commit, whose policy it is; "" for none
	Policy            string   // "sha256:" and 64 hexadecimal digits
	From              string   // where the policy came from, for people
	Baseline          string   // the same of the list of accepted findings, "" where there is none
	Inherits          []string // the same of the policies that it inherits
	Day               string   // the verdict's, YYYY-MM-DD
	Until             string   // the last day on which it would be the same, "" where that is always
	Reports           []Report // that it rests on

	Time    time.Time // when it was sealed
	Program string    // the version that sealed it
}

// extension is what a verification summary has no place for.
type extension struct {
	Door     string   `json:"door"`
	Mode     string   `json:"mode"`
	Outcome  string   `json:"outcome"`
	Enforced string   `json:"enforced"`
	Kind     string   `json:"kind"`
	Ref      string   `json:"ref"`
	Base     string   `json:"base"`
	Tip      string   `json:"tip"`
	Baseline string   `json:"baseline"`
	Day      string   `json:"day"`
	Until    string   `json:"until,omitempty"`
	Inherits []string `json:"inherits,omitempty"`
	Reports  []Report `json:"reports,omitempty"`
	Program  string   `json:"program"`
}

const (
	passed  = "PASSED"
	failed  = "FAILED"
	program = "zincdoor"
)

// write is the verdict as a verification summary of the statement's tree.
func (v *Verdict) write(s Statement) (*structpb.Struct, error) {
	result, level := failed, failed
	if v.Passed {
		result, level = passed, "ZINC_DOOR_"+strings.ToUpper(v.Door)
	}
	hash := "sha1"
	if len(s.Tree) > 40 {
		hash = "sha256"
	}
	summary := &vsa.VerificationSummary{
		Verifier:           &vsa.VerificationSummary_Verifier{Id: program + ":gate"},
		TimeVerified:       timestamppb.New(v.Time),
		ResourceUri:        "gitoid:tree:" + hash + ":" + s.Tree,
		Policy:             &vsa.VerificationSummary_Policy{Uri: policyAddress(v.From), Digest: map[string]string{"sha256": strings.TrimPrefix(v.Policy, "sha256:")}},
		VerificationResult: result,
		VerifiedLevels:     []string{level},
		SlsaVersion:        "1.0",
	}
	data, err := protojson.Marshal(summary)
	if err != nil {
		return nil, err
	}
	var all structpb.Struct
	if err := protojson.Unmarshal(data, &all); err != nil {
		return nil, err
	}
	more, err := predicate(extension{
		Door: v.Door, Mode: v.Mode, Outcome: v.Outcome, Enforced: v.Enforced, Kind: v.Kind, Ref: v.Ref, Base: v.Base, Tip: v.Tip,
		Baseline: v.Baseline, Inherits: v.Inherits, Day: v.Day, Until: v.Until, Reports: v.Reports, Program: v.Program,
	})
	if err != nil {
		return nil, err
	}
	all.Fields[verdictExtension] = structpb.NewStructValue(more)
	return &all, nil
}

func readVerdict(from *structpb.Struct) (*Verdict, error) {
	own := from.Fields[verdictExtension].GetStructValue()
	if own == nil {
		return nil, malformed("it is a verification summary of something else than a door: %s is missing", verdictExtension)
	}
	data, err := protojson.Marshal(from)
	if err != nil {
		return nil, malformed("what it says can't be read")
	}
	var summary vsa.VerificationSummary
	if err := (protojson.UnmarshalOptions{DiscardUnknown: true}).Unmarshal(data, &summary); err != nil {
		return nil, malformed("it isn't a verification summary: %s", plain(err))
	}
	var more extension
	if err := decode(own, &more); err != nil {
		return nil, err
	}
	digest := summary.GetPolicy().GetDigest()["sha256"]
	switch {
	case !digestOK(digest):
		return nil, malformed("it doesn't name its policy by SHA-256")
	case summary.TimeVerified == nil || summary.TimeVerified.CheckValid() != nil:
		return nil, malformed("it doesn't say when it was made")
	case summary.VerificationResult != passed && summary.VerificationResult != failed:
		return nil, malformed("its result is %.80q, neither %s nor %s", summary.VerificationResult, passed, failed)
	case more.Door == "":
		return nil, malformed("it doesn't say which door it is of")
	}
	return &Verdict{
		Passed: summary.VerificationResult == passed, Door: more.Door, Mode: more.Mode, Outcome: more.Outcome, Enforced: more.Enforced,
		Kind: more.Kind, Ref: more.Ref, Base: more.Base, Tip: more.Tip, Policy: "sha256:" + digest, From: policyName(summary.Policy.Uri), Baseline: more.Baseline,
		Inherits: more.Inherits, Day: more.Day, Until: more.Until, Reports: more.Reports, Time: summary.TimeVerified.AsTime(), Program: more.Program,
	}, nil
}

// policyScheme begins the address of a policy, which is a URI.
const policyScheme = program + ":policy/"

func policyAddress(from string) string { return policyScheme + url.PathEscape(from) }

func policyName(address string) string {
	name, _ := url.PathUnescape(strings.TrimPrefix(address, policyScheme))
	return name
}

// Exception is an operator's leave to pass one door with one tree.
type Exception struct {
	Door    string    `json:"door"`
	Reason  string    `json:"reason"`
	By      string    `json:"by"`
	Until   string    `json:"until"` // the last day on which it holds, YYYY-MM-DD
	Time    time.Time `json:"time"`
	Program string    `json:"program"`
}

func readException(from *structpb.Struct) (*Exception, error) {
	var e Exception
	if err := decode(from, &e); err != nil {
		return nil, err
	}
	if _, err := time.Parse(time.DateOnly, e.Until); err != nil || e.Door == "" || strings.TrimSpace(e.Reason) == "" {
		return nil, malformed("an exception needs a door, a reason and its last day")
	}
	return &e, nil
}
