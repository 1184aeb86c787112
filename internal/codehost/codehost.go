// Package codehost knows a code host as a recipe describes it: it fills in what is to be sent, sends it over HTTP, reads what the
// answer has, and says what kind of failure one is. It decides nothing about what is sent, and knows no host by name.
package codehost

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/review"
	"zincdoor/internal/transport"
)

// The kinds of failure that a caller may want to tell apart.
var (
	ErrGone      = errors.New("it isn't there any more")
	ErrRefused   = errors.New("the token may not do this")
	ErrMisplaced = errors.New("the host doesn't take a comment on these lines")
	// ErrLost is the error of a call that may or may not have been done: its answer was cut off, or there was none.
	ErrLost = errors.New("whether it was done isn't known")
	// ErrRecipe is the error of a recipe and a host that don't go together.
	ErrRecipe = errors.New("the recipe doesn't fit the host")
)

// Settings are what a call says beside the recipe.
type Settings struct {
	Address  string            // in the place of the recipe's; "" for that
	Token    string            // "" for none
	Values   map[string]string // of variables
	Roots    []byte            // certificates (PEM) to trust beside the system's
	Plain    bool              // a token may go to another machine unencrypted
	Patience time.Duration     // how long to wait in all, where the host asks to
}

// Host is a code host that can be spoken with. It is for one caller at a time.
type Host struct {
	recipe   *policy.Host
	settings Settings
	base     string // the address, without a slash at its end
	values   map[string]string
	client   *http.Client
	patience time.Duration // what is left of it
	calls    []made
}

// made is a call that was made.
type made struct {
	what string // its method and address, without the token
	code int    // of the answer; 0 where there was none
	took time.Duration
}

// The bounds of what a host may answer.
const (
	longestAnswer = 32 << 20
	mostPages     = 1000
	mostItems     = 100_000
	answerTime    = 60 * time.Second
)

// New makes a host of a recipe. The error is that of a call that can't work.
func New(recipe *policy.Host, s Settings) (*Host, error) {
	h := &Host{recipe: recipe, settings: s, values: map[string]string{}, patience: s.Patience}
	for name, value := range recipe.Variables {
		h.values[name] = value
	}
	for name, value := range s.Values {
		if value != "" {
			h.values[name] = value
		}
	}
	if s.Token != "" {
		h.values["token"] = s.Token
		h.values["basic"] = base64.StdEncoding.EncodeToString([]byte(h.values["user"] + ":" + s.Token))
	}
	base, _, err := recipe.Address.Filled(func(name string) string { return h.values[name] }, nil)
	if s.Address != "" {
		base, err = s.Address, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the address of the host: %w", err)
	}
	h.base = strings.TrimRight(base, "/")
	u, err := url.Parse(h.base)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil || u.Fragment != "" {
		return nil, fmt.Errorf("the address of the host is one like https://host.example/api, without a name and a password, not %q", h.hide(h.base))
	}
	if u.Scheme == "http" && s.Token != "" && !s.Plain && !transport.IsLoopback(u.Hostname()) {
		return nil, fmt.Errorf("the token would go to %s unencrypted: use an address with https, or allow it with --plain-http", u.Host)
	}
	h.values["address"] = h.base
	over, err := transport.New(s.Roots)
	if err != nil {
		return nil, err
	}
	h.client = &http.Client{Transport: over, Timeout: answerTime, CheckRedirect: h.redirect}
	return h, nil
}

// Close lets go of the connections.
func (h *Host) Close() { h.client.CloseIdleConnections() }

// Address is where the host is.
func (h *Host) Address() string { return h.base }

// LacksToken reports whether the recipe sends a token, and there is none.
func (h *Host) LacksToken() bool {
	return h.settings.Token == "" && slices.ContainsFunc(h.recipe.Headers, func(header policy.HostHeader) bool { return namesToken(header.Value) })
}

// Can reports whether the recipe says how an act is done.
func (h *Host) Can(act policy.HostAct) bool {
	if act == review.MovesComments {
		return h.recipe.Does(policy.UpdateComment) && h.recipe.Acts[policy.UpdateComment].Moves
	}
	return h.recipe.Does(act)
}

// Form is the form of the marks in comments.
func (h *Host) Form() string { return h.recipe.Mark }

// Longest is how many characters a comment has at most.
func (h *Host) Longest() int { return h.recipe.Longest }

// Self is the name that what is written with the token comes from.
func (h *Host) Self(ctx context.Context) (string, error) {
	if h.recipe.Self != "" || !h.recipe.Does(policy.ReadSelf) {
		return h.recipe.Self, nil
	}
	found, err := h.read(ctx, policy.ReadSelf, nil)
	if err != nil {
		return "", err
	}
	return found["name"].text, nil
}

// Pull reads the pull request, whose head {head} is from then on.
func (h *Host) Pull(ctx context.Context) (p review.Pull, err error) {
	found, err := h.read(ctx, policy.ReadPull, nil)
	if err != nil {
		return p, err
	}
	p = review.Pull{Head: found["head"].text, State: found["state"].text, Target: found["target"].text, Title: found["title"].text}
	h.SetHead(p.Head)
	return p, nil
}

// SetHead says what {head} is.
func (h *Host) SetHead(commit string) { h.values["head"] = commit }

// Comments lists the comments on lines and the others, in the host's order.
func (h *Host) Comments(ctx context.Context) (all []review.Posted, err error) {
	for _, act := range []policy.HostAct{policy.ListComments, policy.ListSummary} {
		if !h.recipe.Does(act) {
			continue
		}
		answers := h.recipe.Acts[act].Fields["answers"].At != ""
		err := h.list(ctx, act, nil, func(f fields) {
			p := review.Posted{
				ID: f["id"].text, Thread: cmp.Or(f["thread"].text, f["id"].text), Author: f["author"].text, Text: f["text"].text, Resolved: f["resolved"].truth,
				Path: f["path"].text, Line: f["line"].number(), Start: f["start-line"].number(), Commit: f["commit"].text,
				Answered: !answers || f["answers"].truth,
			}
			if p.Start == 0 {
				p.Start = p.Line
			}
			all = append(all, p)
		})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// Statuses lists the statuses of a commit; none where the recipe doesn't say how.
func (h *Host) Statuses(ctx context.Context, commit string) (all []review.Status, err error) {
	if !h.recipe.Does(policy.ListStatus) {
		return nil, nil
	}
	err = h.list(ctx, policy.ListStatus, map[string]any{"commit": commit}, func(f fields) {
		s := review.Status{Name: f["status"].text, Text: f["text"].text, Link: f["link"].text}
		for _, outcome := range []judge.Outcome{judge.Open, judge.Shut, judge.Unjudged} {
			if h.word("outcome", string(outcome)).Text == f["outcome"].text {
				s.Outcome = outcome
			}
		}
		i := slices.IndexFunc(all, func(other review.Status) bool { return other.Name == s.Name })
		switch newest := h.recipe.Acts[policy.ListStatus].Newest; {
		case i < 0 || newest == "":
			all = append(all, s)
		case newest == policy.LastCounts:
			all[i] = s
		}
	})
	return all, err
}

// Do does an act.
func (h *Host) Do(ctx context.Context, a review.Act) error {
	_, err := h.send(ctx, a.Kind, valuesOf(a))
	return err
}

// Sample is an act as it would be sent, for people: its method and address, and its body.
func (h *Host) Sample(a review.Act) (call, body string) {
	r, err := h.request(a.Kind, valuesOf(a), "")
	if err != nil {
		return h.hide(err.Error()), ""
	}
	return r.call(h), h.hide(string(r.body))
}

// Sample is an act as it would be sent.
type Sample struct {
	Act        policy.HostAct
	Call, Body string
}

// Look is what an act that only reads gave.
type Look struct {
	Act    policy.HostAct
	Call   string // the last one that was made
	Code   int    // of its answer; 0 where there was none
	Took   time.Duration
	Calls  int
	Lists  bool
	Things int     // how many it lists
	Fields []Field // of the first of them
	Err    error
}

// Field is a field of an answer as people are shown it.
type Field struct {
	Name, At, Value string
	Found           bool
}

// Look does an act that only reads, and says what it got, field by field: of the first thing where it lists several.
func (h *Host) Look(ctx context.Context, act policy.HostAct, commit string) Look {
	h.calls = nil
	values := map[string]any{"commit": commit}
	var found fields
	spec := policy.SpecOf(act)
	look := Look{Act: act, Lists: spec.Lists}
	if spec.Lists {
		look.Err = h.list(ctx, act, values, func(f fields) {
			if look.Things++; found == nil {
				found = f
			}
		})
	} else if found, look.Err = h.read(ctx, act, values); found != nil {
		look.Things = 1
	}
	if look.Calls = len(h.calls); look.Calls > 0 {
		last := h.calls[look.Calls-1]
		look.Call, look.Code, look.Took = last.what, last.code, last.took
	}
	for _, name := range slices.Concat(spec.Gives, spec.May) {
		if f, said := h.recipe.Acts[act].Fields[name]; said {
			look.Fields = append(look.Fields, Field{Name: name, At: f.At, Value: h.hide(found[name].text), Found: found[name].found})
		}
	}
	return look
}

// valuesOf are the variables of an act.
func valuesOf(a review.Act) map[string]any {
	v := map[string]any{
		"id": a.ID, "thread": a.Thread, "text": a.Text, "path": a.Path, "commit": a.Commit, "key": a.Key, "status": a.Status, "outcome": string(a.Outcome), "side": "new",
	}
	if a.Line > 0 {
		v["line"], v["first-line"] = a.Line, max(a.Start, 1)
		if a.Start < a.Line {
			v["start-line"] = a.Start
		}
	}
	if a.Link != "" {
		v["link"] = a.Link
	}
	return v
}

// word is what the host calls a value.
func (h *Host) word(variable, value string) policy.HostWord {
	if word, ok := h.recipe.Words[variable][value]; ok {
		return word
	}
	return policy.HostWord{Text: value}
}

// hide takes the token out of a text.
func (h *Host) hide(text string) string {
	for _, secret := range []string{h.values["basic"], h.settings.Token} {
		if secret != "" {
			text = strings.NewReplacer(secret, "***", url.QueryEscape(secret), "***", url.PathEscape(secret), "***").Replace(text)
		}
	}
	return text
}

// value is what an answer has in a field.
type value struct {
	text         string
	truth, found bool
}

func (v value) number() int {
	n, err := strconv.Atoi(v.text)
	if err != nil || n < 0 {
		return 0
	}
	return n
}

type fields map[string]value
