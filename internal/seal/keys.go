package seal

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"github.com/youmark/pkcs8"
	"golang.org/x/crypto/ssh"
)

// Public is a key that seals are checked with.
type Public struct {
	ID  string // its fingerprint as OpenSSH writes it: SHA256:…
	key ed25519.PublicKey
}

// Private is a key that seals. It is a dsse.Signer.
type Private struct{ key ed25519.PrivateKey }

var errOnlyEd25519 = errors.New("only Ed25519 keys can seal; make one: zincdoor seal --generate-key FILE")

// ParsePublic reads a public key: a line as in OpenSSH's files ("ssh-ed25519 AAAA… comment"), or PEM ("PUBLIC KEY", RFC 8410).
func ParsePublic(text string) (Public, error) {
	text = strings.TrimSpace(text)
	if block, rest := pem.Decode([]byte(text)); block != nil {
		if len(bytes.TrimSpace(rest)) > 0 {
			return Public{}, errors.New("there is more than one key")
		}
		if strings.Contains(block.Type, "PRIVATE") {
			return Public{}, errors.New("this is the private key; give the public one")
		}
		key, err := x509.ParsePKIXPublicKey(block.Bytes)
		if err != nil {
			return Public{}, fmt.Errorf("this PEM block isn't a public key")
		}
		return newPublic(key)
	}
	parsed, _, options, rest, err := ssh.ParseAuthorizedKey([]byte(text))
	switch {
	case err != nil:
		return Public{}, errors.New("this isn't a public key: neither a line ssh-ed25519 AAAA… nor PEM")
	case len(rest) > 0:
		return Public{}, errors.New("there is more than one key")
	case len(options) > 0:
		return Public{}, errors.New("options before a key mean nothing here")
	}
	key, ok := parsed.(ssh.CryptoPublicKey)
	if !ok {
		return Public{}, errOnlyEd25519
	}
	return newPublic(key.CryptoPublicKey())
}

func newPublic(key crypto.PublicKey) (Public, error) {
	ed, ok := key.(ed25519.PublicKey)
	if !ok {
		return Public{}, errOnlyEd25519
	}
	written, err := ssh.NewPublicKey(ed)
	if err != nil {
		return Public{}, err
	}
	return Public{ID: ssh.FingerprintSHA256(written), key: ed}, nil
}

// Verify, KeyID and Public are what dsse.Verifier asks for.

// Verify checks a signature.
func (p Public) Verify(_ context.Context, data, signature []byte) error {
	if !ed25519.Verify(p.key, data, signature) {
		return errors.New("another key signed this")
	}
	return nil
}

// KeyID is the key's fingerprint.
func (p Public) KeyID() (string, error) { return p.ID, nil }

// Public is the key as Go has it.
func (p Public) Public() crypto.PublicKey { return p.key }

// Is reports whether both are the same key.
func (p Public) Is(other Public) bool { return p.key.Equal(other.key) }

// ParsePrivate reads a private key: OpenSSH's format, or PEM (PKCS #8). Of an encrypted one the passphrase is asked for.
func ParsePrivate(data []byte, passphrase func() ([]byte, error)) (Private, error) {
	block, _ := pem.Decode(data)
	if block == nil {
		if _, err := ParsePublic(string(data)); err == nil {
			return Private{}, errors.New("this is a public key; a private one seals")
		}
		return Private{}, errors.New("this isn't a private key: neither OpenSSH's format nor PEM")
	}
	raw, err := parseRaw(data, block, passphrase)
	if err != nil {
		return Private{}, err
	}
	switch key := raw.(type) {
	case ed25519.PrivateKey:
		return Private{key}, nil
	case *ed25519.PrivateKey:
		return Private{*key}, nil
	}
	return Private{}, errOnlyEd25519
}

var errWrongPassphrase = errors.New("the passphrase is wrong, or the key is damaged")

func parseRaw(data []byte, block *pem.Block, passphrase func() ([]byte, error)) (any, error) {
	if block.Type == "ENCRYPTED PRIVATE KEY" {
		secret, err := passphrase()
		if err != nil {
			return nil, err
		}
		key, _, err := pkcs8.ParsePrivateKey(block.Bytes, secret)
		if err != nil {
			return nil, errWrongPassphrase
		}
		return key, nil
	}
	key, err := ssh.ParseRawPrivateKey(data)
	var missing *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &missing):
		secret, err := passphrase()
		if err != nil {
			return nil, err
		}
		if key, err = ssh.ParseRawPrivateKeyWithPassphrase(data, secret); err != nil {
			return nil, errWrongPassphrase
		}
		return key, nil
	case err != nil && strings.Contains(block.Type, "PUBLIC"):
		return nil, errors.New("this is a public key; a private one seals")
	case err != nil:
		return nil, errors.New("this isn't a private key: it is damaged, or of an unknown kind")
	}
	return key, nil
}

// Generate makes a key: the private one in OpenSSH's format, the public one as a line of OpenSSH's files, both with the comment.
// A passphrase that isn't empty encrypts the private one.
func Generate(comment string, passphrase []byte) (private []byte, public string, err error) {
	key, secret, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, "", err
	}
	block, err := ssh.MarshalPrivateKey(secret, comment)
	if len(passphrase) > 0 {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(secret, comment, passphrase)
	}
	if err != nil {
		return nil, "", err
	}
	written, err := ssh.NewPublicKey(key)
	if err != nil {
		return nil, "", err
	}
	line := strings.TrimSuffix(string(ssh.MarshalAuthorizedKey(written)), "\n")
	return pem.EncodeToMemory(block), strings.TrimSpace(line + " " + comment), nil
}

// Sign signs.
func (p Private) Sign(_ context.Context, data []byte) ([]byte, error) {
	return ed25519.Sign(p.key, data), nil
}

// KeyID is the fingerprint of the public key.
func (p Private) KeyID() (string, error) { return p.Public().ID, nil }

// Public is the key that checks what this one signs.
func (p Private) Public() Public {
	public, _ := newPublic(p.key.Public()) // which is Ed25519
	return public
}
