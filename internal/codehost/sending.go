package codehost

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"zincdoor/internal/core/policy"
)

// answer is what came back.
type answer struct {
	code    int
	headers http.Header
	body    []byte
	from    *url.URL // where it came from in the end
}

// redirect follows a redirect of what only reads. What goes to another host goes without the recipe's headers, of which one is the
// token's.
func (h *Host) redirect(next *http.Request, via []*http.Request) error {
	if via[0].Method != http.MethodGet {
		return http.ErrUseLastResponse
	}
	if len(via) > 5 {
		return errors.New("it redirects more than five times")
	}
	if origin(next.URL) != origin(via[0].URL) {
		next.Header = http.Header{"User-Agent": {"zincdoor"}, "Accept": {"application/json"}}
	}
	return nil
}

func origin(u *url.URL) string { return u.Scheme + "://" + u.Host }

// The pauses before something is tried again that may have come to nothing by chance.
const (
	firstPause = 200 * time.Millisecond
	longPause  = 5 * time.Second
	leastWait  = 50 * time.Millisecond // so that a host that always asks to wait no time at all is given up too
	mostTries  = 8

	mostRefusals = 4 // of a connection: nobody is there
)

// send sends what an act says, and waits and tries again where that can do no harm.
func (h *Host) send(ctx context.Context, act policy.HostAct, values map[string]any) (answer, error) {
	r, err := h.request(act, values, "")
	if err != nil {
		return answer{}, err
	}
	return h.sent(ctx, r)
}

func (h *Host) sent(ctx context.Context, r request) (answer, error) {
	pause := firstPause
	for try := 1; ; try++ {
		a, err := h.once(ctx, r)
		retry, wait := h.again(r, a, err)
		switch {
		case ctx.Err() != nil:
			return a, ctx.Err()
		case err == nil && !retry:
			return a, h.judge(r, a)
		case !retry:
			return a, err
		case wait < 0 && (try >= mostTries || try >= mostRefusals && errors.Is(err, syscall.ECONNREFUSED)):
			if err == nil {
				err = h.failed(r, a, nil)
			}
			return a, err
		}
		if wait < 0 {
			wait, pause = pause, min(2*pause, longPause)
		}
		if wait > h.patience {
			return a, fmt.Errorf("%s asks to wait %s, which is more than is left of --patience: run it again later; what was sent is kept, and isn't sent twice",
				r.where(h), wait.Round(time.Second))
		}
		wait = max(wait, leastWait)
		h.patience -= wait
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return a, ctx.Err()
		}
	}
}

// where names a call in messages.
func (r request) where(h *Host) string {
	return fmt.Sprintf("%s (%s)", r.act, r.call(h))
}

// call is the method and the address, without the token.
func (r request) call(h *Host) string { return r.method + " " + h.hide(r.address) }

// once sends a request once.
func (h *Host) once(ctx context.Context, r request) (a answer, err error) {
	q, err := r.http(ctx)
	if err != nil {
		return a, errors.New(h.hide(err.Error()))
	}
	began := time.Now()
	defer func() { h.calls = append(h.calls, made{r.call(h), a.code, time.Since(began)}) }()
	reply, err := h.client.Do(q)
	if err != nil {
		return a, h.unreached(r, err)
	}
	defer reply.Body.Close()
	a = answer{code: reply.StatusCode, headers: reply.Header, from: reply.Request.URL}
	a.body, err = io.ReadAll(io.LimitReader(reply.Body, longestAnswer+1))
	switch {
	case err != nil:
		return a, h.unreached(r, err)
	case len(a.body) > longestAnswer:
		return a, fmt.Errorf("%s answers with more than %d MiB", r.where(h), longestAnswer>>20)
	}
	return a, nil
}

// unreached is the error of a call without a whole answer. One that changes something may have been done.
func (h *Host) unreached(r request, err error) error {
	var whole *url.Error
	if errors.As(err, &whole) {
		err = whole.Err // without the address, which where tells
	}
	kind := error(nil)
	if r.method != http.MethodGet && !neverArrived(err) {
		kind = ErrLost
	}
	text := fmt.Sprintf("%s: no answer: %s", r.where(h), h.hide(err.Error()))
	if strings.Contains(text, "certificate") {
		text += "; a certificate of your own authority is named with --ca FILE"
	}
	if kind == nil && errors.Is(err, syscall.ECONNREFUSED) {
		kind = syscall.ECONNREFUSED
		text = strings.TrimSuffix(text, ": "+kind.Error())
	}
	if kind != nil {
		return fmt.Errorf("%s: %w", text, kind)
	}
	return errors.New(text)
}

// neverArrived reports whether nobody can have got a request.
func neverArrived(err error) bool {
	return errors.Is(err, syscall.ECONNREFUSED) || strings.Contains(err.Error(), "certificate") || strings.Contains(err.Error(), "no such host")
}

// again reports whether a call may be sent again, and after which time where the host says so; less than none where it doesn't.
func (h *Host) again(r request, a answer, err error) (again bool, wait time.Duration) {
	if err != nil {
		hopeless := strings.Contains(err.Error(), "certificate") || strings.Contains(err.Error(), "redirects") || strings.Contains(err.Error(), "MiB")
		return r.method == http.MethodGet && !hopeless || errors.Is(err, syscall.ECONNREFUSED), -1
	}
	for _, w := range h.recipe.Wait {
		has := w.Header == "" || len(a.headers.Values(w.Header)) > 0 && (w.Is == "" || a.headers.Get(w.Header) == w.Is)
		if slices.Contains(w.Codes, a.code) && has {
			return true, waitOf(a.headers.Get(cmp.Or(w.For, "Retry-After")), time.Now())
		}
	}
	return a.code >= 500 && r.method == http.MethodGet, -1
}

// waitOf is how long a header asks to wait: seconds, an HTTP date, or seconds since 1970. It is less than none where it says nothing.
func waitOf(text string, now time.Time) time.Duration {
	const epoch = 1_000_000_000 // nobody asks to wait thirty years
	seconds, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	switch date, wrong := http.ParseTime(text); {
	case err == nil && seconds >= epoch:
		return max(time.Unix(int64(seconds), 0).Sub(now), 0)
	case err == nil && seconds >= 0:
		return time.Duration(seconds * float64(time.Second))
	case wrong == nil:
		return max(date.Sub(now), 0)
	}
	return -1
}

// judge says what a whole answer means: nil for success.
func (h *Host) judge(r request, a answer) error {
	ok := h.recipe.Acts[r.act].OK
	switch {
	case slices.Contains(ok, a.code), ok == nil && a.code >= 200 && a.code < 300:
		return nil
	case slices.Contains(h.recipe.Gone, a.code):
		return h.failed(r, a, ErrGone)
	case slices.Contains(h.recipe.Refused, a.code):
		return h.failed(r, a, ErrRefused)
	case slices.Contains(h.recipe.Misplaced, a.code) && (r.act == policy.CreateComment || r.act == policy.UpdateComment):
		return h.failed(r, a, ErrMisplaced)
	case a.code == http.StatusUnauthorized && h.settings.Token == "":
		return fmt.Errorf("%s answers 401: it wants a token, and there is none: set ZINCDOOR_TOKEN, or name the variable that has it with --token-from", r.where(h))
	case a.code == http.StatusUnauthorized:
		return fmt.Errorf("%s answers 401: the host doesn't take the token: %s", r.where(h), h.said(a))
	case a.code >= 500:
		return h.failed(r, a, ErrLost)
	case a.code >= 300 && a.code < 400:
		return fmt.Errorf("%s answers %d and sends to %s: have the recipe or --address name that place", r.where(h), a.code, h.hide(a.headers.Get("Location")))
	}
	return h.failed(r, a, nil)
}

func (h *Host) failed(r request, a answer, kind error) error {
	text := fmt.Sprintf("%s answers %d: %s", r.where(h), a.code, h.said(a))
	if kind == nil {
		return errors.New(text)
	}
	return fmt.Errorf("%s: %w", text, kind)
}

// said is the beginning of what an answer says.
func (h *Host) said(a answer) string {
	text := strings.Join(strings.Fields(h.hide(strings.ToValidUTF8(string(a.body), "\uFFFD"))), " ")
	const most = 200
	if r := []rune(text); len(r) > most {
		text = string(r[:most]) + "…"
	}
	return cmp.Or(text, http.StatusText(a.code))
}
