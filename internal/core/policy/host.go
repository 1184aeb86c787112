package policy

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Host describes the HTTP interface of a code host: what to send for each act, and where the answers have what they say.
type Host struct {
	Name    string
	Written string // the whole recipe on one line

	Address   Template // that the acts' addresses begin with
	Headers   []HostHeader
	Variables map[string]string              // the recipe's own, which a call may set otherwise
	Words     map[string]map[string]HostWord // by variable: what the host calls each value of it
	Mark      string                         // the form of the mark in a comment, with {mark} in it once
	Longest   int                            // characters of a comment
	Self      string                         // who writes with the token; "" where the act read-self says

	Wait      []HostWait
	Gone      []int // the codes that say that what was named isn't there any more
	Refused   []int // that the token may not do this
	Misplaced []int // that a comment can't be put on its lines

	Acts map[HostAct]*Exchange
}

// HostAct is something that is asked of a code host.
type HostAct string

// The acts.
const (
	ReadSelf       HostAct = "read-self"
	ReadPull       HostAct = "read-pull"
	ListComments   HostAct = "list-comments"
	CreateComment  HostAct = "create-comment"
	UpdateComment  HostAct = "update-comment"
	ResolveComment HostAct = "resolve-comment"
	ReopenComment  HostAct = "reopen-comment"
	DeleteComment  HostAct = "delete-comment"
	ListSummary    HostAct = "list-summary"
	CreateSummary  HostAct = "create-summary"
	UpdateSummary  HostAct = "update-summary"
	DeleteSummary  HostAct = "delete-summary"
	ListStatus     HostAct = "list-status"
	SetStatus      HostAct = "set-status"
)

// HostActSpec is what an act takes and gives.
type HostActSpec struct {
	Act    HostAct
	Writes bool
	Lists  bool     // it gives any number of things
	Takes  []string // its variables, beside those that every act has
	Gives  []string // fields of the answer that are needed
	May    []string // fields that the answer may have
	Needs  []HostAct
}

// HostActs are all acts, in the order of their use.
var HostActs = []HostActSpec{
	{Act: ReadSelf, Gives: []string{"name"}},
	{Act: ReadPull, Gives: []string{"head"}, May: []string{"state", "target", "title"}},
	{Act: ListComments, Lists: true, Gives: []string{"id", "text", "author"}, May: []string{"thread", "resolved", "path", "line", "start-line", "commit", "answers"}},
	{Act: CreateComment, Writes: true, Takes: append(slices.Clone(placed), "text", "key"), Needs: []HostAct{ListComments, UpdateComment}},
	{Act: UpdateComment, Writes: true, Takes: append(slices.Clone(placed), "text", "id", "thread"), Needs: []HostAct{ListComments}},
	{Act: ResolveComment, Writes: true, Takes: []string{"id", "thread"}, Needs: []HostAct{ListComments, ReopenComment}},
	{Act: ReopenComment, Writes: true, Takes: []string{"id", "thread"}, Needs: []HostAct{ResolveComment}},
	{Act: DeleteComment, Writes: true, Takes: []string{"id", "thread"}, Needs: []HostAct{ListComments}},
	{Act: ListSummary, Lists: true, Gives: []string{"id", "text", "author"}, May: []string{"thread"}},
	{Act: CreateSummary, Writes: true, Takes: []string{"text", "key"}, Needs: []HostAct{UpdateSummary}},
	{Act: UpdateSummary, Writes: true, Takes: []string{"text", "id", "thread"}},
	{Act: DeleteSummary, Writes: true, Takes: []string{"id", "thread"}},
	{Act: ListStatus, Lists: true, Takes: []string{"commit"}, Gives: []string{"status", "outcome"}, May: []string{"text", "link"}},
	{Act: SetStatus, Writes: true, Takes: []string{"commit", "status", "outcome", "text"}},
}

// placed are the variables of a comment's lines. start-line has a value only where the comment is on several.
var placed = []string{"commit", "path", "line", "start-line", "first-line", "side"}

// HostVariables are those that every act has. token and basic are for headers alone.
var HostVariables = []string{"address", "repository", "pull", "head", "door", "link", "user", "page", "cursor", "token", "basic"}

// Secrets are the variables with the token in them.
var Secrets = []string{"token", "basic"}

// SpecOf is what an act takes and gives.
func SpecOf(act HostAct) HostActSpec {
	i := slices.IndexFunc(HostActs, func(s HostActSpec) bool { return s.Act == act })
	return HostActs[i]
}

// Exchange is what is sent for an act, and where its answer has what it says.
type Exchange struct {
	Method  string
	Address Template // after the host's; a whole one where it has a scheme
	Headers []HostHeader
	Body    *HostBody // nil for none
	Form    bool      // the body is sent as a form, not as JSON
	OK      []int     // the codes of success; nil for 200 to 299
	Each    string    // JSONPath of what is listed; "" for the answer itself
	Fields  map[string]HostField
	Paging  HostPaging
	Newest  string // of a list with several statuses of a name: which of them counts, the First or the Last; "" where they must agree
	Moves   bool   // of an update: it puts the comment on its present lines too
}

// HostHeader is a header of a request.
type HostHeader struct {
	Name  string
	Value Template
}

// HostField is where an answer has something: a JSONPath from each thing that is listed.
type HostField struct {
	At string
	Is *HostWord // the field is true where the answer has this there; nil for its own truth
}

// How the next page of a list is found.
const (
	PagesByLink   = "link"   // the answer's Link header (RFC 8288) has one with rel=next
	PagesByNumber = "page"   // {page} goes up by one until a page has fewer things than Size, or none
	PagesByCursor = "cursor" // {cursor} is what the answer has at Next, until it has nothing there
)

// Which of several statuses of a name is the newest.
const (
	FirstCounts = "first"
	LastCounts  = "last"
)

// HostPaging says how the next page of a list is found. The zero value is for a list of one page.
type HostPaging struct {
	By    string
	Next  string // JSONPath of the next cursor
	First int    // the number of the first page
	Size  int    // how many things a whole page has; 0 where that isn't known
}

// HostWait says which answers ask for patience, and for how long.
type HostWait struct {
	Codes  []int
	Header string // only where the answer has this header
	Is     string // with this value; "" for any
	For    string // the header that says for how many seconds, or until when (an HTTP date or seconds since 1970); "" for Retry-After
}

// HostWord is a value as a recipe writes it. A plain one is a number, true or false.
type HostWord struct {
	Text  string
	Plain bool
}

// HostBody is a body as a template: one of a scalar, a list and members.
type HostBody struct {
	Scalar  Template
	Word    *HostWord // of a scalar that is always this
	List    []HostBody
	Members []HostMember
	Kind    BodyKind
}

// BodyKind is what a part of a body is.
type BodyKind int

// The kinds.
const (
	BodyScalar BodyKind = iota
	BodyList
	BodyMembers
)

// HostMember is a member of an object, or a field of a form.
type HostMember struct {
	Name  string
	Value HostBody
}

// Template is a text with variables in it: {name}. Where {name?} has no value, what the template stands for is left out: the member
// of a body, the header, the parameter of an address.
type Template struct{ parts []templatePart }

type templatePart struct {
	text     string
	variable string // "" for text
	optional bool
	slashes  bool // {name:path} keeps the slashes of a value in an address
}

// ParseTemplate reads a template. Braces around anything that can't be a variable's name are text; {{ is a brace.
func ParseTemplate(text string) (t Template) {
	var plain strings.Builder
	flush := func() {
		if plain.Len() > 0 {
			t.parts = append(t.parts, templatePart{text: plain.String()})
			plain.Reset()
		}
	}
	for text != "" {
		if strings.HasPrefix(text, "{{") {
			plain.WriteByte('{')
			text = text[2:]
			continue
		}
		if part, rest, ok := cutVariable(text); ok {
			flush()
			t.parts, text = append(t.parts, part), rest
			continue
		}
		plain.WriteByte(text[0])
		text = text[1:]
	}
	flush()
	return t
}

func cutVariable(text string) (part templatePart, rest string, ok bool) {
	if text[0] != '{' {
		return part, text, false
	}
	name, rest, closed := strings.Cut(text[1:], "}")
	if !closed {
		return part, text, false
	}
	name, part.slashes = strings.CutSuffix(name, ":path")
	part.variable, part.optional = strings.CutSuffix(name, "?")
	ok = part.variable != "" && strings.Trim(part.variable, "abcdefghijklmnopqrstuvwxyz-") == ""
	return part, rest, ok
}

// Variables are the names in a template.
func (t Template) Variables() (all []string) {
	for _, p := range t.parts {
		if p.variable != "" {
			all = append(all, p.variable)
		}
	}
	return all
}

// Alone is the variable that a template is nothing but, "" for any other template.
func (t Template) Alone() string {
	if len(t.parts) == 1 {
		return t.parts[0].variable
	}
	return ""
}

// Filled is a template filled in: left out where an optional variable has no value. An error names a variable that has none.
func (t Template) Filled(value func(name string) string, escape func(value string, slashes bool) string) (text string, out bool, err error) {
	var filled strings.Builder
	for _, p := range t.parts {
		if p.variable == "" {
			filled.WriteString(p.text)
			continue
		}
		v := value(p.variable)
		switch {
		case v == "" && p.optional:
			out = true
		case v == "" && p.variable != "text":
			return "", false, fmt.Errorf("{%s} has no value", p.variable)
		case escape != nil:
			v = escape(v, p.slashes)
		}
		filled.WriteString(v)
	}
	return filled.String(), out, nil
}

// Pieces gives a template in pieces that split at a separator in its text, so that one of them can be left out by itself.
func (t Template) Pieces(separator byte) (all []Template) {
	current := Template{}
	for _, p := range t.parts {
		if p.variable != "" {
			current.parts = append(current.parts, p)
			continue
		}
		for i, text := range strings.Split(p.text, string(separator)) {
			if i > 0 {
				all = append(all, current)
				current = Template{}
			}
			if text != "" {
				current.parts = append(current.parts, templatePart{text: text})
			}
		}
	}
	return append(all, current)
}

// Host returns the host of that name.
func (p *Policy) Host(name string) (*Host, bool) {
	i := slices.IndexFunc(p.Hosts, func(h *Host) bool { return h.Name == name })
	if i < 0 {
		return nil, false
	}
	return p.Hosts[i], true
}

// Does reports whether a recipe says how an act is done.
func (h *Host) Does(act HostAct) bool { return h.Acts[act] != nil }

// VariableNames lists the names that a recipe's templates may use in an act; act "" is for what all acts have.
func (h *Host) VariableNames(act HostAct) []string {
	names := slices.Concat(HostVariables, slices.Sorted(maps.Keys(h.Variables)))
	if act != "" {
		names = append(names, SpecOf(act).Takes...)
	}
	return names
}

// Variables are the names in the address and the body of an exchange.
func (e *Exchange) Variables() []string {
	all := e.Address.Variables()
	if e.Body != nil {
		all = append(all, e.Body.variables()...)
	}
	return all
}

func (b HostBody) variables() []string {
	all := b.Scalar.Variables()
	for _, item := range b.List {
		all = append(all, item.variables()...)
	}
	for _, m := range b.Members {
		all = append(all, m.Value.variables()...)
	}
	return all
}
