package sealed

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/seal"
)

// Report finds whether a report, by its files, was sealed as the policy demands: by the name of the seal, and its key, or why it wasn't.
func (s *Statements) Report(r policy.Report, files []seal.File) (by string, key policy.Key, why string) {
	if s.tree == "" {
		return "", key, "it must be sealed for the judged tree, and a patch has none; judge commits, e.g. --range A..B"
	}
	none := fmt.Sprintf("it isn't sealed; seal it where it is made: zincdoor seal --report %s=FILE --key KEY --output SEAL, and give that: --sealed SEAL", r.Name)
	by, key, refused := s.counted(r.Sealed, func(of seal.Statement) bool { return of.Reports != nil }, none, func(st statement, _ policy.Key, why *refusal) bool {
		report := st.envelope.Statement.Reports.Named(r.Name)
		switch {
		case report == nil:
			why.note(ofAnotherThing, "%s has no report %s", st.from, r.Name)
		case !sameFiles(report.Files, files):
			why.note(altered, "the report %s isn't the one that was sealed in %s: its content is another", r.Name, st.from)
		case report.Exit != nil && !goodExit(r, *report.Exit):
			why.note(failed, "the tool of the report %s failed with exit code %d, as %s says; fix that, and run it again", r.Name, *report.Exit, st.from)
		case st.envelope.Statement.Reports.Time.After(s.bearer.Now.Add(skew)):
			why.note(failed, "%s was sealed at a time to come: %s", st.from, st.envelope.Statement.Reports.Time.UTC().Format(time.RFC3339))
		default:
			return true
		}
		return false
	})
	if refused != nil {
		return "", key, refused.why
	}
	return by, key, ""
}

// skew is by how much the clocks of two machines may differ.
const skew = 5 * time.Minute

// sameFiles reports whether both are the same contents, each as often, in whatever order.
func sameFiles(sealed, read []seal.File) bool {
	sorted := func(files []seal.File) []seal.File {
		files = slices.Clone(files)
		slices.SortFunc(files, func(a, b seal.File) int { return strings.Compare(a.SHA256, b.SHA256) })
		return files
	}
	return slices.Equal(sorted(sealed), sorted(read))
}

// goodExit reports whether a tool that ended with a code has done its work: by the codes that the policy declares, else unless it was
// ended by a signal or couldn't be started (POSIX shell, "Exit Status for Commands").
func goodExit(r policy.Report, code int) bool {
	if r.Run != nil {
		return r.Run.Declares(code)
	}
	return code >= 0 && code <= 125
}

// Made finds whether what is made here counts as sealed by one of the names: where the call has the key of it.
func (s *Statements) Made(r policy.Report) (by string, key policy.Key, why string) {
	none := fmt.Sprintf("it must be sealed by %s; give the key to what starts the linter (--key FILE), or seal the report where it is made", strings.Join(r.Sealed, " or "))
	if s.bearer.Key == nil {
		return "", key, none
	}
	refused := refusal{why: fmt.Sprintf("it must be sealed by %s, and the key of this call is none of theirs", strings.Join(r.Sealed, " or "))}
	for _, name := range r.Sealed {
		named, _ := s.policy.Seal(name)
		for _, key := range named.Keys {
			public, err := seal.ParsePublic(key.Text)
			if err == nil && public.Is(*s.bearer.Key) && s.inForce(name, key, public, "it", &refused) {
				return name, key, ""
			}
		}
	}
	return "", key, refused.why
}

// DigestOf names the content of a file.
func DigestOf(path string) (f seal.File, err error) {
	in, err := open(path)
	if err != nil {
		return f, err
	}
	defer in.Close()
	sum := sha256.New()
	if f.Bytes, err = io.Copy(sum, in); err != nil {
		return f, err
	}
	f.SHA256 = hex.EncodeToString(sum.Sum(nil))
	return f, nil
}
