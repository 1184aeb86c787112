package service

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"zincdoor/internal/core/pattern"
	"zincdoor/internal/git"
	"zincdoor/internal/recordfile"
	"zincdoor/internal/seal"
	"zincdoor/internal/service/ledger"
)

// The bounds of reports that come in.
const (
	mostReport  = 512 << 20 // bytes of one, as it is read; recordfile bounds what it takes compressed
	mostSending = 4         // that come in at once: each may take as much memory as it has bytes compressed
	slowest     = 15 * time.Second
	longestSend = 10 * time.Minute
	windowMost  = 32 << 20 // bytes that unpacking may take
)

var (
	reportName = pattern.Of(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)
	pullNumber = pattern.Of(`^[A-Za-z0-9][A-Za-z0-9_-]{0,39}$`)
)

// taken is what is answered to who sent a report.
type taken struct {
	Repository string `json:"repository"`
	Commit     string `json:"commit"`
	Report     string `json:"report"`
	Pull       string `json:"pull,omitempty"`
	Digest     string `json:"sha256"`
	Size       int64  `json:"size"`
	State      string `json:"state"` // taken, known, or replaced
}

// refusal is why a request isn't done.
type refusal struct {
	code int
	text string
}

func (r refusal) Error() string { return r.text }

func refuse(code int, format string, args ...any) error {
	return refusal{code, fmt.Sprintf(format, args...)}
}

// refused answers a request that isn't done.
func (s *Service) refused(w http.ResponseWriter, r *http.Request, t *ledger.Token, err error) {
	var why refusal
	if !errors.As(err, &why) {
		s.Log.Error("store", "error", err.Error())
		w.Header().Set("Retry-After", "5")
		why = refusal{http.StatusServiceUnavailable, "it can't be kept at the moment; come again"}
	} else {
		s.audit(r, t, "refused", "path", r.URL.Path, "status", why.code, "why", why.text)
	}
	if why.code == http.StatusUnauthorized {
		w.Header().Set("WWW-Authenticate", "Bearer")
	}
	answerJSON(w, why.code, map[string]string{"problem": why.text})
}

func answerJSON(w http.ResponseWriter, code int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	to := json.NewEncoder(w)
	to.SetEscapeHTML(false)
	to.Encode(v) // who doesn't want it any more has gone
}

// evidence takes a report in.
func (s *Service) evidence(w http.ResponseWriter, r *http.Request) {
	t, done, err := s.take(w, r)
	if err != nil {
		s.Metrics.evidence("refused")
		s.refused(w, r, t, err)
		return
	}
	s.Metrics.evidence(done.State)
	s.audit(r, t, "evidence "+done.State, "repository", done.Repository, "commit", done.Commit, "report", done.Report, "pull", done.Pull, "sha256", done.Digest, "bytes", done.Size)
	code := http.StatusCreated
	if done.State == "known" {
		code = http.StatusOK
	}
	answerJSON(w, code, done)
}

func (s *Service) take(w http.ResponseWriter, r *http.Request) (*ledger.Token, *taken, error) {
	t, err := s.bearer(r)
	var envelope *seal.Envelope
	if errors.Is(err, ledger.ErrNoToken) && r.Header.Get(sealField) != "" {
		t, envelope, err = s.sealer(r)
	}
	switch {
	case errors.Is(err, ledger.ErrNoToken):
		return nil, nil, refuse(http.StatusUnauthorized, "sending takes a token (Authorization: Bearer TOKEN), or a sealed statement about what is sent (%s)", sealField)
	case err != nil:
		return nil, nil, err
	}
	done := &taken{Repository: r.PathValue("repository"), Commit: r.PathValue("commit"), Report: r.PathValue("report"), Pull: r.URL.Query().Get("pull")}
	_, known := s.Settings.Repository(done.Repository)
	switch {
	case !t.May(ledger.Send, done.Repository):
		return t, nil, refuse(http.StatusForbidden, "the token isn't for sending reports of %s", done.Repository)
	case !known || s.Jobs == nil:
		return t, nil, refuse(http.StatusNotFound, "the settings of the service have no repository %s", done.Repository)
	case !git.IsHash(done.Commit):
		return t, nil, refuse(http.StatusBadRequest, "a commit is named by all 40 or 64 of its hexadecimal digits, not %q", done.Commit)
	case !reportName.MatchString(done.Report):
		return t, nil, refuse(http.StatusBadRequest, "a report is called as in the policy, by letters, digits, dots and dashes, not %q", done.Report)
	case done.Pull != "" && !pullNumber.MatchString(done.Pull):
		return t, nil, refuse(http.StatusBadRequest, "%q is no number of a pull request", done.Pull)
	case t.Pull != "" && t.Pull != done.Pull:
		return t, nil, refuse(http.StatusForbidden, "the token is for pull request %s alone: ?pull=%s", t.Pull, t.Pull)
	}
	select {
	case s.sending <- struct{}{}:
		defer func() { <-s.sending }()
	default:
		w.Header().Set("Retry-After", "2")
		return t, nil, refuse(http.StatusServiceUnavailable, "%d reports come in at the moment; come again", mostSending)
	}
	content, err := receive(w, r)
	if err == nil {
		err = checkSealed(done, content, envelope)
	}
	if err != nil {
		return t, nil, err
	}
	// What comes by a token for one pull request serves that one; what others send serves whatever has that commit.
	u := &ledger.Upload{Repository: done.Repository, Head: done.Commit, Name: done.Report, Pull: t.Pull, Token: t.ID, Received: s.Now()}
	was, err := s.Ledger.Take(r.Context(), u, content, t.May(ledger.Replace, done.Repository), func(tx *sql.Tx) error { return s.wake(r, tx, done, t) })
	switch {
	case errors.Is(err, ledger.ErrOther):
		return t, nil, refuse(http.StatusConflict, "there is a report %s of %.10s already, and its content is another one (sha256 %s was sent); a token with the right %q may replace it", done.Report, done.Commit, content.Digest, ledger.Replace)
	case err != nil:
		return t, nil, err
	}
	done.Digest, done.Size, done.State = u.Digest, u.Size, "taken"
	switch {
	case was:
		done.State = "known"
	case u.Version > 1:
		done.State = "replaced"
	}
	return t, done, nil
}

// wake has what a report may be for looked at.
func (s *Service) wake(r *http.Request, tx *sql.Tx, done *taken, t *ledger.Token) error {
	if done.Pull != "" {
		return s.Jobs.Look(r.Context(), tx, done.Repository, done.Pull)
	}
	there, err := s.Ledger.At(r.Context(), tx, done.Repository, done.Commit)
	if err != nil {
		return err
	}
	for _, subject := range there {
		if pull := subject.Pull(); pull != "" {
			if err := s.Jobs.Look(r.Context(), tx, done.Repository, pull); err != nil {
				return err
			}
		}
	}
	return s.Jobs.LookAtBranches(r.Context(), tx, done.Repository)
}

// receive reads a report as it comes, packed anew, and holds it against its digest.
func receive(w http.ResponseWriter, r *http.Request) (c recordfile.Content, err error) {
	want, err := contentDigest(r.Header.Get("Content-Digest"))
	if err != nil {
		return c, err
	}
	sum := sha256.New()
	patient := &patientReader{from: http.MaxBytesReader(w, r.Body, mostReport), control: http.NewResponseController(w), end: time.Now().Add(longestSend)}
	sent := io.TeeReader(patient, sum)
	var content io.Reader = sent
	switch coding := r.Header.Get("Content-Encoding"); coding {
	case "", "identity":
	case "gzip":
		unpacked, err := gzip.NewReader(sent)
		if err != nil {
			return c, unread(err)
		}
		content = unpacked
	case "zstd":
		unpacked, err := zstd.NewReader(sent, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(windowMost), zstd.WithDecoderLowmem(true))
		if err != nil {
			return c, unread(err)
		}
		defer unpacked.Close()
		content = unpacked
	default:
		return c, refuse(http.StatusUnsupportedMediaType, "a report comes as it is, or with Content-Encoding gzip or zstd, not %q", coding)
	}
	packing := recordfile.NewPacking()
	n, err := io.Copy(packing, io.LimitReader(content, mostReport+1))
	if err == nil && n <= mostReport {
		_, err = io.Copy(io.Discard, sent) // what is behind it is part of what was sent
	}
	c, fits := packing.End()
	switch {
	case err != nil:
		return c, unread(err)
	case n > mostReport || !fits:
		return c, refuse(http.StatusRequestEntityTooLarge, "a report has at most %d MiB, and 64 MiB compressed", mostReport>>20)
	case !bytes.Equal(sum.Sum(nil), want):
		return c, refuse(http.StatusBadRequest, "what came isn't what Content-Digest says")
	}
	return c, nil
}

// unread is the refusal of a report that can't be read to its end.
func unread(err error) error {
	var much *http.MaxBytesError
	if errors.As(err, &much) {
		return refuse(http.StatusRequestEntityTooLarge, "a report has at most %d MiB", mostReport>>20)
	}
	return refuse(http.StatusBadRequest, "the report is cut off or damaged: %v", err)
}

// contentDigest reads the field Content-Digest (RFC 9530): the SHA-256 of what is sent, as it is sent.
func contentDigest(field string) ([]byte, error) {
	for one := range strings.SplitSeq(field, ",") {
		if text, ok := strings.CutPrefix(strings.TrimSpace(one), "sha-256=:"); ok {
			sum, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(text, ":"))
			if err == nil && strings.HasSuffix(text, ":") && len(sum) == sha256.Size {
				return sum, nil
			}
		}
	}
	return nil, refuse(http.StatusBadRequest, "Content-Digest (RFC 9530) is needed, with the SHA-256 of what is sent: sha-256=:BASE64:")
}

// patientReader reads what comes slowly, but not too slowly.
type patientReader struct {
	from    io.Reader
	control *http.ResponseController
	end     time.Time
}

func (p *patientReader) Read(data []byte) (int, error) {
	until := time.Now().Add(slowest)
	if until.After(p.end) {
		until = p.end
	}
	p.control.SetReadDeadline(until) // not every writer has one
	p.control.SetWriteDeadline(until.Add(slowest))
	return p.from.Read(data)
}
