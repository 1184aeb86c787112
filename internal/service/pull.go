package service

import (
	"net/http"
	"time"

	"zincdoor/internal/service/ledger"
)

// subjectJSON is how a pull request stands.
type subjectJSON struct {
	Repository string    `json:"repository"`
	Pull       string    `json:"pull"`
	Head       string    `json:"head"`
	Target     string    `json:"target"`
	State      string    `json:"state"`
	Lacking    []string  `json:"lacking"`
	Judged     string    `json:"judged"` // the head of the last verdict
	Outcome    string    `json:"outcome"`
	Door       string    `json:"door"`
	Record     string    `json:"record"`
	Sent       bool      `json:"sent"` // the verdict is at the code host
	Trouble    string    `json:"trouble,omitempty"`
	Seen       time.Time `json:"seen"`
}

// pull answers how a pull request stands.
func (s *Service) pull(w http.ResponseWriter, r *http.Request) {
	name := r.PathValue("repository")
	if !s.sees(r, name) {
		answerJSON(w, http.StatusNotFound, map[string]string{"problem": "nothing is known of that"})
		return
	}
	is, err := s.Ledger.Subject(r.Context(), name, ledger.PullName(r.PathValue("pull")))
	if err != nil {
		s.refused(w, r, nil, err)
		return
	}
	if is.Head == "" {
		answerJSON(w, http.StatusNotFound, map[string]string{"problem": "nothing is known of that"})
		return
	}
	answerJSON(w, http.StatusOK, subjectJSON{
		is.Repository, is.Pull(), is.Head, is.Target, is.State, append([]string{}, is.Lacking...), is.Judged, string(is.Outcome), is.Door, is.Record, is.Record != "" && is.Sent == is.Record, is.Trouble, is.Seen,
	})
}
