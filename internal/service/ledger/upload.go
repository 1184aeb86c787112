package ledger

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"io"
	"time"

	"zincdoor/internal/recordfile"
)

// Upload is a report that was sent.
type Upload struct {
	ID         string
	Repository string
	Head       string // the commit that it was made at
	Name       string // of the report in the policy
	Pull       string // the number of the one pull request that it serves; "" for all, and for branches
	Version    int64  // 1 for the first content of that name, 2 for one that replaced it
	Digest     string // the SHA-256 of its content, in hexadecimal digits
	Size       int64  // of its content, in bytes
	Token      string // the id of the token by which it came
	Received   time.Time
}

const uploadColumns = "id, repository, head, name, pull, version, digest, size, token, received"

func readUpload(scan func(...any) error, u *Upload) error {
	var received int64
	err := scan(&u.ID, &u.Repository, &u.Head, &u.Name, &u.Pull, &u.Version, &u.Digest, &u.Size, &u.Token, &received)
	u.Received = at(received)
	return err
}

// ErrOther is the error of a report of which there is other content.
var ErrOther = errors.New("there is other content of that name for this commit")

// Take takes a report in, and does something more in the same transaction, which may be done several times; known is true where the same
// content was there. The error is ErrOther where there is other content, unless it may be replaced.
func (l *Ledger) Take(ctx context.Context, u *Upload, content recordfile.Content, replace bool, more func(*sql.Tx) error) (known bool, err error) {
	var id [8]byte
	rand.Read(id[:])
	u.ID, u.Digest, u.Size = hex.EncodeToString(id[:]), content.Digest, content.Size
	err = l.store.Atomically(ctx, func(tx *sql.Tx) error {
		known = false
		was, err := one(ctx, tx, readUpload, "SELECT "+uploadColumns+" FROM upload WHERE repository = $1 AND head = $2 AND name = $3 AND pull = $4 ORDER BY version DESC LIMIT 1", u.Repository, u.Head, u.Name, u.Pull)
		switch {
		case err != nil:
			return err
		case was == nil:
			u.Version = 1
		case was.Digest == u.Digest:
			*u, known = *was, true
			return more(tx)
		case !replace:
			return ErrOther
		default:
			u.Version = was.Version + 1
		}
		fresh, err := changed(ctx, tx, "INSERT INTO upload ("+uploadColumns+", data) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) ON CONFLICT DO NOTHING",
			u.ID, u.Repository, u.Head, u.Name, u.Pull, u.Version, u.Digest, u.Size, u.Token, stamp(u.Received), content.Data)
		if err == nil && !fresh { // another one came at the same moment
			err = ErrOther
		}
		if err != nil {
			return err
		}
		return more(tx)
	})
	return known, err
}

// UploadsFor lists the reports of a commit that serve a pull request, "" for branches: of each name what counts. What serves all goes
// before what serves one pull request alone.
func (l *Ledger) UploadsFor(ctx context.Context, repository, head, pull string) (all []Upload, err error) {
	sent, err := list(ctx, l.db, readUpload, "SELECT "+uploadColumns+" FROM upload WHERE repository = $1 AND head = $2 AND (pull = '' OR pull = $3) ORDER BY name, CASE WHEN pull = '' THEN 0 ELSE 1 END, version DESC", repository, head, pull)
	for _, u := range sent {
		if len(all) == 0 || all[len(all)-1].Name != u.Name {
			all = append(all, u)
		}
	}
	return all, err
}

// Content writes the content of a report.
func (l *Ledger) Content(ctx context.Context, id string, to io.Writer) error {
	var packed []byte
	if err := l.db.QueryRowContext(ctx, "SELECT data FROM upload WHERE id = $1", id).Scan(&packed); err != nil {
		return err
	}
	return recordfile.Unpack(to, packed)
}
