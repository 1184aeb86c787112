package policyfile

import (
	"encoding/json"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/policy"
)

// HostVersion is what a file that holds one host recipe calls itself.
const HostVersion = "host/1"

// The codes of answers where a recipe doesn't say.
var (
	waitCodes      = []int{429, 503}
	goneCodes      = []int{404, 410}
	refusedCodes   = []int{403}
	misplacedCodes = []int{422}
)

// longestComment is how many characters a comment has at most where a recipe doesn't say.
const longestComment = 60_000

// ReadHost reads a file that holds one host recipe. The error is a Problems.
func ReadHost(file string, data []byte) (*policy.Host, error) {
	d, err := newDocument(file, data, "the host recipe", `"zincdoor: `+HostVersion+`"`)
	if err != nil {
		return nil, err
	}
	r := reader{document: d}
	h := r.host(field{key: d.root, value: d.root}, map[string]func(*yaml.Node, *policy.Host){
		"zincdoor": func(n *yaml.Node, _ *policy.Host) {
			if s := r.text(n, "zincdoor"); s != "" && s != HostVersion {
				r.complain(n, "this program reads host recipes of the form %s, not %q", HostVersion, s)
			}
		},
		"name": func(n *yaml.Node, h *policy.Host) { h.Name = r.text(n, "name") },
	})
	return h, d.result()
}

func (r *reader) hosts(n *yaml.Node) {
	for _, f := range r.fields(n, "hosts") {
		host := Placed[*policy.Host]{r.host(f, nil), r.position(f.key)}
		r.file.Hosts = append(slices.DeleteFunc(slices.Clone(r.file.Hosts), func(o Placed[*policy.Host]) bool { return o.Value.Name == f.name }), host)
	}
}

// host reads a recipe; more are the keys that it has in a file of its own.
func (r *reader) host(f field, more map[string]func(*yaml.Node, *policy.Host)) *policy.Host {
	h := &policy.Host{
		Name: f.name, Variables: map[string]string{}, Words: map[string]map[string]policy.HostWord{}, Mark: "<!-- {mark} -->", Longest: longestComment,
		Gone: goneCodes, Refused: refusedCodes, Misplaced: misplacedCodes, Acts: map[policy.HostAct]*policy.Exchange{},
	}
	if spread(f.value, mostOfHost) <= 0 {
		r.complain(f.value, "a host recipe has at most %d values, those that aliases repeat counted each time", mostOfHost)
		return h
	}
	var address, headers, acts, mark *yaml.Node
	known := map[string]func(*yaml.Node){
		"address":   func(n *yaml.Node) { address = n }, // needs the variables
		"headers":   func(n *yaml.Node) { headers = n },
		"acts":      func(n *yaml.Node) { acts = n },
		"mark":      func(n *yaml.Node) { mark, h.Mark = n, r.text(n, "mark") },
		"longest":   func(n *yaml.Node) { h.Longest = r.number(n, "longest") },
		"self":      func(n *yaml.Node) { h.Self = r.text(n, "self") },
		"variables": func(n *yaml.Node) { r.hostVariables(n, h) },
		"words":     func(n *yaml.Node) { r.hostWords(n, h) },
		"wait":      func(n *yaml.Node) { h.Wait = r.hostWaits(n) },
		"gone":      func(n *yaml.Node) { h.Gone = r.httpCodes(n, "gone") },
		"refused":   func(n *yaml.Node) { h.Refused = r.httpCodes(n, "refused") },
		"misplaced": func(n *yaml.Node) { h.Misplaced = r.httpCodes(n, "misplaced") },
	}
	need := []string{"address", "acts"}
	for name, read := range more {
		known[name] = func(n *yaml.Node) { read(n, h) }
		need = append(need, name)
	}
	slices.Sort(need)
	what := strings.TrimSpace("host " + f.name)
	r.mapping(f.value, keys{what: what, need: need, read: known})
	if address != nil {
		h.Address = r.hostTemplate(address, h, "", "address")
		r.checkHostAddress(address)
	}
	if headers != nil {
		h.Headers = r.hostHeaders(headers, h, "")
	}
	if acts != nil {
		r.hostActs(acts, h)
		r.checkHost(acts, h)
	}
	if mark != nil && strings.Count(h.Mark, "{mark}") != 1 || strings.ContainsAny(h.Mark, "\r\n") {
		r.complain(mark, "mark is one line that has {mark} in it once, as in <!-- {mark} -->")
	}
	if h.Longest < leastLongest {
		r.complain(f.value, "longest: a comment needs room for %d characters", leastLongest)
	}
	if h.Wait == nil {
		h.Wait = []policy.HostWait{{Codes: waitCodes}}
	}
	h.Written = flowOf(resolve(f.value))
	return h
}

// mostOfHost is how many values a recipe has at most.
const mostOfHost = 10_000

// spread is what is left of so many nodes once those below a node are counted, aliases followed; nothing or less where there are more.
func spread(n *yaml.Node, left int) int {
	left--
	for _, below := range resolve(n).Content {
		if left <= 0 {
			break
		}
		left = spread(below, left)
	}
	return left
}

// leastLongest is how many characters a comment with its mark needs.
const leastLongest = 10_000

func (r *reader) checkHostAddress(n *yaml.Node) {
	text, _ := scalar(resolve(n))
	u, err := url.Parse(strings.NewReplacer("{", "", "}", "").Replace(text))
	switch {
	case strings.HasPrefix(text, "{"):
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		r.complain(n, "address is that of the host's interface, as in https://host.example/api, not %q", text)
	case u.User != nil:
		r.complain(n, "no name and no password belong in an address")
	}
}

func (r *reader) hostVariables(n *yaml.Node, h *policy.Host) {
	for _, f := range r.fields(n, "variables") {
		switch {
		case slices.Contains(policy.HostVariables, f.name) && f.name != "repository" && f.name != "user":
			r.complain(f.key, "%s has its value from the call; give the variable another name", f.name)
		case strings.Trim(f.name, "abcdefghijklmnopqrstuvwxyz-") != "":
			r.complain(f.key, "the name of a variable has small letters and dashes alone, not %q", f.name)
		}
		h.Variables[f.name] = r.text(f.value, f.name)
	}
}

// worded are the variables whose values a host may call something else.
var worded = map[string][]string{"outcome": {"open", "shut", "unjudged"}, "side": {"new"}}

func (r *reader) hostWords(n *yaml.Node, h *policy.Host) {
	for _, variable := range r.fields(n, "words") {
		values, ok := worded[variable.name]
		if !ok {
			r.complain(variable.key, "words are those for %s, not for %q", strings.Join(slices.Sorted(maps.Keys(worded)), " and "), variable.name)
			continue
		}
		h.Words[variable.name] = map[string]policy.HostWord{}
		for _, f := range r.fields(variable.value, "words for "+variable.name) {
			checkWord(r, f.key, "words for "+variable.name, f.name, values)
			h.Words[variable.name][f.name] = r.hostWord(f.value, f.name)
		}
		for _, value := range values {
			if _, said := h.Words[variable.name][value]; !said {
				r.complain(variable.value, "words for %s lack %s", variable.name, value)
			}
		}
	}
}

// hostWord reads a scalar that is sent as it is: a number, true and false without quotes as such.
func (r *reader) hostWord(n *yaml.Node, what string) policy.HostWord {
	text := r.text(n, what)
	return policy.HostWord{Text: text, Plain: isPlain(resolve(n))}
}

// isPlain reports whether a scalar is a number, true or false, which JSON writes without quotes just so.
func isPlain(n *yaml.Node) bool {
	if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		return false
	}
	if n.Value == "true" || n.Value == "false" {
		return true
	}
	whole := strings.TrimPrefix(n.Value, "-")
	_, err := strconv.ParseInt(n.Value, 10, 64)
	return err == nil && (whole == "0" || !strings.HasPrefix(whole, "0")) && !strings.HasPrefix(n.Value, "+")
}

func (r *reader) hostWaits(n *yaml.Node) (all []policy.HostWait) {
	items := []*yaml.Node{n}
	if list := resolve(n); list.Kind == yaml.SequenceNode {
		items = list.Content
	}
	for _, item := range items {
		var w policy.HostWait
		r.mapping(item, keys{what: "wait", need: []string{"codes"}, read: map[string]func(*yaml.Node){
			"codes":  func(n *yaml.Node) { w.Codes = r.httpCodes(n, "codes") },
			"header": func(n *yaml.Node) { w.Header = r.headerName(n) },
			"is":     func(n *yaml.Node) { w.Is = r.text(n, "is") },
			"for":    func(n *yaml.Node) { w.For = r.headerName(n) },
		}})
		if w.Is != "" && w.Header == "" {
			r.complain(item, "wait: is goes with header: the header that is so")
		}
		all = append(all, w)
	}
	return all
}

func (r *reader) httpCodes(n *yaml.Node, what string) (all []int) {
	for _, s := range r.texts(n, what) {
		code, err := strconv.Atoi(s)
		if err != nil || code < 200 || code > 599 {
			r.complain(n, "%s: an HTTP code is a number from 200 to 599, not %q", what, s)
		}
		all = append(all, code)
	}
	return all
}

// hostTemplate reads a template of an act, "" for one of all acts, and complains of variables that aren't known there.
func (r *reader) hostTemplate(n *yaml.Node, h *policy.Host, act policy.HostAct, what string, more ...string) policy.Template {
	t := policy.ParseTemplate(r.text(n, what))
	known := slices.Concat(h.VariableNames(act), more)
	for _, name := range t.Variables() {
		switch {
		case !slices.Contains(known, name):
			r.complain(n, "%s: there is no variable {%s}%s", what, name, didYouMean(name, known, "; text in braces begins with {{"))
		case slices.Contains(policy.Secrets, name) && !slices.Contains(more, name):
			r.complain(n, "%s: {%s} belongs in a header, where no log and no list of processes shows it", what, name)
		}
	}
	return t
}

func (r *reader) headerName(n *yaml.Node) string {
	name := r.text(n, "header")
	if strings.ContainsFunc(name, func(c rune) bool { return c <= ' ' || c > '~' || strings.ContainsRune(`()<>@,;:\"/[]?={}`, c) }) {
		r.complain(n, "%q can't be the name of a header", name)
	}
	return name
}

func (r *reader) hostHeaders(n *yaml.Node, h *policy.Host, act policy.HostAct) (all []policy.HostHeader) {
	for _, f := range r.fields(n, "headers") {
		r.headerName(f.key)
		t := r.hostTemplate(f.value, h, act, f.name, policy.Secrets...)
		if text, _ := scalar(resolve(f.value)); strings.ContainsAny(text, "\r\n") {
			r.complain(f.value, "a header is one line")
		}
		all = append(all, policy.HostHeader{Name: f.name, Value: t})
	}
	return all
}

// flowOf writes a node on one line.
func flowOf(n *yaml.Node) string {
	switch m := resolve(n); m.Kind {
	case yaml.MappingNode:
		return flow(func(set func(key, value string)) {
			for i := 0; i+1 < len(m.Content); i += 2 {
				name, _ := scalar(m.Content[i])
				set(Word(name), flowOf(m.Content[i+1]))
			}
		})
	case yaml.SequenceNode:
		all := make([]string, len(m.Content))
		for i, item := range m.Content {
			all[i] = flowOf(item)
		}
		return "[" + strings.Join(all, ", ") + "]"
	default:
		text, _ := scalar(m)
		if isPlain(m) {
			return text
		}
		if isPlain(&yaml.Node{Value: text}) {
			return strconv.Quote(text)
		}
		return Word(text)
	}
}

// HostSchema is the JSON Schema (2020-12) of a file that holds one host recipe.
func HostSchema() []byte {
	var whole struct {
		Schema string                    `json:"$schema"`
		Defs   map[string]map[string]any `json:"$defs"`
	}
	if err := json.Unmarshal(schema, &whole); err != nil {
		panic(err) // it is part of the program and tested
	}
	host := whole.Defs["host"]
	properties := host["properties"].(map[string]any)
	properties["zincdoor"], properties["name"] = map[string]any{"const": HostVersion}, map[string]any{"$ref": "#/$defs/word"}
	host["required"] = append(host["required"].([]any), "zincdoor", "name")
	host["$schema"], host["title"], host["$defs"] = whole.Schema, "A host recipe of Zinc Door, form 1", whole.Defs
	delete(whole.Defs, "host")
	text, err := json.MarshalIndent(host, "", "  ")
	if err != nil {
		panic(err)
	}
	return append(text, '\n')
}
