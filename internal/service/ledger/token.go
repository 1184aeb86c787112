package ledger

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"time"
)

// Right is what a token lets its bearer do.
type Right string

// The rights.
const (
	Send    Right = "send"    // send reports
	Replace Right = "replace" // send other content for a report that is there
	Read    Right = "read"    // read pages and answers
)

// Rights are all of them.
var Rights = []Right{Send, Replace, Read}

// Token says what its bearer may do.
type Token struct {
	ID         string
	Repository string // "" for all
	Pull       string // the number of the one pull request that it is for; "" for all, and for branches
	Rights     []Right
	Note       string // for people
	Made       time.Time
	Ends       time.Time // from then on it counts no more; zero for never
	Revoked    time.Time // zero where it isn't
}

// May reports whether a token gives a right in a repository.
func (t *Token) May(right Right, repository string) bool {
	return t != nil && slices.Contains(t.Rights, right) && (t.Repository == "" || t.Repository == repository)
}

// Counts reports whether a token counts at a time.
func (t *Token) Counts(now time.Time) bool {
	return t.Revoked.IsZero() && (t.Ends.IsZero() || now.Before(t.Ends))
}

const tokenColumns = "id, hash, repository, pull, rights, note, made, ends, revoked"

type keptToken struct {
	Token
	hash string
}

func readToken(scan func(...any) error, t *keptToken) error {
	var rights string
	var made, ends, revoked int64
	err := scan(&t.ID, &t.hash, &t.Repository, &t.Pull, &rights, &t.Note, &made, &ends, &revoked)
	for _, right := range strings.Fields(rights) {
		t.Rights = append(t.Rights, Right(right))
	}
	t.Made, t.Ends, t.Revoked = at(made), at(ends), at(revoked)
	return err
}

// secretBytes is how much chance is in a secret: enough that a plain hash of it gives nothing away.
const secretBytes = 32

// MakeToken makes a token, and gives the text that its bearer shows: it is known nowhere else. The token gets its id.
func (l *Ledger) MakeToken(ctx context.Context, t *Token) (text string, err error) {
	var id [4]byte
	var secret [secretBytes]byte
	rand.Read(id[:])
	rand.Read(secret[:])
	t.ID = hex.EncodeToString(id[:])
	var rights []string
	for _, right := range t.Rights {
		rights = append(rights, string(right))
	}
	text = base64.RawURLEncoding.EncodeToString(secret[:])
	err = run(ctx, l.db, "INSERT INTO token ("+tokenColumns+") VALUES ($1, $2, $3, $4, $5, $6, $7, $8, 0)", t.ID, hashOf(text), t.Repository, t.Pull, strings.Join(rights, " "), t.Note, stamp(t.Made), stamp(t.Ends))
	return t.ID + "." + text, err
}

func hashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// Tokens lists all tokens, the oldest first.
func (l *Ledger) Tokens(ctx context.Context) (all []Token, err error) {
	kept, err := list(ctx, l.db, readToken, "SELECT "+tokenColumns+" FROM token ORDER BY made, id")
	for _, t := range kept {
		all = append(all, t.Token)
	}
	return all, err
}

// Revoke has a token count no more, by its id; known is false where there is none of that id.
func (l *Ledger) Revoke(ctx context.Context, id string, now time.Time) (known bool, err error) {
	return changed(ctx, l.db, "UPDATE token SET revoked = CASE WHEN revoked = 0 THEN $2 ELSE revoked END WHERE id = $1", id, stamp(now))
}

// ErrNoToken is the error of a text that is no token, or of one that counts no more.
var ErrNoToken = errors.New("the token isn't known, has ended or was revoked")

// Token is the token that a bearer shows. The error is ErrNoToken where it doesn't count.
func (l *Ledger) Token(ctx context.Context, text string, now time.Time) (*Token, error) {
	id, secret, _ := strings.Cut(text, ".")
	t, err := one(ctx, l.db, readToken, "SELECT "+tokenColumns+" FROM token WHERE id = $1", id)
	if err != nil {
		return nil, err
	}
	if t == nil || subtle.ConstantTimeCompare([]byte(t.hash), []byte(hashOf(secret))) != 1 || !t.Counts(now) {
		return nil, ErrNoToken
	}
	return &t.Token, nil
}

// BeginSession begins a session for the bearer of a token, until a time. It gives what the browser shows.
func (l *Ledger) BeginSession(ctx context.Context, t *Token, until time.Time) (session string, err error) {
	var secret [secretBytes]byte
	rand.Read(secret[:])
	session = base64.RawURLEncoding.EncodeToString(secret[:])
	return session, run(ctx, l.db, "INSERT INTO session VALUES ($1, $2, $3)", hashOf(session), t.ID, stamp(until))
}

// Session is the token of a session. The error is ErrNoToken where there is none, or the token counts no more.
func (l *Ledger) Session(ctx context.Context, session string, now time.Time) (*Token, error) {
	t, err := one(ctx, l.db, readToken, "SELECT "+tokenColumns+" FROM token WHERE id = (SELECT token FROM session WHERE hash = $1 AND ends > $2)", hashOf(session), stamp(now))
	if err == nil && (t == nil || !t.Counts(now)) {
		err = ErrNoToken
	}
	if err != nil {
		return nil, err
	}
	return &t.Token, nil
}

// Leave ends a session.
func (l *Ledger) Leave(ctx context.Context, session string) error {
	return run(ctx, l.db, "DELETE FROM session WHERE hash = $1", hashOf(session))
}
