package sealed

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/seal"
)

// Expected is what a sealed verdict must have been judged by.
type Expected struct {
	Base     string   // the commit that the judged change starts from
	Ref      string   // the ref that it comes to
	Policy   string   // "sha256:" and 64 hexadecimal digits
	Inherits []string // the same of the policies that it inherits
	Baseline string   // the same of the list, "" where there is none
}

// Verdicts are what became of the sealed verdicts that a door needs, as evidence. Files are those of the change.
func (s *Statements) Verdicts(d policy.Door, want Expected, files []string) (all []judge.Evidence) {
	for _, need := range d.Verdicts {
		e := judge.Evidence{Name: "verdict of " + need.Verdict, Format: judge.SealedVerdict, State: judge.Read}
		by, why := s.Verdict(need, want, files)
		if e.Sealed = by; why != "" {
			e.State, e.Problem = judge.Foreign, why
		}
		if why != "" && !s.has(func(of seal.Statement) bool { return of.Verdict != nil }) {
			e.State = judge.Missing
		}
		all = append(all, e)
	}
	return all
}

// Unasked is a verdict that a door needs where nobody asks for seals.
func Unasked(need policy.Sealed) judge.Evidence {
	return judge.Evidence{Name: "verdict of " + need.Verdict, Format: judge.SealedVerdict, State: judge.Missing, Problem: "sealed verdicts are looked for by gate alone"}
}

// has reports whether some statement at hand is about a thing.
func (s *Statements) has(about func(seal.Statement) bool) bool {
	return slices.ContainsFunc(s.all, func(st statement) bool { return about(st.envelope.Statement) })
}

// Verdict finds whether a door was open for the judged tree: by the name of the seal, or why it doesn't count.
func (s *Statements) Verdict(need policy.Sealed, want Expected, files []string) (by, why string) {
	if s.tree == "" {
		return "", "a sealed verdict is of a tree, and a patch has none; judge commits, e.g. --range A..B"
	}
	none := fmt.Sprintf("no sealed verdict is of the judged tree %.12s; let the door %s judge it where the key is: zincdoor gate --into REF --door %s --write sealed=FILE --key KEY", s.tree, need.Verdict, need.Verdict)
	by, _, refused := s.counted(need.By, func(of seal.Statement) bool { return of.Verdict != nil }, none, func(st statement, key policy.Key, why *refusal) bool {
		return s.holds(st, key, need.Verdict, want, files, why)
	})
	if refused != nil {
		return "", refused.why
	}
	return by, ""
}

func (s *Statements) holds(st statement, key policy.Key, door string, want Expected, files []string, why *refusal) bool {
	v := st.envelope.Statement.Verdict
	if v.Door != door {
		why.note(ofAnotherThing, "%s is a verdict of the door %s, and the one of %s is needed", st.from, v.Door, door)
		return false
	}
	outside := Beyond(key, files)
	again := "; judge it again"
	switch {
	case v.Ref != want.Ref:
		why.note(altered, "%s was judged for %s, and this goes to %s%s", st.from, orNoRef(v.Ref), orNoRef(want.Ref), again)
	case v.Kind != string(policy.Branch) && v.Kind != string(policy.Push) && v.Kind != string(policy.Range):
		why.note(altered, "%s judged a %s, and a verdict on a branch, a push or a range is needed", st.from, v.Kind)
	case v.Base != want.Base || v.Tip != want.Base:
		why.note(altered, "%s was judged against %.12s, and %s is at %.12s: bring the change up to date with it, and judge it again", st.from, v.Base, orNoRef(want.Ref), want.Base)
	case v.Policy != want.Policy || !slices.Equal(v.Inherits, want.Inherits):
		why.note(altered, "%s was judged by another policy than that of %s%s", st.from, orNoRef(want.Ref), again)
	case v.Baseline != want.Baseline:
		why.note(altered, "%s was judged by another baseline than that of %s%s", st.from, orNoRef(want.Ref), again)
	case v.Time.After(s.bearer.Now.Add(skew)) || v.Day > s.bearer.Now.Add(skew).UTC().Format(time.DateOnly):
		why.note(altered, "%s was sealed at a time to come: %s", st.from, v.Time.UTC().Format(time.RFC3339))
	case v.Until != "" && v.Until < s.bearer.Today:
		why.note(altered, "%s holds until %s, when an acceptance or a limit that it rests on ended or began%s", st.from, v.Until, again)
	case outside != "":
		why.note(altered, "%s %s", st.from, outside)
	case !v.Passed && v.Mode != string(policy.Enforce):
		why.note(failed, "%s says that the door %s only advises, so it proves nothing", st.from, door)
	case !v.Passed:
		why.note(failed, "%s says that the door %s was %s", st.from, door, v.Enforced)
	default:
		return true
	}
	return false
}

// Beyond says, of something that is sealed, which of some files its key mayn't speak of; "" where it may speak of all.
func Beyond(key policy.Key, files []string) string {
	at := slices.IndexFunc(files, func(path string) bool { return len(key.Paths) > 0 && !policy.MatchPath(key.Paths, path) })
	if at < 0 {
		return ""
	}
	return fmt.Sprintf("is sealed by a key that speaks for %s alone, and the change touches %s", strings.Join(key.Paths, ", "), files[at])
}

func orNoRef(ref string) string {
	if ref == "" {
		return "no ref"
	}
	return ref
}

// Exception is the operator's exception that opens a door to a change of some files, nil where there is none.
func (s *Statements) Exception(d policy.Door, files []string) (found *judge.Exception, notices []string) {
	if len(d.Exceptions) == 0 || s.tree == "" {
		return nil, nil
	}
	by, _, why := s.counted(d.Exceptions, func(of seal.Statement) bool { return of.Exception != nil }, "", func(st statement, key policy.Key, why *refusal) bool {
		e, outside := st.envelope.Statement.Exception, Beyond(key, files)
		switch {
		case outside != "":
			why.note(altered, "%s %s", st.from, outside)
		case e.Door != d.Name:
			why.note(ofAnotherThing, "%s is an exception for the door %s, and this is %s", st.from, e.Door, d.Name)
		case e.Until < s.bearer.Today:
			why.note(altered, "the exception in %s ended on %s", st.from, e.Until)
		case e.Time.After(s.bearer.Now.Add(skew)):
			why.note(altered, "the exception in %s was sealed at a time to come: %s", st.from, e.Time.UTC().Format(time.RFC3339))
		default:
			found = &judge.Exception{By: e.By, Reason: e.Reason, Until: e.Until, From: st.from}
			return true
		}
		return false
	})
	if found != nil {
		found.Seal = by
		return found, nil
	}
	if why.why != "" {
		return nil, []string{"an exception doesn't count: " + why.why}
	}
	return nil, nil
}
