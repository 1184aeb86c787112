package service

import (
	"bytes"
	"encoding/base64"
	"net/http"
	"slices"
	"strings"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/recordfile"
	"zincdoor/internal/seal"
	"zincdoor/internal/sealed"
	"zincdoor/internal/service/ledger"
)

// sealField is the header field with an envelope, as base64, in the place of a token.
const sealField = "Zincdoor-Seal"

// sealer reads the envelope of a request without a token, and gives who may send what it is about: a key of the repository's policy must
// have sealed it, for the commit that is named.
func (s *Service) sealer(r *http.Request) (*ledger.Token, *seal.Envelope, error) {
	repository := r.PathValue("repository")
	data, err := base64.StdEncoding.DecodeString(r.Header.Get(sealField))
	if err != nil {
		return nil, nil, refuse(http.StatusBadRequest, "%s takes an envelope as base64", sealField)
	}
	e, err := seal.Read(data)
	if err != nil {
		return nil, nil, refuse(http.StatusBadRequest, "%s: %v", sealField, err)
	}
	if _, known := s.Settings.Repository(repository); !known || s.Jobs == nil {
		return nil, nil, refuse(http.StatusUnauthorized, "no key of %s is known here", repository)
	}
	by, why, err := s.Jobs.Sealer(r.Context(), repository, e)
	switch {
	case err != nil:
		s.Log.Warn("the keys of a repository can't be read", "repository", repository, "error", err.Error())
		return nil, nil, refuse(http.StatusServiceUnavailable, "the keys of %s can't be read yet; come again, or send with a token", repository)
	case by == "":
		return nil, nil, refuse(http.StatusUnauthorized, "the envelope doesn't count: %s", why)
	case e.Statement.Commit != r.PathValue("commit"):
		return nil, nil, refuse(http.StatusForbidden, "the envelope is of commit %.12s, and not of the one that is named", e.Statement.Commit)
	}
	return &ledger.Token{ID: "sealed by " + by, Repository: repository, Rights: []ledger.Right{ledger.Send}}, e, nil
}

// checkSealed refuses what an envelope should say and doesn't: an envelope that is sent must be one, and what comes by a seal in the
// place of a token must be what that sealed.
func checkSealed(done *taken, content recordfile.Content, by *seal.Envelope) error {
	if strings.HasPrefix(done.Report, policy.SealReport) {
		if content.Size > seal.MostBytes {
			return refuse(http.StatusRequestEntityTooLarge, "an envelope has at most %d bytes", seal.MostBytes)
		}
		var data bytes.Buffer
		if err := recordfile.Unpack(&data, content.Data); err != nil {
			return err
		}
		sent, err := seal.Read(data.Bytes())
		switch {
		case err != nil:
			return refuse(http.StatusBadRequest, "%s isn't an envelope: %v", done.Report, err)
		case done.Report != sealed.SentName(sent):
			return refuse(http.StatusBadRequest, "this envelope is called %s, by the first digits of its SHA-256, not %s", sealed.SentName(sent), done.Report)
		case by != nil && sent.Digest != by.Digest:
			return refuse(http.StatusForbidden, "by a seal in the place of a token, no other envelope can be sent than that")
		}
		return nil
	}
	if by == nil {
		return nil
	}
	if by.Statement.Reports == nil {
		return refuse(http.StatusForbidden, "the envelope seals no report")
	}
	report := by.Statement.Reports.Named(done.Report)
	if report == nil || !slices.ContainsFunc(report.Files, func(f seal.File) bool { return f.SHA256 == content.Digest && f.Bytes == content.Size }) {
		return refuse(http.StatusForbidden, "the report %s isn't one that the envelope seals", done.Report)
	}
	return nil
}
