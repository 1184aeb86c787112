// Package client knows how reports are sent to a service: it sends them again until they are taken, as long as that may help.
package client

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"zincdoor/internal/recordfile"
	"zincdoor/internal/transport"
)

// Service is a service that reports are sent to.
type Service struct {
	Address  string
	Token    string        // "" where what is sent is sealed
	Roots    []byte        // certificates (PEM) to trust beside the system's
	Plain    bool          // the token may go to another machine unencrypted
	Patience time.Duration // how long one report is sent again
	Tell     func(string)  // is called with what is waited for
}

// Report is a report to send.
type Report struct {
	Repository string
	Commit     string // all of its hexadecimal digits
	Name       string // as the policy calls it
	Pull       string // the number of the pull request that it is for, "" for none
	Content    []byte
	Seal       []byte // an envelope that is about it, shown where there is no token
}

// Answer is what the service made of a report: it was taken, known already, or replaced another one.
type Answer struct {
	State string `json:"state"`
	Size  int64  `json:"size"`
}

// ErrRefused is the error of a report that the service doesn't take, however often it is sent.
var ErrRefused = errors.New("the service refuses it")

// Client sends reports. It is for one caller at a time.
type Client struct {
	Service
	http *http.Client
}

// longestCall is how long one call may take.
const longestCall = 10 * time.Minute

// New readies a client. The error is that of a call that can't work.
func New(s Service) (*Client, error) {
	s.Address = strings.TrimRight(s.Address, "/")
	u, err := url.Parse(s.Address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return nil, fmt.Errorf("the address of the service is one like https://records.example, without a name and a password, not %q", s.Address)
	}
	if u.Scheme == "http" && !s.Plain && !transport.IsLoopback(u.Hostname()) {
		return nil, fmt.Errorf("the token would go to %s unencrypted: use an address with https, or allow it with --plain-http", u.Host)
	}
	over, err := transport.New(s.Roots)
	if err != nil {
		return nil, err
	}
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &Client{s, &http.Client{Transport: over, Timeout: longestCall, CheckRedirect: stay}}, nil
}

// Send sends a report until the service has taken it. The error wraps ErrRefused where it never will.
func (c *Client) Send(ctx context.Context, r Report) (a Answer, err error) {
	packed := recordfile.Compress(r.Content)
	until := time.Now().Add(c.Patience)
	for wait := time.Second; ; wait = min(2*wait, 30*time.Second) {
		a, later, err := c.once(ctx, r, packed)
		if err == nil || errors.Is(err, ErrRefused) || ctx.Err() != nil {
			return a, err
		}
		wait = max(wait, later)
		if time.Now().Add(wait).After(until) {
			return a, err
		}
		if c.Tell != nil {
			c.Tell(fmt.Sprintf("%v; trying again in %s", err, wait))
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return a, ctx.Err()
		}
	}
}

// once sends a report once; later is how long the service asks to wait.
func (c *Client) once(ctx context.Context, r Report, packed []byte) (a Answer, later time.Duration, err error) {
	to := fmt.Sprintf("%s/api/v1/repositories/%s/evidence/%s/%s", c.Address, url.PathEscape(r.Repository), url.PathEscape(r.Commit), url.PathEscape(r.Name))
	if r.Pull != "" {
		to += "?pull=" + url.QueryEscape(r.Pull)
	}
	call, err := http.NewRequestWithContext(ctx, http.MethodPut, to, bytes.NewReader(packed))
	if err != nil {
		return a, 0, err
	}
	sum := sha256.Sum256(packed)
	if c.Token != "" {
		call.Header.Set("Authorization", "Bearer "+c.Token)
	} else {
		call.Header.Set("Zincdoor-Seal", base64.StdEncoding.EncodeToString(r.Seal))
	}
	call.Header.Set("Content-Type", "application/octet-stream")
	call.Header.Set("Content-Encoding", "zstd")
	call.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	answer, err := c.http.Do(call)
	if err != nil {
		return a, 0, fmt.Errorf("the service doesn't answer: %w", err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	var said struct {
		Answer
		Problem string `json:"problem"`
	}
	unread := json.Unmarshal(text, &said)
	switch {
	case err != nil:
		return a, 0, fmt.Errorf("the answer was cut off: %w", err)
	case answer.StatusCode/100 == 2 && unread == nil:
		return said.Answer, 0, nil
	case answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode >= 500:
		seconds, _ := strconv.Atoi(answer.Header.Get("Retry-After"))
		return a, time.Duration(seconds) * time.Second, fmt.Errorf("the service answers %s", answer.Status)
	case unread != nil || said.Problem == "":
		return a, 0, fmt.Errorf("%w: %s is no service of this kind; it answers %s", ErrRefused, c.Address, answer.Status)
	}
	return a, 0, fmt.Errorf("%w: %s", ErrRefused, said.Problem)
}
