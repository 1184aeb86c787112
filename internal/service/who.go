package service

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"zincdoor/internal/service/ledger"
)

// cookie holds the session of who reads pages by a token.
const cookie = "zincdoor"

// longestSession is how long one may read by a session.
const longestSession = 12 * time.Hour

// bearer is the token that a request shows: as a bearer (RFC 6750), or as the password of whatever user, which feed readers can.
func (s *Service) bearer(r *http.Request) (*ledger.Token, error) {
	text, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok {
		if _, text, ok = r.BasicAuth(); !ok {
			return nil, ledger.ErrNoToken
		}
	}
	return s.Ledger.Token(r.Context(), strings.TrimSpace(text), s.Now())
}

type readerKey struct{}

// reading lets those read who may: all where reading is open, else who shows a token or has a session. It says who reads.
func (s *Service) reading(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !s.Settings.ByToken {
			next(w, r)
			return
		}
		t, err := s.bearer(r)
		if shown, none := r.Cookie(cookie); errors.Is(err, ledger.ErrNoToken) && none == nil {
			t, err = s.Ledger.Session(r.Context(), shown.Value, s.Now())
		}
		switch {
		case err != nil && !errors.Is(err, ledger.ErrNoToken):
			s.failed(w, err)
		case err == nil && t.May(ledger.Read, t.Repository):
			next(w, r.WithContext(context.WithValue(r.Context(), readerKey{}, t)))
		case strings.Contains(r.Header.Get("Accept"), "text/html") && r.Header.Get("Authorization") == "":
			http.Redirect(w, r, "/sign-in", http.StatusSeeOther)
		default:
			w.Header().Add("WWW-Authenticate", "Bearer")
			w.Header().Add("WWW-Authenticate", `Basic realm="zincdoor", charset="UTF-8"`)
			plain(w, http.StatusUnauthorized, "reading takes a token\n")
		}
	}
}

// sees reports whether who asks may read of a repository.
func (s *Service) sees(r *http.Request, repository string) bool {
	t, _ := r.Context().Value(readerKey{}).(*ledger.Token)
	return !s.Settings.ByToken || t.May(ledger.Read, repository)
}

// seen is the one repository that who asks may read of, "" where those are all.
func (s *Service) seen(r *http.Request) string {
	if t, _ := r.Context().Value(readerKey{}).(*ledger.Token); t != nil {
		return t.Repository
	}
	return ""
}

func (s *Service) signIn(w http.ResponseWriter, _ *http.Request) { s.askToken(w, http.StatusOK, "") }

func (s *Service) askToken(w http.ResponseWriter, code int, why string) {
	s.show(w, code, "sign-in", struct {
		page
		Why string
	}{s.page("Sign in"), why})
}

// beginSession begins a session.
func (s *Service) beginSession(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, mostForm)
	t, err := s.Ledger.Token(r.Context(), strings.TrimSpace(r.PostFormValue("token")), s.Now())
	if err == nil && !t.May(ledger.Read, t.Repository) {
		err = ledger.ErrNoToken
	}
	if errors.Is(err, ledger.ErrNoToken) {
		s.audit(r, nil, "sign-in refused")
		s.askToken(w, http.StatusForbidden, "That token isn't known, has ended, was revoked, or isn't for reading.")
		return
	}
	if err != nil {
		s.failed(w, err)
		return
	}
	until := s.Now().Add(longestSession)
	if !t.Ends.IsZero() && t.Ends.Before(until) {
		until = t.Ends
	}
	session, err := s.Ledger.BeginSession(r.Context(), t, until)
	if err != nil {
		s.failed(w, err)
		return
	}
	s.audit(r, t, "signed in")
	http.SetCookie(w, &http.Cookie{Name: cookie, Value: session, Path: "/", Expires: until, HttpOnly: true, Secure: s.secure(r), SameSite: http.SameSiteStrictMode})
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// leave ends a session.
func (s *Service) leave(w http.ResponseWriter, r *http.Request) {
	if shown, err := r.Cookie(cookie); err == nil {
		if err := s.Ledger.Leave(r.Context(), shown.Value); err != nil {
			s.failed(w, err)
			return
		}
	}
	http.SetCookie(w, &http.Cookie{Name: cookie, Path: "/", MaxAge: -1, HttpOnly: true, Secure: s.secure(r), SameSite: http.SameSiteStrictMode})
	http.Redirect(w, r, "/sign-in", http.StatusSeeOther)
}

// audit notes what somebody did, or wasn't let do.
func (s *Service) audit(r *http.Request, t *ledger.Token, what string, more ...any) {
	who := ""
	if t != nil {
		who = t.ID
	}
	s.Log.Info("audit", append([]any{"what", what, "token", who, "from", s.asker(r)}, more...)...)
}
