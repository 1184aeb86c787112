package codehost

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"zincdoor/internal/core/policy"
)

// request is what is sent for an act.
type request struct {
	act     policy.HostAct
	method  string
	address string
	headers http.Header
	body    []byte
}

// request fills an act in. page is the page's address where a link gave it, "" for the one of the recipe.
func (h *Host) request(act policy.HostAct, values map[string]any, page string) (r request, err error) {
	e := h.recipe.Acts[act]
	r = request{act: act, method: e.Method, address: page, headers: http.Header{}}
	value := func(name string) string { return h.valueText(values, name) }
	if page == "" {
		if r.address, err = h.address(e.Address, value); err != nil {
			return r, h.wrong(act, err)
		}
	}
	r.headers.Set("User-Agent", "zincdoor")
	r.headers.Set("Accept", "application/json")
	if e.Body != nil {
		if e.Form {
			r.headers.Set("Content-Type", "application/x-www-form-urlencoded")
			r.body, err = h.form(*e.Body, values)
		} else {
			r.headers.Set("Content-Type", "application/json")
			var out bytes.Buffer
			_, err = h.json(&out, *e.Body, values)
			r.body = out.Bytes()
		}
		if err != nil {
			return r, h.wrong(act, err)
		}
	}
	for _, header := range slices.Concat(h.recipe.Headers, e.Headers) {
		text, out, err := header.Value.Filled(value, nil)
		switch {
		case err != nil && h.settings.Token == "" && namesToken(header.Value):
			continue // without a token the host is read as anybody may
		case err != nil:
			return r, h.wrong(act, err)
		case !out:
			r.headers.Set(header.Name, text)
		}
	}
	return r, nil
}

func (h *Host) wrong(act policy.HostAct, err error) error {
	return fmt.Errorf("%w: %s: %w", ErrRecipe, act, err)
}

func namesToken(t policy.Template) bool {
	return slices.ContainsFunc(t.Variables(), func(name string) bool { return slices.Contains(policy.Secrets, name) })
}

// valueText is a variable's value as a text: as the host calls it where it has words for it.
func (h *Host) valueText(values map[string]any, name string) string {
	switch v := values[name].(type) {
	case string:
		return h.word(name, v).Text
	case int:
		return fmt.Sprint(v)
	}
	return h.values[name]
}

// address is that of an act. Values are escaped, and parameters of which an optional value lacks are left out.
func (h *Host) address(t policy.Template, value func(string) string) (string, error) {
	pieces := t.Pieces('?')
	var bad error
	path, _, err := pieces[0].Filled(value, func(v string, slashes bool) string {
		for _, part := range strings.Split(v, "/") {
			if part == "." || part == ".." || part == "" && slashes {
				bad = fmt.Errorf("%q can't be a part of an address", v)
			}
		}
		if !slashes {
			return url.PathEscape(v)
		}
		parts := strings.Split(v, "/")
		for i := range parts {
			parts[i] = url.PathEscape(parts[i])
		}
		return strings.Join(parts, "/")
	})
	if err == nil {
		err = bad
	}
	if err != nil {
		return "", err
	}
	var parameters []string
	for _, query := range pieces[1:] {
		for _, parameter := range query.Pieces('&') {
			text, out, err := parameter.Filled(value, func(v string, _ bool) string { return url.QueryEscape(v) })
			if err != nil {
				return "", err
			}
			if !out {
				parameters = append(parameters, text)
			}
		}
	}
	address := h.base + path
	if len(parameters) > 0 {
		address += "?" + strings.Join(parameters, "&")
	}
	return address, nil
}

// form is a body as application/x-www-form-urlencoded.
func (h *Host) form(b policy.HostBody, values map[string]any) ([]byte, error) {
	var all []string
	for _, m := range b.Members {
		text, out, err := h.scalar(m.Value, values)
		if err != nil {
			return nil, err
		}
		if !out {
			all = append(all, url.QueryEscape(m.Name)+"="+url.QueryEscape(text))
		}
	}
	return []byte(strings.Join(all, "&")), nil
}

func (h *Host) scalar(b policy.HostBody, values map[string]any) (text string, out bool, err error) {
	if b.Word != nil {
		return b.Word.Text, false, nil
	}
	return b.Scalar.Filled(func(name string) string { return h.valueText(values, name) }, nil)
}

// json writes a body as JSON; nothing where it is left out. A scalar that is nothing but a variable keeps that one's type.
func (h *Host) json(w *bytes.Buffer, b policy.HostBody, values map[string]any) (out bool, err error) {
	switch b.Kind {
	case policy.BodyMembers:
		return false, h.jsonParts(w, "{}", b.Members, values)
	case policy.BodyList:
		var items []policy.HostMember
		for _, item := range b.List {
			items = append(items, policy.HostMember{Value: item})
		}
		return false, h.jsonParts(w, "[]", items, values)
	}
	text, out, err := h.scalar(b, values)
	if out || err != nil {
		return out, err
	}
	plain := b.Word != nil && b.Word.Plain
	if alone := b.Scalar.Alone(); alone != "" {
		switch v := values[alone].(type) {
		case int:
			plain = true
		case string:
			plain = h.word(alone, v).Plain
		}
	}
	if plain {
		w.WriteString(text)
	} else {
		quote(w, text)
	}
	return false, nil
}

// jsonParts writes members, or items, which have no name, between brackets.
func (h *Host) jsonParts(w *bytes.Buffer, brackets string, parts []policy.HostMember, values map[string]any) error {
	w.WriteByte(brackets[0])
	first := true
	for _, part := range parts {
		var value bytes.Buffer
		switch out, err := h.json(&value, part.Value, values); {
		case err != nil:
			return err
		case out:
			continue
		}
		if !first {
			w.WriteByte(',')
		}
		first = false
		if brackets == "{}" {
			quote(w, part.Name)
			w.WriteByte(':')
		}
		w.Write(value.Bytes())
	}
	w.WriteByte(brackets[1])
	return nil
}

func quote(w *bytes.Buffer, text string) {
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	out.Encode(text)
	w.Truncate(w.Len() - 1) // the line feed
}

// http makes the request of package http.
func (r request) http(ctx context.Context) (*http.Request, error) {
	var body io.Reader
	if r.body != nil {
		body = bytes.NewReader(r.body)
	}
	q, err := http.NewRequestWithContext(ctx, r.method, r.address, body)
	if err != nil {
		return nil, err
	}
	q.Header = r.headers.Clone()
	return q, nil
}
