package app

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"zincdoor/internal/codehost"
	"zincdoor/internal/core/policy"
	"zincdoor/internal/core/recognise"
	"zincdoor/internal/core/review"
)

// lock keeps others on this machine from sending to the same pull request at the same time. Others elsewhere are met by looking again:
// what two posted at once is taken back.
func (r *reviewing) lock(ctx context.Context) (unlock func(), err error) {
	folder := filepath.Join(os.TempDir(), fmt.Sprintf("zincdoor-%d", os.Getuid()))
	if r.repo != nil {
		folder = filepath.Join(r.repo.CommonDir(), "zincdoor")
	}
	sum := sha256.Sum256([]byte(r.host.Address() + "\x00" + r.Repository + "\x00" + r.Pull))
	if os.MkdirAll(folder, 0o700) != nil {
		return func() {}, nil // a disk that can't be written to
	}
	turn := flock.New(filepath.Join(folder, "review-"+hex.EncodeToString(sum[:6])+".lock"))
	if _, err := turn.TryLockContext(ctx, 50*time.Millisecond); err != nil {
		if ctx.Err() != nil {
			return nil, err
		}
		return func() {}, nil
	}
	return func() { turn.Unlock() }, nil
}

// shortestName is how short a host may cut the name of a commit.
const shortestName = 10

// mostSetbacks is how often in a row it may come to nothing whether something was done.
const mostSetbacks = 8

// send looks at what is shown, does what is to be done, and looks again, until nothing is left to do. So it doesn't matter where an
// earlier run was broken off, nor what of a call whose answer was lost was done.
func (r *reviewing) send(ctx context.Context) (*Sent, error) {
	sent := &Sent{Verdict: r.verdict, Notices: r.notices}
	pull, err := r.host.Pull(ctx)
	if errors.Is(err, codehost.ErrGone) {
		return sent, fmt.Errorf("there is no pull request %s at %s, or the token doesn't see it: %w", r.Pull, r.host.Address(), err)
	}
	if err != nil {
		return sent, err
	}
	if len(pull.Head) >= shortestName && strings.HasPrefix(r.verdict.Subject.Head, pull.Head) {
		pull.Head = r.verdict.Subject.Head
	}
	sent.Pull = pull
	s := &sender{reviewing: r, sent: sent, done: map[string]bool{}, refused: map[policy.HostAct]bool{}, misplaced: map[string]bool{}, stuck: map[string]bool{}}
	if err := s.prepare(ctx); err != nil {
		return sent, err
	}
	for setbacks := 0; ; {
		acts, err := s.look(ctx)
		if err != nil {
			return sent, err
		}
		if r.DryRun {
			for _, a := range acts {
				s.note(a)
			}
			return sent, nil
		}
		left := slices.DeleteFunc(slices.Clone(acts), func(a review.Act) bool { return s.done[a.Name()] })
		if len(left) == 0 {
			if len(acts) > 0 {
				sent.Notices = append(sent.Notices, fmt.Sprintf("%s doesn't show what was sent as it was sent, for example for %s (%s): look at mark: and the fields of its recipe", r.host.Address(), acts[0].About, acts[0].Kind))
			}
			return sent, nil
		}
		progress, err := s.execute(ctx, left)
		switch {
		case errors.Is(err, codehost.ErrLost):
			if setbacks++; progress {
				setbacks = 1
			}
			if setbacks > mostSetbacks {
				return sent, err
			}
			if r.Tell != nil {
				r.Tell("an answer was lost; looking again")
			}
			select {
			case <-time.After(time.Duration(setbacks) * 100 * time.Millisecond):
			case <-ctx.Done():
				return sent, ctx.Err()
			}
		case err != nil:
			return sent, err
		}
	}
}

// sender sends a review.
type sender struct {
	*reviewing
	sent *Sent
	self string
	wish review.Wish

	done      map[string]bool // acts by name
	refused   map[policy.HostAct]bool
	misplaced map[string]bool // ids of comments
	stuck     map[string]bool // threads that can't be altered
}

func (s *sender) can(act policy.HostAct) bool { return s.host.Can(act) && !s.refused[act] }

// prepare finds out what is wished for.
func (s *sender) prepare(ctx context.Context) (err error) {
	v, head := s.verdict, s.sent.Pull.Head
	judged := v.Subject.Head == head || isMergeOf(s.repo, v.Subject.Head, head)
	if !judged {
		s.notice("the pull request proposes %s, and %s was judged: only the status of that is set", review.Short(head), review.Short(v.Subject.Head))
	}
	comments := s.host.Can(policy.CreateComment) || s.host.Can(policy.CreateSummary)
	if judged && comments {
		if s.self, err = s.host.Self(ctx); errors.Is(err, codehost.ErrRefused) {
			s.notice("the token may not say whose it is, so there are no comments of ours: %v", err)
			comments, err = false, nil
		}
		if err != nil {
			return err
		}
	}
	s.wish = review.Wish{
		Verdict: v, Head: head, Most: s.Most, Form: s.host.Form(), Judged: judged && comments,
		Status: review.Status{Name: cmp.Or(s.Status, "zincdoor "+v.Door), Outcome: v.Outcome, Text: s.Writing.Status(v), Link: s.Link},
		Gone:   s.Writing.Gone,
	}
	s.wish.Summary = func(commented map[int]bool) string {
		var notes []string
		if v.Subject.Head != head {
			notes = append(notes, fmt.Sprintf("Judged as the merge %s.", review.Short(v.Subject.Head)))
		}
		const room, each = 500, 9 // for the mark, and for each finding with a comment
		return s.Writing.Summary(v, s.Judged, commented, s.host.Longest()-room-each*(len(commented)+s.Most), notes)
	}
	if s.wish.Judged {
		s.wish.Comments, err = s.comments(head)
	}
	return err
}

func (s *sender) notice(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !slices.Contains(s.sent.Notices, text) {
		s.sent.Notices = append(s.sent.Notices, text)
	}
}

// look reads what is shown, and plans what is to be done.
func (s *sender) look(ctx context.Context) ([]review.Act, error) {
	shown := review.Shown{Misplaced: s.misplaced}
	var err error
	if s.can(policy.SetStatus) {
		if shown.Statuses, err = s.host.Statuses(ctx, s.verdict.Subject.Head); err != nil && !errors.Is(err, codehost.ErrGone) && !errors.Is(err, codehost.ErrRefused) {
			return nil, err
		}
	}
	if s.wish.Judged {
		posted, err := s.host.Comments(ctx)
		if errors.Is(err, codehost.ErrRefused) { // without knowing what is there, nothing is posted
			s.notice("the token may not read comments, so there are none of ours: %v", err)
			s.wish.Judged = false
			return s.look(ctx)
		}
		if err != nil {
			return nil, err
		}
		shown.Own = review.OwnOf(posted, s.self, s.verdict.Door, s.wish.Form)
		view, done := s.view(shown.Threads)
		shown.Known = review.Recognise(shown.Threads, s.wish.Comments, s.verdict, s.verdict.Subject.Head, view)
		done()
	}
	acts := review.Plan(s.wish, shown, s.can)
	acts = slices.DeleteFunc(acts, func(a review.Act) bool { return a.Thread != "" && s.stuck[a.Thread] })
	return acts, nil
}

// view gives what is known of the way from an earlier commit to the judged one. Findings get the code that they stand on, where the
// verdict was read from a file.
func (s *sender) view(threads []review.Thread) (view func(commit string) recognise.View, done func()) {
	head := s.verdict.Subject.Head
	newText, closeNew := textsAt(s.repo, head)
	closers := []func(){closeNew}
	paths := map[string]bool{}
	for _, t := range threads {
		for _, e := range t.Mark.Entries {
			paths[e.Path] = true
		}
	}
	for _, c := range s.wish.Comments {
		for _, i := range c.Findings {
			paths[s.verdict.Findings[i].Path] = true
		}
	}
	if s.Judged == nil {
		for i := range s.verdict.Findings {
			f := s.verdict.Findings[i].Finding
			if f.Region.Line > 0 && paths[f.Path] {
				if text := newText(f.Path); text != nil {
					f.Code = text.CodeAt(f.Region.Line)
				}
			}
		}
	}
	view = func(commit string) recognise.View {
		v := recognise.View{Aliases: s.policy.Aliases}
		if !isThere(s.repo, commit) || !isThere(s.repo, head) {
			return v
		}
		way, err := wayBetween(s.repo, commit, head, s.policy.Place, paths)
		if err != nil {
			return v
		}
		oldText, closeOld := textsAt(s.repo, commit)
		closers = append(closers, closeOld)
		v.Change, v.OldText, v.NewText = way, oldText, newText
		v.Missing = func(path string) bool { return newText(path) == nil }
		return v
	}
	return view, func() {
		for _, closer := range closers {
			closer()
		}
	}
}

// execute does what is planned, until something is otherwise than was thought. progress is whether any of it was done.
func (s *sender) execute(ctx context.Context, acts []review.Act) (progress bool, err error) {
	for _, a := range acts {
		err := s.host.Do(ctx, a)
		switch {
		case err == nil:
			s.done[a.Name()] = true
			s.note(a)
			progress = true
		case errors.Is(err, codehost.ErrRefused):
			s.refused[a.Kind] = true
			s.notice("the token may not do %s, so that is left out: %v", a.Kind, err)
			return progress, nil
		case errors.Is(err, codehost.ErrMisplaced) && a.Kind == policy.CreateComment:
			s.misplaced[a.Comment.ID] = true
			s.notice("the host doesn't take a comment at %s, so the summary has it", a.About)
			return progress, nil
		case errors.Is(err, codehost.ErrMisplaced), errors.Is(err, codehost.ErrGone) && a.Thread != "":
			s.stuck[a.Thread] = true
			if errors.Is(err, codehost.ErrMisplaced) {
				s.notice("the host doesn't take the comment at %s as it should be now, so it stays as it is: %v", a.About, err)
			}
			return progress, nil
		default:
			return progress, err
		}
	}
	return progress, nil
}

func (s *sender) note(a review.Act) {
	a.Call, _ = s.host.Sample(a)
	s.sent.Acts = append(s.sent.Acts, a)
}
