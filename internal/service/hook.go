package service

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"

	"github.com/theory/jsonpath"

	"zincdoor/internal/policyfile"
	"zincdoor/internal/service/ledger"
)

// hook takes a call of a code host. It is nothing but a hint that something has happened: what has, the host is asked.
func (s *Service) hook(w http.ResponseWriter, r *http.Request) {
	code, err := s.called(w, r)
	if err != nil {
		s.refused(w, r, nil, err)
		return
	}
	answerJSON(w, code, map[string]string{"state": "taken"})
}

func (s *Service) called(w http.ResponseWriter, r *http.Request) (code int, err error) {
	name := r.PathValue("repository")
	is, known := s.Settings.Repository(name)
	if !known || is.Hook == nil || s.Jobs == nil {
		return 0, refuse(http.StatusNotFound, "the settings of the service take no calls for %s", name)
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostCall))
	if err != nil {
		return 0, unread(err)
	}
	sum := hmac.New(sha256.New, []byte(s.Secret(is.Hook.Secret)))
	sum.Write(body)
	shown, err := hex.DecodeString(r.Header.Get(is.Hook.Header))
	if err != nil || s.Secret(is.Hook.Secret) == "" || !hmac.Equal(shown, sum.Sum(nil)) {
		return 0, refuse(http.StatusForbidden, "the call isn't signed by the secret of %s", name)
	}
	pull := pullIn(body, is.Hook)
	digest := sha256.Sum256(append([]byte(name+"\x00"), body...))
	code = http.StatusAccepted
	err = s.Ledger.Atomically(r.Context(), func(tx *sql.Tx) error {
		fresh, err := ledger.Once(r.Context(), tx, hex.EncodeToString(digest[:]), s.Now())
		switch {
		case err != nil:
			return err
		case !fresh:
			code = http.StatusAlreadyReported // a retry, or a replay: nothing is done again
			return nil
		case pull != "":
			return s.Jobs.Look(r.Context(), tx, name, pull)
		}
		return s.Jobs.LookAtBranches(r.Context(), tx, name)
	})
	return code, err
}

// pullIn is the number of the pull request that a call speaks of, "" for none.
func pullIn(body []byte, hook *policyfile.HostHook) string {
	var document any
	from := json.NewDecoder(bytes.NewReader(body))
	from.UseNumber()
	if hook.Pull == "" || from.Decode(&document) != nil {
		return ""
	}
	path, err := jsonpath.Parse(hook.Pull)
	if err != nil {
		return ""
	}
	for _, found := range path.Select(document) {
		if pull := fmt.Sprint(found); pullNumber.MatchString(pull) {
			return pull
		}
	}
	return ""
}
