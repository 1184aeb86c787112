// Package seal knows how evidence and verdicts are bound to a tree of git and signed, so that they can travel: in-toto
// statements (v1) in DSSE envelopes (v1), signed with Ed25519 keys (RFC 8032). It tells what a statement says and which keys
// signed it. Whose keys count, and what a statement is worth for a change, isn't decided here.
package seal

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	intoto "github.com/in-toto/attestation/go/v1"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/types/known/structpb"
)

// Bounds of an envelope. A larger one is refused unread.
const (
	MostBytes      = 1 << 20
	mostSignatures = 16
	mostReports    = 1000
)

// payloadType is that of in-toto statements (in-toto attestation framework, "Envelope").
const payloadType = "application/vnd.in-toto+json"

// ErrMalformed is the error of an envelope that can't be read, or holds no statement of ours.
var ErrMalformed = errors.New("no sealed statement")

func malformed(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrMalformed, fmt.Sprintf(format, args...))
}

// Statement is what was sealed: of one tree, and one of the three.
type Statement struct {
	Tree   string // git's object id, 40 or 64 hexadecimal digits
	Commit string // one that has the tree; "" where none is named

	Reports   *Reports
	Verdict   *Verdict
	Exception *Exception
}

// Envelope is a sealed statement. It is immutable.
type Envelope struct {
	Statement Statement
	Digest    string // SHA-256 of its bytes, 64 hexadecimal digits
	Payload   []byte // the statement's own bytes

	signed dsse.Envelope
}

// Seal signs a statement, and gives the envelope's bytes.
func Seal(s Statement, key Private) ([]byte, error) {
	statement, err := s.write()
	if err != nil {
		return nil, err
	}
	payload, err := protojson.Marshal(statement)
	if err != nil {
		return nil, err
	}
	signer, err := dsse.NewEnvelopeSigner(key)
	if err != nil {
		return nil, err
	}
	signed, err := signer.SignPayload(context.Background(), payloadType, payload)
	if err != nil {
		return nil, err
	}
	data, err := json.Marshal(signed)
	return append(data, '\n'), err
}

// Read reads an envelope, and checks no signature. The error wraps ErrMalformed.
func Read(data []byte) (*Envelope, error) {
	if len(data) > MostBytes {
		return nil, malformed("it has over %d bytes", MostBytes)
	}
	sum := sha256.Sum256(data)
	e := &Envelope{Digest: hex.EncodeToString(sum[:])}
	if err := json.Unmarshal(data, &e.signed); err != nil { // which refuses a member that is there twice
		return nil, malformed("it isn't a DSSE envelope: %s", plain(err))
	}
	switch n := len(e.signed.Signatures); {
	case e.signed.Payload == "" || n == 0:
		return nil, malformed("it isn't a DSSE envelope: payload and signatures are needed")
	case n > mostSignatures:
		return nil, malformed("it has %d signatures, where %d are allowed", n, mostSignatures)
	case e.signed.PayloadType != payloadType:
		return nil, malformed("its payload is of the type %.80q, not %s", e.signed.PayloadType, payloadType)
	}
	for i := range e.signed.Signatures { // what a signature says of its key decides nothing
		e.signed.Signatures[i].KeyID = ""
	}
	var err error
	if e.Payload, err = e.signed.DecodeB64Payload(); err != nil {
		return nil, malformed("its payload isn't base64")
	}
	e.Statement, err = readStatement(e.Payload)
	return e, err
}

// SignedBy reports whether the key signed the envelope.
func (e *Envelope) SignedBy(key Public) bool {
	verifier, err := dsse.NewEnvelopeVerifier(key)
	if err != nil {
		return false
	}
	_, err = verifier.Verify(context.Background(), &e.signed)
	return err == nil
}

// The names of a statement's subjects.
const (
	treeSubject   = "tree"
	commitSubject = "commit"
)

// write is the statement as in-toto has it.
func (s Statement) write() (*intoto.Statement, error) {
	written := &intoto.Statement{Type: intoto.StatementTypeUri, Subject: []*intoto.ResourceDescriptor{subject(treeSubject, "gitTree", s.Tree)}}
	if s.Commit != "" {
		written.Subject = append(written.Subject, subject(commitSubject, "gitCommit", s.Commit))
	}
	var err error
	switch {
	case s.Reports != nil:
		written.PredicateType = ReportsType
		written.Predicate, err = predicate(s.Reports)
	case s.Verdict != nil:
		written.PredicateType = VerdictType
		written.Predicate, err = s.Verdict.write(s)
	case s.Exception != nil:
		written.PredicateType = ExceptionType
		written.Predicate, err = predicate(s.Exception)
	}
	if err != nil {
		return nil, err
	}
	return written, written.Validate()
}

// subject names an object of git by its id. The digest's name in a repository of SHA-256 is that of the hash, since git's own names
// stand for SHA-1 there (in-toto attestation framework, "DigestSet").
func subject(name, digest, id string) *intoto.ResourceDescriptor {
	if len(id) == 2*sha256.Size {
		digest = "sha256"
	}
	return &intoto.ResourceDescriptor{Name: name, Digest: map[string]string{digest: id}}
}

func readStatement(payload []byte) (s Statement, err error) {
	if !jsontext.Value(payload).IsValid() { // which holds no name twice either
		return s, malformed("its payload isn't JSON, or names something twice")
	}
	var written intoto.Statement
	if err := (protojson.UnmarshalOptions{DiscardUnknown: true}).Unmarshal(payload, &written); err != nil {
		return s, malformed("its payload isn't an in-toto statement: %s", plain(err))
	}
	if err := written.Validate(); err != nil {
		return s, malformed("its payload isn't an in-toto statement: %s", plain(err))
	}
	if written.Type != intoto.StatementTypeUri {
		return s, malformed("its statement is of the type %.80q, not %s", written.Type, intoto.StatementTypeUri)
	}
	for _, subject := range written.Subject {
		id, err := objectOf(subject)
		if err != nil {
			return s, err
		}
		switch {
		case subject.Name == treeSubject && s.Tree == "":
			s.Tree = id
		case subject.Name == commitSubject && s.Commit == "":
			s.Commit = id
		default:
			return s, malformed("its subjects are a tree, and a commit that has it, each once; %.80q is none of them", subject.Name)
		}
	}
	if s.Tree == "" {
		return s, malformed("it names no tree")
	}
	switch written.PredicateType {
	case ReportsType:
		s.Reports, err = readReports(written.Predicate)
	case VerdictType:
		s.Verdict, err = readVerdict(written.Predicate)
	case ExceptionType:
		s.Exception, err = readException(written.Predicate)
	default:
		return s, malformed("it is about %.80q, which is no report, no verdict and no exception", written.PredicateType)
	}
	return s, err
}

// objectOf is the id of the one object that a subject names.
func objectOf(subject *intoto.ResourceDescriptor) (id string, err error) {
	for name, digest := range subject.Digest {
		git := map[string]string{treeSubject: "gitTree", commitSubject: "gitCommit"}[subject.Name]
		if len(subject.Digest) != 1 || name != git && name != "sha256" || digest != strings.ToLower(digest) {
			return "", malformed("the digest of its %.80q isn't an object id of git", subject.Name)
		}
		id = digest
	}
	return id, nil
}

// predicate is a value as in-toto takes it.
func predicate(of any) (*structpb.Struct, error) {
	data, err := json.Marshal(of)
	if err != nil {
		return nil, err
	}
	var all structpb.Struct
	return &all, protojson.Unmarshal(data, &all)
}

// decode fills a value from what predicate made of it.
func decode(from *structpb.Struct, to any) error {
	data, err := protojson.Marshal(from)
	if err == nil {
		err = json.Unmarshal(data, to)
	}
	if err != nil {
		return malformed("what it says can't be read: %s", plain(err))
	}
	return nil
}

// plain is a library's complaint without its own name and without what is odd in a message.
func plain(err error) string {
	text := strings.Join(strings.Fields(err.Error()), " ")
	for _, prefix := range []string{"json: ", "jsontext: ", "proto: "} {
		text = strings.TrimPrefix(text, prefix)
	}
	return text[:min(len(text), 200)]
}

// digestOK reports whether a text is a SHA-256 in hexadecimal digits.
func digestOK(text string) bool {
	_, err := hex.DecodeString(text)
	return err == nil && len(text) == 2*sha256.Size && text == strings.ToLower(text)
}

// twice names what is in a list twice, "" where nothing is.
func twice(names []string) string {
	slices.Sort(names)
	for i := 1; i < len(names); i++ {
		if names[i] == names[i-1] {
			return names[i]
		}
	}
	return ""
}
