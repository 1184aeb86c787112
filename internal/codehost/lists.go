package codehost

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/theory/jsonpath"

	"zincdoor/internal/core/policy"
)

// decode is the answer as JSON.
func (h *Host) decode(r request, a answer) (document any, err error) {
	d := json.NewDecoder(strings.NewReader(string(a.body)))
	d.UseNumber()
	if err := d.Decode(&document); err != nil {
		return nil, fmt.Errorf("%w: %s answers %d with what isn't JSON (%w): %s", ErrRecipe, r.where(h), a.code, err, h.said(a))
	}
	return document, nil
}

// read does an act that gives one thing.
func (h *Host) read(ctx context.Context, act policy.HostAct, values map[string]any) (fields, error) {
	r, err := h.request(act, values, "")
	if err != nil {
		return nil, err
	}
	a, err := h.sent(ctx, r)
	if err != nil {
		return nil, err
	}
	document, err := h.decode(r, a)
	if err != nil {
		return nil, err
	}
	found := h.fields(act, document)
	return found, h.needed(r, found, document)
}

// list does an act that gives any number of things, page by page.
func (h *Host) list(ctx context.Context, act policy.HostAct, values map[string]any, see func(fields)) error {
	e := h.recipe.Acts[act]
	each := jsonpath.MustParse(e.Each)
	filled := map[string]any{}
	for name, v := range values {
		filled[name] = v
	}
	if e.Paging.By == policy.PagesByNumber {
		filled["page"] = e.Paging.First
	}
	next, things := "", 0
	seen := map[string]bool{}
	for page := 1; ; page++ {
		r, err := h.request(act, filled, next)
		if err != nil {
			return err
		}
		a, err := h.sent(ctx, r)
		if err != nil {
			return err
		}
		document, err := h.decode(r, a)
		if err != nil {
			return err
		}
		items := each.Select(document)
		for _, item := range items {
			found := h.fields(act, item)
			if err := h.needed(r, found, item); err != nil {
				return err
			}
			see(found)
		}
		if things += len(items); things > mostItems || page >= mostPages {
			return fmt.Errorf("%s lists more than %d things or %d pages", r.where(h), mostItems, mostPages)
		}
		var more bool
		if next, more, err = h.turn(e.Paging, r, a, document, len(items), filled); err != nil || !more {
			return err
		}
		mark := next + "\x00" + fmt.Sprint(filled["page"], filled["cursor"])
		if seen[mark] {
			return fmt.Errorf("%w: %s: the pages go round in a circle", ErrRecipe, r.where(h))
		}
		seen[mark] = true
	}
}

// turn finds the next page: its address, or its number or cursor among the values.
func (h *Host) turn(p policy.HostPaging, r request, a answer, document any, items int, values map[string]any) (next string, more bool, err error) {
	switch p.By {
	case policy.PagesByLink:
		link := nextLink(a.headers.Values("Link"))
		if link == "" {
			return "", false, nil
		}
		to, err := a.from.Parse(link)
		if err != nil {
			return "", false, fmt.Errorf("%w: %s: the next page is at %q, which is no address", ErrRecipe, r.where(h), link)
		}
		if here, err := url.Parse(h.base); err != nil || origin(to) != origin(here) {
			return "", false, fmt.Errorf("%w: %s: the next page is at another host, %s, which doesn't get the token", ErrRecipe, r.where(h), to.Host)
		}
		return to.String(), true, nil
	case policy.PagesByNumber:
		if items == 0 || p.Size > 0 && items < p.Size {
			return "", false, nil
		}
		values["page"] = values["page"].(int) + 1
		return "", true, nil
	case policy.PagesByCursor:
		cursor := valueAt(p.Next, document)
		values["cursor"] = cursor.text
		return "", cursor.found && cursor.text != "" && cursor.truth, nil
	}
	return "", false, nil
}

// nextLink finds the target with rel=next in Link headers (RFC 8288, 3).
func nextLink(headers []string) string {
	for _, header := range headers {
		for rest := header; ; {
			begin := strings.IndexByte(rest, '<')
			if begin < 0 {
				break
			}
			end := strings.IndexByte(rest[begin:], '>')
			if end < 0 {
				break
			}
			target := rest[begin+1 : begin+end]
			rest = rest[begin+end+1:]
			parameters, _, _ := strings.Cut(rest, "<")
			for _, parameter := range strings.FieldsFunc(parameters, func(r rune) bool { return r == ';' || r == ',' }) {
				name, v, _ := strings.Cut(strings.TrimSpace(parameter), "=")
				if strings.EqualFold(strings.TrimSpace(name), "rel") && slices.ContainsFunc(strings.Fields(strings.Trim(strings.TrimSpace(v), `"`)), func(rel string) bool { return strings.EqualFold(rel, "next") }) {
					return target
				}
			}
		}
	}
	return ""
}

// needed complains of a field that an act needs and that isn't there.
func (h *Host) needed(r request, found fields, document any) error {
	for _, name := range policy.SpecOf(r.act).Gives {
		if name == "text" || found[name].found {
			continue
		}
		text, _ := json.Marshal(document)
		return fmt.Errorf("%w: %s: the answer has nothing for %s at %s: %s", ErrRecipe, r.where(h), name, h.recipe.Acts[r.act].Fields[name].At, h.said(answer{body: text}))
	}
	return nil
}

// fields finds the fields of one thing.
func (h *Host) fields(act policy.HostAct, document any) fields {
	found := fields{}
	for name, f := range h.recipe.Acts[act].Fields {
		v := valueAt(f.At, document)
		if f.Is != nil {
			v.truth = v.found && v.text == f.Is.Text
		}
		found[name] = v
	}
	return found
}

// valueAt is what a document has at a JSONPath: the first where there are several.
func valueAt(path string, document any) value {
	nodes := jsonpath.MustParse(path).Select(document)
	if len(nodes) == 0 {
		return value{}
	}
	switch v := nodes[0].(type) {
	case string:
		return value{v, v != "" && v != "false" && v != "0", true}
	case json.Number:
		return value{v.String(), v.String() != "0", true}
	case bool:
		return value{strconv.FormatBool(v), v, true}
	case nil:
		return value{}
	case []any:
		return value{strconv.Itoa(len(v)), len(v) > 0, true}
	}
	return value{"an object", true, true}
}
