package sealed

import (
	"errors"
	"fmt"

	"zincdoor/internal/core/policy"
	"zincdoor/internal/git"
	"zincdoor/internal/seal"
	"zincdoor/internal/target"
)

// RefOf is the ref that carries an envelope: by its tree's object id and the SHA-256 of its bytes.
func RefOf(e *seal.Envelope) string { return target.SealedRefs + e.Statement.Tree + "/" + e.Digest }

// SentName is what an envelope is called where it is sent to a service in the place of a report.
func SentName(e *seal.Envelope) string { return policy.SealReport + e.Digest[:16] }

// CheckUpdate says why a push can't put a ref that carries sealed statements where it does; nil where it can. Such refs are only ever
// added, and hold what their names say.
func CheckUpdate(repo *git.Repo, u target.Update) error {
	switch {
	case u.New == "":
		return errors.New("sealed statements are only ever added by a push, so it can't be deleted")
	case u.Old != "" && u.Old != u.New:
		return errors.New("sealed statements are only ever added, so it can't be overwritten")
	}
	blob, err := repo.BlobAt(u.New)
	if err != nil {
		return err
	}
	data, err := repo.ReadBlob(blob, seal.MostBytes)
	if err != nil {
		return fmt.Errorf("it carries no sealed statement: %w", err)
	}
	e, err := seal.Read(data)
	switch {
	case err != nil:
		return fmt.Errorf("it carries %w", err)
	case RefOf(e) != u.Ref:
		return fmt.Errorf("the statement in it belongs at %s", RefOf(e))
	}
	return nil
}
