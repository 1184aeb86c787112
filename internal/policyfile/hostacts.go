package policyfile

import (
	"slices"
	"strings"

	"github.com/theory/jsonpath"
	"go.yaml.in/yaml/v4"

	"zincdoor/internal/core/policy"
)

func (r *reader) hostActs(n *yaml.Node, h *policy.Host) {
	var names []string
	for _, spec := range policy.HostActs {
		names = append(names, string(spec.Act))
	}
	for _, f := range r.fields(n, "acts") {
		if !slices.Contains(names, f.name) {
			r.complain(f.key, "there is no act %q%s", f.name, didYouMean(f.name, names, "; there are "+strings.Join(names, ", ")))
			continue
		}
		spec := policy.SpecOf(policy.HostAct(f.name))
		h.Acts[spec.Act] = r.exchange(f, h, spec)
	}
}

func (r *reader) exchange(f field, h *policy.Host, spec policy.HostActSpec) *policy.Exchange {
	e := &policy.Exchange{Fields: map[string]policy.HostField{}}
	known := map[string]func(*yaml.Node){
		"call":    func(n *yaml.Node) { r.hostCall(n, h, spec, e) },
		"headers": func(n *yaml.Node) { e.Headers = r.hostHeaders(n, h, spec.Act) },
		"body":    func(n *yaml.Node) { body := r.hostBody(n, h, spec.Act, "body"); e.Body = &body },
		"form": func(n *yaml.Node) {
			body := r.hostBody(n, h, spec.Act, "form")
			e.Body, e.Form = &body, true
			if body.Kind != policy.BodyMembers || slices.ContainsFunc(body.Members, func(m policy.HostMember) bool { return m.Value.Kind != policy.BodyScalar }) {
				r.complain(n, "form is a mapping of fields to single values")
			}
		},
		"ok": func(n *yaml.Node) { e.OK = r.httpCodes(n, "ok") },
	}
	if len(spec.Gives) > 0 {
		known["fields"] = func(n *yaml.Node) { r.hostFields(n, spec, e) }
	}
	if spec.Lists {
		known["each"] = func(n *yaml.Node) { e.Each = r.jsonPath(n, "each") }
		known["paging"] = func(n *yaml.Node) { e.Paging = r.hostPaging(n) }
	}
	if spec.Act == policy.ListStatus {
		known["newest"] = func(n *yaml.Node) { e.Newest = oneOf(r, n, "newest", []string{policy.FirstCounts, policy.LastCounts}) }
	}
	if spec.Act == policy.UpdateComment {
		known["moves"] = func(n *yaml.Node) { e.Moves = r.boolean(n, "moves") }
	}
	need := []string{"call"}
	if len(spec.Gives) > 0 {
		need = append(need, "fields")
	}
	if spec.Lists {
		need = append(need, "each")
	}
	given := map[string]field{}
	r.mapping(f.value, keys{what: f.name, need: need, read: known, seen: func(f field) { given[f.name] = f }})
	if _, both := given["form"]; both && given["body"].key != nil {
		r.complain(f.value, "%s has a body or a form, not both", f.name)
	}
	if by, variable := e.Paging.By, map[string]string{policy.PagesByNumber: "page", policy.PagesByCursor: "cursor"}[e.Paging.By]; variable != "" && !slices.Contains(e.Variables(), variable) {
		r.complain(given["paging"].value, "paging by %s needs {%s} in the call or the body of %s", by, variable, f.name)
	}
	return e
}

// hostCall reads METHOD ADDRESS.
func (r *reader) hostCall(n *yaml.Node, h *policy.Host, spec policy.HostActSpec, e *policy.Exchange) {
	text := r.text(n, "call")
	if text == "" {
		return
	}
	method, address, ok := strings.Cut(text, " ")
	methods := []string{"GET", "POST", "PUT", "PATCH", "DELETE"}
	switch address = strings.TrimSpace(address); {
	case !ok || address == "" || !slices.Contains(methods, method):
		r.complain(n, "call is one of %s and an address, as in POST /pulls/{pull}/threads, not %q", strings.Join(methods, ", "), text)
	case !strings.HasPrefix(address, "/") && !strings.HasPrefix(address, "?"):
		r.complain(n, "the address of a call goes on from the host's address, so it begins with /")
	case strings.ContainsAny(address, " \t#"):
		r.complain(n, "there can't be blanks or # in an address")
	}
	at := *n
	at.Value, at.Kind, at.Alias = address, yaml.ScalarNode, nil
	e.Method, e.Address = method, r.hostTemplate(&at, h, spec.Act, "call")
}

func (r *reader) hostBody(n *yaml.Node, h *policy.Host, act policy.HostAct, what string) (b policy.HostBody) {
	switch m := resolve(n); m.Kind {
	case yaml.MappingNode:
		b.Kind = policy.BodyMembers
		for _, f := range r.fields(n, what) {
			b.Members = append(b.Members, policy.HostMember{Name: f.name, Value: r.hostBody(f.value, h, act, f.name)})
		}
	case yaml.SequenceNode:
		b.Kind = policy.BodyList
		for _, item := range m.Content {
			b.List = append(b.List, r.hostBody(item, h, act, what))
		}
	default:
		if text, ok := scalar(m); ok && text == "" {
			b.Word = &policy.HostWord{}
			return b
		}
		if b.Scalar = r.hostTemplate(n, h, act, what); len(b.Scalar.Variables()) == 0 {
			word := r.hostWord(n, what)
			if !word.Plain {
				word.Text, _, _ = b.Scalar.Filled(nil, nil) // {{ is a brace
			}
			b.Word = &word
		}
	}
	return b
}

func (r *reader) hostFields(n *yaml.Node, spec policy.HostActSpec, e *policy.Exchange) {
	known := slices.Concat(spec.Gives, spec.May)
	for _, f := range r.fields(n, "fields") {
		if !slices.Contains(known, f.name) {
			r.complain(f.key, "%s has no field %q%s", spec.Act, f.name, didYouMean(f.name, known, "; it may have "+strings.Join(known, ", ")))
			continue
		}
		var field policy.HostField
		if resolve(f.value).Kind == yaml.MappingNode {
			r.mapping(f.value, keys{what: f.name, need: []string{"at", "is"}, read: map[string]func(*yaml.Node){
				"at": func(n *yaml.Node) { field.At = r.jsonPath(n, f.name) },
				"is": func(n *yaml.Node) { word := r.hostWord(n, "is"); field.Is = &word },
			}})
			if f.name != "resolved" {
				r.complain(f.value, "%s is a JSONPath alone; at and is are for resolved", f.name)
			}
		} else {
			field.At = r.jsonPath(f.value, f.name)
		}
		e.Fields[f.name] = field
	}
	for _, name := range spec.Gives {
		if _, there := e.Fields[name]; !there {
			r.complain(n, "%s needs the field %s: the JSONPath of it in the answer", spec.Act, name)
		}
	}
}

func (r *reader) jsonPath(n *yaml.Node, what string) string {
	path := r.text(n, what)
	if path != "" {
		if _, err := jsonpath.Parse(path); err != nil {
			r.complain(n, "%s: %q can't be read: %v", what, path, err)
		}
	}
	return path
}

func (r *reader) hostPaging(n *yaml.Node) (p policy.HostPaging) {
	p.First = 1
	given := map[string]field{}
	r.mapping(n, keys{what: "paging", need: []string{"by"}, seen: func(f field) { given[f.name] = f }, read: map[string]func(*yaml.Node){
		"by": func(n *yaml.Node) {
			p.By = oneOf(r, n, "by", []string{policy.PagesByLink, policy.PagesByNumber, policy.PagesByCursor})
		},
		"next":  func(n *yaml.Node) { p.Next = r.jsonPath(n, "next") },
		"first": func(n *yaml.Node) { p.First = r.number(n, "first") },
		"size":  func(n *yaml.Node) { p.Size = r.number(n, "size") },
	}})
	for key, by := range map[string]string{"next": policy.PagesByCursor, "first": policy.PagesByNumber, "size": policy.PagesByNumber} {
		if f, there := given[key]; there && p.By != by {
			r.complain(f.key, "paging: %s goes with by: %s", key, by)
		}
	}
	if p.By == policy.PagesByCursor && p.Next == "" {
		r.complain(n, "paging by cursor needs next: the JSONPath of the next cursor")
	}
	return p
}

// checkHost complains of acts that lack others.
func (r *reader) checkHost(n *yaml.Node, h *policy.Host) {
	if !h.Does(policy.ReadPull) {
		r.complain(n, "the host needs the act %s, which says what commit is proposed", policy.ReadPull)
	}
	for _, spec := range policy.HostActs {
		for _, needed := range spec.Needs {
			if h.Does(spec.Act) && !h.Does(needed) {
				r.complain(n, "%s needs %s beside it", spec.Act, needed)
			}
		}
	}
	if list := h.Acts[policy.ListComments]; list != nil && h.Does(policy.UpdateComment) && h.Acts[policy.UpdateComment].Moves {
		for _, name := range []string{"path", "line"} {
			if _, said := list.Fields[name]; !said {
				r.complain(n, "moves: true needs the field %s of %s, by which a comment is known to be where it should be", name, policy.ListComments)
			}
		}
	}
	switch comments := h.Does(policy.CreateComment) || h.Does(policy.CreateSummary); {
	case comments && !h.Does(policy.ReadSelf) && h.Self == "":
		r.complain(n, "to know its own comments from those of people, the host needs the act %s, or self: the name that it writes by", policy.ReadSelf)
	case h.Does(policy.CreateSummary) && !h.Does(policy.ListSummary) && !h.Does(policy.ListComments):
		r.complain(n, "%s needs %s beside it", policy.CreateSummary, policy.ListSummary)
	case !comments && !h.Does(policy.SetStatus):
		r.complain(n, "the host has neither %s nor %s, so there is nothing to send", policy.CreateComment, policy.SetStatus)
	}
}
