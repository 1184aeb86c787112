package editor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/creachadair/jrpc2"

	"zincdoor/internal/app"
	"zincdoor/internal/core/baseline"
	"zincdoor/internal/core/judge"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/lint"
	"zincdoor/internal/policyfile"
	"zincdoor/internal/render"
)

// The commands of the workspace.
const (
	commandGate   = "zincdoor.gate"
	commandAccept = "zincdoor.accept"
	commandLimit  = "zincdoor.showLimit"
	commandFlow   = "zincdoor.showFlow"
)

// commandArguments are those of every command, as far as it needs them.
type commandArguments struct {
	URI    string `json:"uri"`    // of a document
	ID     string `json:"id"`     // of a finding
	Why    string `json:"why"`    // accept: the kind of reason; asked for where it is left out
	Reason string `json:"reason"` // accept: in the user's words; asked for where the editor can
	Until  string `json:"until"`  // accept: the last day, 2027-02-01 or from today 90d; - for no end; asked for where it is left out
}

func (s *server) execute(ctx context.Context, req *jrpc2.Request) (any, error) {
	var p struct {
		Command   string            `json:"command"`
		Arguments []json.RawMessage `json:"arguments"`
		Token     any               `json:"workDoneToken"`
	}
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, jrpc2.Errorf(jrpc2.InvalidParams, "%v", err)
	}
	var a commandArguments
	if len(p.Arguments) > 0 {
		if err := json.Unmarshal(p.Arguments[0], &a); err != nil {
			return nil, jrpc2.Errorf(jrpc2.InvalidParams, "%s takes an object with uri and id: %v", p.Command, err)
		}
	}
	result, err := s.do(ctx, p.Command, a, p.Token)
	if err != nil {
		text := app.Said(err)
		code := jrpc2.Code(requestFailed)
		if errors.Is(err, context.Canceled) {
			text, code = "called off", serverCancelled
		}
		return nil, jrpc2.Errorf(code, "%s", text)
	}
	return result, nil
}

func (s *server) do(ctx context.Context, name string, a commandArguments, token any) (any, error) {
	switch name {
	case commandGate:
		return s.gateNow(ctx, a.URI, token)
	case commandAccept, commandLimit, commandFlow:
	default:
		return nil, fmt.Errorf("there is no command %q", name)
	}
	w := s.placeOfDocument(a.URI)
	if w == nil || w.lone {
		return nil, errNotRepository
	}
	v, ok := w.waitForJudged(ctx, a.URI)
	if !ok {
		return nil, fmt.Errorf("the file isn't judged: %s", w.whyNot())
	}
	w.judging.Lock()
	j := w.judgement
	w.judging.Unlock()
	found := j.Named(a.ID)
	if len(found) != 1 {
		return nil, fmt.Errorf("there is no finding %q any more", a.ID)
	}
	act := &actions{place: w, uri: a.URI, version: v, judgement: j}
	switch name {
	case commandAccept:
		return nil, act.accept(ctx, j.Findings[found[0]], a)
	case commandLimit:
		return nil, act.showLimit(ctx, found[0])
	}
	return act.showFlow(ctx, j.Findings[found[0]])
}

// whyNot says why nothing is judged.
func (w *place) whyNot() string {
	w.judging.Lock()
	defer w.judging.Unlock()
	if w.problem == nil {
		return "it was closed meanwhile"
	}
	return app.Said(w.problem)
}

// gateNow judges a work tree with all linters that may be started, and gives the state of the door.
func (s *server) gateNow(ctx context.Context, uri string, token any) (any, error) {
	w := s.placeOfDocument(uri)
	if w == nil && uri == "" {
		s.mutex.Lock()
		all := s.allPlaces()
		s.mutex.Unlock()
		if len(all) > 1 {
			return nil, fmt.Errorf("files of several repositories are open; name one of them: uri")
		}
		if len(all) == 1 {
			w = all[0]
		}
	}
	if w == nil || w.lone {
		return nil, errNotRepository
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	p := s.begin(ctx, token, "zincdoor: judging the work tree", cancel)
	wish := &asked{ctx: ctx, tell: p.step, done: make(chan error, 1)}
	w.note(event{asked: wish})
	var err error
	select {
	case err = <-wish.done:
	case <-w.ctx.Done():
		err = context.Canceled
	}
	if ctx.Err() != nil {
		p.end("called off")
		return nil, context.Canceled
	}
	if err != nil {
		p.end("can't judge")
		return nil, err
	}
	w.judging.Lock()
	judged := w.live.Judgement()
	w.judging.Unlock()
	status := w.statusOf(judged, nil)
	p.end(fmt.Sprintf("door %s: %s", status.Door, status.Outcome))
	return status, nil
}

// progress is work that the editor shows as long as it goes on.
type progress struct {
	*server
	token any // nil where the editor shows none
	key   string
}

// begin begins to show progress: under the request's token, else one of our own where the editor takes that.
func (s *server) begin(ctx context.Context, token any, title string, cancel func()) *progress {
	p := &progress{server: s, token: token}
	s.mutex.Lock()
	able := s.client.Window.WorkDoneProgress
	s.tokens++
	own := fmt.Sprintf("zincdoor-%d", s.tokens)
	s.mutex.Unlock()
	if token == nil && able && s.ask(ctx, prompt, "window/workDoneProgress/create", map[string]any{"token": own}, nil) == nil {
		p.token = own
	}
	if p.token == nil {
		return p
	}
	p.key = fmt.Sprint(p.token)
	s.mutex.Lock()
	s.cancels[p.key] = cancel
	s.mutex.Unlock()
	p.tellValue(map[string]any{"kind": "begin", "title": title, "cancellable": true})
	return p
}

func (p *progress) tellValue(value any) {
	if p.token != nil {
		p.tell("$/progress", map[string]any{"token": p.token, "value": value})
	}
}

func (p *progress) step(s lint.Step) {
	text := s.Name
	if s.Ended && s.Note != "" {
		text += ": " + s.Note
	}
	p.tellValue(map[string]any{"kind": "report", "message": render.Safe(text)})
}

func (p *progress) end(message string) {
	p.tellValue(map[string]any{"kind": "end", "message": message})
	p.mutex.Lock()
	delete(p.cancels, p.key)
	p.mutex.Unlock()
}

func (s *server) cancelProgress(_ context.Context, req *jrpc2.Request) (any, error) {
	var p struct {
		Token any `json:"token"`
	}
	if err := req.UnmarshalParams(&p); err != nil {
		return nil, nil
	}
	s.mutex.Lock()
	cancel := s.cancels[fmt.Sprint(p.Token)]
	s.mutex.Unlock()
	if cancel != nil {
		cancel()
	}
	return nil, nil
}

// errDismissed is the error of a question that the user didn't answer.
var errDismissed = fmt.Errorf("nothing was accepted: %w", context.Canceled)

// choose lets the user choose one of some answers, which are shown by their names; "" where none was chosen.
func (s *server) choose(ctx context.Context, question string, names []string) (string, error) {
	items := []map[string]string{}
	for _, name := range names {
		items = append(items, map[string]string{"title": name})
	}
	var chosen *struct {
		Title string `json:"title"`
	}
	err := s.ask(ctx, patience, "window/showMessageRequest", map[string]any{"type": messageInfo, "message": question, "actions": items}, &chosen)
	if err != nil || chosen == nil {
		return "", err
	}
	return chosen.Title, nil
}

// choice is an answer with what it means.
type choice struct{ name, means string }

var kinds = []choice{
	{"true, but not now", string(baseline.Debt)}, {"no fault: the tool is mistaken", string(baseline.Mistaken)}, {"a deliberate exception", string(baseline.Meant)},
}

var ends = []choice{{"for 30 days", "30d"}, {"for 90 days", "90d"}, {"for 12 months", "12m"}, {"without an end", "-"}}

// answer is what the call says, else what the user chooses.
func (s *server) answer(ctx context.Context, said, question string, all []choice) (string, error) {
	if said != "" {
		return said, nil
	}
	var names []string
	for _, c := range all {
		names = append(names, c.name)
	}
	chosen, err := s.choose(ctx, question, names)
	if err != nil {
		return "", err
	}
	if i := slices.IndexFunc(all, func(c choice) bool { return c.name == chosen }); i >= 0 {
		return all[i].means, nil
	}
	return "", errDismissed
}

// accept puts a finding into the baseline, with a reason that the user is asked for.
func (a *actions) accept(ctx context.Context, f judge.Finding, said commandArguments) error {
	a.judging.Lock()
	saved := a.live.Judgement()
	a.judging.Unlock()
	found := saved.Named(f.ID)
	if !a.isSaved(a.version) || len(found) != 1 {
		return fmt.Errorf("save the file first: findings are accepted in files as they are on disk")
	}
	why, err := a.answer(ctx, said.Why, fmt.Sprintf("Why accept %s (%s)?", render.Safe(f.Rule), render.Truncate(render.Safe(f.Message), longestTitle)), kinds)
	if err != nil {
		return err
	}
	if !slices.Contains(baseline.Whys, baseline.Why(why)) {
		return fmt.Errorf("why is one of %v, not %q", baseline.Whys, why)
	}
	end, err := a.answer(ctx, said.Until, "Accept it for how long?", ends)
	if err != nil {
		return err
	}
	reason := said.Reason
	a.mutex.Lock()
	asks := a.settings.AsksText
	a.mutex.Unlock()
	if reason == "" && asks {
		var answer *struct {
			Text string `json:"text"`
		}
		if err := a.ask(ctx, patience, "zincdoor/askText", map[string]string{"title": "The reason, in your words"}, &answer); err != nil {
			return err
		}
		if answer == nil {
			return errDismissed
		}
		reason = answer.Text
	}
	entry := baseline.Entry{Why: baseline.Why(why), Reason: strings.TrimSpace(reason), On: a.Today()}
	if end != "-" {
		if entry.Until, err = policy.EndDate(end, a.Today()); err != nil {
			return err
		}
	}
	c := a.Request.Call
	c.Dir = a.root
	file, err := app.AcceptFound(ctx, c, saved.Judged, saved.Findings[found[0]], entry)
	if err != nil {
		return err
	}
	a.message(messageInfo, fmt.Sprintf("zincdoor: %s accepted in %s", render.Safe(f.Rule), file))
	a.note(event{written: true, now: true})
	return nil
}

// limitOf is a limit that counts a finding, one that is broken first, and where it is set.
func (a *actions) limitOf(i int) (at policyfile.Position, ok bool) {
	j := a.judgement
	door := slices.IndexFunc(j.Policy.Doors, func(d policyfile.Door) bool { return d.Value.Name == j.Door })
	if door < 0 {
		return at, false
	}
	for _, broken := range []bool{true, false} {
		for n, l := range j.Limits {
			if l.Counted == judge.Findings && n < len(j.Policy.Doors[door].Limits) && slices.Contains(l.Findings, i) && l.Held != broken {
				return j.Policy.Doors[door].Limits[n].At, true
			}
		}
	}
	return at, false
}

func (a *actions) showLimit(ctx context.Context, i int) error {
	at, ok := a.limitOf(i)
	if !ok {
		return fmt.Errorf("no limit counts it")
	}
	file := filepath.Join(a.root, filepath.FromSlash(at.File))
	if !exists(file) {
		a.message(messageInfo, fmt.Sprintf("zincdoor: it is counted by the limit at %s", at))
		return nil
	}
	return a.goTo(ctx, file, at.Line)
}

// goTo shows a line of a file, or says where it is.
func (s *server) goTo(ctx context.Context, file string, line int) error {
	s.mutex.Lock()
	able := s.client.Window.ShowDocument.Support
	s.mutex.Unlock()
	at := position{Line: max(line-1, 0)}
	if able {
		var done struct {
			Success bool `json:"success"`
		}
		err := s.ask(ctx, prompt, "window/showDocument", map[string]any{"uri": uriOf(file), "takeFocus": true, "selection": span{at, at}}, &done)
		if err == nil && done.Success {
			return nil
		}
	}
	s.message(messageInfo, fmt.Sprintf("%s:%d", file, line))
	return nil
}

// showFlow lets the user choose a step of the way that leads to a finding, and gives all of them as locations.
func (a *actions) showFlow(ctx context.Context, f judge.Finding) (any, error) {
	locations := []location{}
	var names []string
	flows := f.Details().Flows
	if len(flows) == 0 {
		return locations, nil
	}
	steps := flows[0]
	for n, step := range steps {
		locations = append(locations, a.locationOf(step))
		names = append(names, fmt.Sprintf("%d. %s:%d %s", n+1, step.Path, step.Region.Line, render.Truncate(render.Safe(step.Message), longestTitle)))
	}
	a.work.Go(func() { // the locations are the answer, whatever the user does
		ctx, cancel := context.WithTimeout(a.ctx, patience)
		defer cancel()
		chosen, err := a.choose(ctx, "The way to "+render.Safe(f.Rule), names)
		if i := slices.Index(names, chosen); err == nil && i >= 0 {
			a.goTo(ctx, filepath.Join(a.root, filepath.FromSlash(steps[i].Path)), steps[i].Region.Line)
		}
	})
	return locations, nil
}

// readFile reads a file, unless it is longer than what is edited by hand.
func readFile(file string) ([]byte, error) {
	info, err := os.Stat(file)
	if err == nil && (!info.Mode().IsRegular() || info.Size() > mostRead) {
		return nil, fmt.Errorf("%s isn't a file that is read here", file)
	}
	if err != nil {
		return nil, err
	}
	return os.ReadFile(file)
}

// mostRead bounds how long a file is that is read beside the open ones, in bytes.
const mostRead = 64 << 20
