package policyfile

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/pattern"
	"zincdoor/internal/core/policy"
)

// Position is a place in a policy file. Line and column are 1-based.
type Position struct {
	File         string
	Line, Column int
}

func (p Position) String() string { return fmt.Sprintf("%s:%d", p.File, p.Line) }

// Text is a policy file as it was found.
type Text struct {
	Name string // in messages
	Data []byte
	// Find finds a file that this one inherits; nil where none can be found. Its error says why it can't be got.
	Find func(Inherit) (Text, error)
}

// Digest names a text's bytes, as sha256: and 64 hexadecimal digits.
func (t Text) Digest() string {
	sum := sha256.Sum256(t.Data)
	return digestForm + hex.EncodeToString(sum[:])
}

const digestForm = "sha256:"

// Inherit names a policy that another one is laid over.
type Inherit struct {
	Git    string // a repository's address or folder; "" for a file of this one or of the machine
	At     string // a tag or a whole commit name there
	Path   string // from the repository's root
	Digest string // of the file's bytes; "" where it isn't pinned by one
}

func (i Inherit) String() string {
	if i.Git == "" {
		return i.Path
	}
	return i.Git + "@" + i.At + ":" + i.Path
}

var wholeCommit = pattern.Of(`^([0-9a-f]{40}|[0-9a-f]{64})$`)

// Pinned reports whether the reference says which bytes it means, so that it can't come to mean others.
func (i Inherit) Pinned() bool { return i.Digest != "" || wholeCommit.MatchString(i.At) }

// Outside reports whether a path leads out of the repository it is looked up in.
func (i Inherit) Outside() bool {
	return path.IsAbs(i.Path) || i.Path == ".." || strings.HasPrefix(path.Clean(i.Path), "../")
}

// deepest bounds how many policies may inherit one from the other.
const deepest = 10

// Read reads a policy and all that it inherits, each laid over those it names. The error is a Problems where one of them
// is wrong, any other where one can't be got.
func Read(t Text) (*File, error) {
	f := defaults()
	if err := lay(t, f, nil); err != nil {
		return nil, err
	}
	f.finish()
	return f, nil
}

// lay reads a policy, and before it those that it inherits, into what was read before. The chain are the names of those
// that led here.
func lay(t Text, f *File, chain []string) error {
	d, err := newDocument(t.Name, t.Data, "the policy", `"zincdoor: 1"`)
	if err != nil {
		return err
	}
	r := reader{document: d, file: f, policy: f.Policy, inherited: len(chain) > 0}
	chain = append(slices.Clip(chain), t.Name)
	for _, ref := range r.inherits() {
		if t.Find == nil {
			r.complain(ref.at, "this policy can't inherit: there is nowhere to read the other one from")
			break
		}
		other, err := t.Find(ref.Inherit)
		if err != nil {
			return fmt.Errorf("%s:%d: the policy %s can't be got: %w", t.Name, ref.line(), ref, err)
		}
		switch {
		case ref.Digest != "" && ref.Digest != other.Digest():
			r.complain(ref.at, "the policy %s has the digest %s, not the one named here; look at what changed there", ref, other.Digest())
			continue
		case slices.Contains(chain, other.Name):
			r.complain(ref.at, "policies inherit from one another in a circle: %s", strings.Join(append(chain, other.Name), " → "))
			continue
		case len(chain) >= deepest:
			r.complain(ref.at, "more than %d policies inherit one from the other", deepest)
			continue
		case slices.ContainsFunc(f.Inherits, func(i policy.Inherited) bool { return i.Name == other.Name }):
			continue // another one brought it
		}
		if err := lay(other, f, chain); err != nil {
			return err
		}
		f.Inherits = append(f.Inherits, policy.Inherited{Name: other.Name, Digest: other.Digest()})
	}
	if err := d.result(); err != nil {
		return err
	}
	r.under = f.clone()
	r.whole()
	return d.result()
}

// reference is an Inherit with its place in the file.
type reference struct {
	Inherit
	at *yaml.Node
}

func (r reference) line() int { return r.at.Line }

// inherits reads the references to other policies.
func (r *reader) inherits() (all []reference) {
	if r.root.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(r.root.Content); i += 2 {
		if name, _ := scalar(r.root.Content[i]); name != "inherit" {
			continue
		}
		items := []*yaml.Node{r.root.Content[i+1]}
		if list := resolve(items[0]); list.Kind == yaml.SequenceNode {
			items = list.Content
		}
		for _, item := range items {
			complaints := len(r.problems)
			if i := r.inheritOf(item); len(r.problems) == complaints {
				all = append(all, reference{i, item})
			}
		}
	}
	return all
}

var digestPattern = pattern.Of(`^` + digestForm + `[0-9a-f]{64}$`)

func (r *reader) inheritOf(n *yaml.Node) (i Inherit) {
	complaints := len(r.problems)
	r.mapping(n, keys{
		what: "inherit",
		need: []string{"path"},
		read: map[string]func(*yaml.Node){
			"git":  func(n *yaml.Node) { i.Git = r.text(n, "git") },
			"at":   func(n *yaml.Node) { i.At = r.text(n, "at") },
			"path": func(n *yaml.Node) { i.Path = r.text(n, "path") },
			"digest": func(n *yaml.Node) {
				if i.Digest = r.text(n, "digest"); i.Digest != "" && !digestPattern.MatchString(i.Digest) {
					r.complain(n, "a digest is sha256: and 64 hexadecimal digits, as zincdoor policy show --origin prints it")
				}
			},
		},
	})
	switch {
	case len(r.problems) > complaints:
	case i.Git != "" && i.At == "":
		r.complain(n, "inherit needs at beside git: the tag or the whole commit name to read from")
	case i.Git == "" && i.At != "":
		r.complain(n, "inherit: at goes with git: the repository that the tag or commit is in")
	case strings.HasPrefix(i.Git, "-") || strings.HasPrefix(i.At, "-"):
		r.complain(n, "inherit: git and at can't begin with a dash")
	case i.Git != "" && i.Outside():
		r.complain(n, "inherit: path is outside of the repository %s", i.Git)
	case i.Git == "" && i.Outside() && i.Digest == "":
		r.complain(n, "inherit: a file outside the repository needs a digest (sha256: and what sha256sum says of it), or git and at")
	}
	return i
}

// clone is a copy that shares nothing that reading alters.
func (f *File) clone() *File {
	c, p := *f, *f.Policy
	p.Levels, p.Groups, p.Sets, p.Aliases = maps.Clone(p.Levels), maps.Clone(p.Groups), maps.Clone(p.Sets), maps.Clone(p.Aliases)
	c.Policy, c.Firm, c.Origins = &p, maps.Clone(f.Firm), maps.Clone(f.Origins)
	c.Doors, c.Reports, c.Seals = slices.Clone(f.Doors), slices.Clone(f.Reports), slices.Clone(f.Seals)
	return &c
}

// layered puts severities of a policy before and after those it is laid over, so that one pass in order has the meaning:
// firm ones decide first and bound last, ours decide before inherited ones and bound after them.
func layered(inherited, own []Placed[policy.Severity]) []Placed[policy.Severity] {
	pick := func(list []Placed[policy.Severity], firm, decides bool) (some []Placed[policy.Severity]) {
		for _, s := range list {
			if s.Value.Firm == firm && (s.Value.Is != "") == decides {
				some = append(some, s)
			}
		}
		return some
	}
	return slices.Concat(
		pick(inherited, true, true), pick(own, true, true), pick(own, false, true), pick(inherited, false, true),
		pick(inherited, false, false), pick(own, false, false), pick(own, true, false), pick(inherited, true, false),
	)
}
