// Package notice knows how people are notified: by a signed call of a webhook, and by mail. It doesn't know who is
// notified of what.
package notice

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"time"
)

// Hook is a webhook.
type Hook struct {
	Address string
	Secret  string
}

// KeyID names in a signature the secret that a hook shares with us.
const KeyID = "zincdoor"

// longestCall is how long a webhook may take to answer.
const longestCall = 10 * time.Second

// Post calls a webhook with a JSON document. The call is signed by HTTP Message Signatures (RFC 9421) with HMAC-SHA-256, over the method,
// the address, the digest of the content (RFC 9530), its id, and when that was; the id is the same each time the same is sent. The error
// is that of a call that wasn't taken.
func Post(ctx context.Context, h Hook, id string, body []byte, now time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, longestCall)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, h.Address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Zincdoor-News", id)
	Sign(r, h.Secret, body, now)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<16))
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("the webhook at %s answers %s", r.URL.Host, answer.Status)
	}
	return nil
}

// Sign adds to a request the digest of its content and a signature over that, its method, its address and its id.
func Sign(r *http.Request, secret string, body []byte, now time.Time) {
	sum := sha256.Sum256(body)
	r.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	r.Header.Set("Signature-Input", fmt.Sprintf(`news=("@method" "@target-uri" "content-digest" "zincdoor-news");created=%d;keyid="%s";alg="hmac-sha256"`, now.Unix(), KeyID))
	r.Header.Set("Signature", "news=:"+base64.StdEncoding.EncodeToString(signature(r, secret))+":")
}

// signature is what signs a request by the base of RFC 9421, section 2.5.
func signature(r *http.Request, secret string) []byte {
	input := r.Header.Get("Signature-Input")
	to := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(to, "\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"zincdoor-news\": %s\n\"@signature-params\": %s",
		r.Method, r.URL.String(), r.Header.Get("Content-Digest"), r.Header.Get("Zincdoor-News"), input[len("news="):])
	return to.Sum(nil)
}
