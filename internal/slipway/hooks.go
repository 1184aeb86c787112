package slipway

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"time"
)

// SignatureHeader has the HMAC-SHA-256 of a delivery's body by the hook's secret, in hexadecimal digits.
const SignatureHeader = "Slipway-Hmac-Sha256"

type hook struct {
	ID      int      `json:"id"`
	Address string   `json:"address"`
	Secret  string   `json:"secret"`
	Events  []string `json:"events"` // empty for all
}

// delivery is something that a hook is to be told. It is sent until it was taken, at most mostTries times, and always with the same id.
type delivery struct {
	ID         int       `json:"id"`
	Repository string    `json:"repository"`
	Hook       int       `json:"hook"`
	Event      string    `json:"event"`
	Body       string    `json:"body"`
	Tries      int       `json:"tries"`
	Code       int       `json:"code"` // of the last answer; 0 where there was none
	Taken      bool      `json:"taken"`
	Next       time.Time `json:"next"`
}

const (
	mostTries      = 6
	firstAgain     = time.Second
	keptDeliveries = 200
	deliveryTime   = 10 * time.Second
)

var events = []string{"push", "pull.opened", "pull.updated", "pull.open", "pull.closed", "pull.merged", "comment.made", "status.set"}

func (s *Slipway) listHooks(c *call) (any, error) {
	r, err := s.in(c, Own)
	if err != nil {
		return nil, err
	}
	all := []any{}
	for _, h := range r.Hooks {
		all = append(all, hookView(h))
	}
	return paged(c, all)
}

// hookView is a hook without its secret.
func hookView(h *hook) any {
	return map[string]any{"id": h.ID, "address": h.Address, "events": h.Events}
}

func (s *Slipway) addHook(c *call) (any, error) {
	r, err := s.in(c, Own)
	if err != nil {
		return nil, err
	}
	h := &hook{}
	var in struct {
		Address string   `json:"address"`
		Secret  string   `json:"secret"`
		Events  []string `json:"events"`
	}
	if err := c.read(&in); err != nil {
		return nil, err
	}
	u, err := url.Parse(in.Address)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return nil, wrong(http.StatusBadRequest, "a hook has an address with http or https, not %q", in.Address)
	case in.Secret == "":
		return nil, wrong(http.StatusBadRequest, "a hook has a secret, by which what it gets is signed")
	}
	for _, event := range in.Events {
		if !slices.Contains(events, event) {
			return nil, wrong(http.StatusBadRequest, "there is no event %q; there are %v", event, events)
		}
	}
	*h = hook{ID: s.id(), Address: in.Address, Secret: in.Secret, Events: in.Events}
	r.Hooks = append(r.Hooks, h)
	return created{hookView(h)}, s.save()
}

func (s *Slipway) hook(c *call) (*repository, *hook, error) {
	r, err := s.in(c, Own)
	if err != nil {
		return nil, nil, err
	}
	i := slices.IndexFunc(r.Hooks, func(h *hook) bool { return strconv.Itoa(h.ID) == c.PathValue("hook") })
	if i < 0 {
		return nil, nil, wrong(http.StatusNotFound, "there is no hook %q", c.PathValue("hook"))
	}
	return r, r.Hooks[i], nil
}

func (s *Slipway) removeHook(c *call) (any, error) {
	r, h, err := s.hook(c)
	if err != nil {
		return nil, err
	}
	r.Hooks = slices.DeleteFunc(r.Hooks, func(one *hook) bool { return one == h })
	return nothing{}, s.save()
}

func (s *Slipway) listDeliveries(c *call) (any, error) {
	r, h, err := s.hook(c)
	if err != nil {
		return nil, err
	}
	all := []any{}
	for _, d := range s.state.Deliveries {
		if d.Repository == r.Name && d.Hook == h.ID {
			all = append(all, map[string]any{"id": d.ID, "event": d.Event, "tries": d.Tries, "code": d.Code, "taken": d.Taken})
		}
	}
	return paged(c, all)
}

// tell puts what happened in the list of what hooks are to be told. The caller saves.
func (s *Slipway) tell(r *repository, event string, about map[string]any) {
	for _, h := range r.Hooks {
		if len(h.Events) > 0 && !slices.Contains(h.Events, event) {
			continue
		}
		d := &delivery{ID: s.id(), Repository: r.Name, Hook: h.ID, Event: event, Next: time.Now()}
		body := map[string]any{"slipway": Interface, "delivery": d.ID, "event": event, "time": time.Now().UTC(), "repository": r.Name}
		for name, value := range about {
			body[name] = value
		}
		text, err := json.Marshal(body)
		if err != nil {
			continue
		}
		d.Body = string(text)
		s.state.Deliveries = append(s.state.Deliveries, d)
	}
	old := len(s.state.Deliveries) - keptDeliveries
	s.state.Deliveries = slices.DeleteFunc(s.state.Deliveries, func(d *delivery) bool {
		old--
		return old >= 0 && (d.Taken || d.Tries >= mostTries)
	})
	s.wake()
}

// wake has the deliveries looked at.
func (s *Slipway) wake() {
	select {
	case s.deliver <- struct{}{}:
	default:
	}
}

// deliverAll sends what hooks are to be told, until the slipway is closed.
func (s *Slipway) deliverAll(ctx context.Context) {
	client := &http.Client{Timeout: deliveryTime, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	defer client.CloseIdleConnections()
	for {
		wait := time.Hour
		for {
			d, h, next := s.due()
			if d == nil {
				wait = next
				break
			}
			code := post(ctx, client, h, d)
			if ctx.Err() != nil {
				return
			}
			s.delivered(d, code)
		}
		select {
		case <-ctx.Done():
			return
		case <-s.deliver:
		case <-time.After(wait):
		}
	}
}

// due is a copy of the next delivery to send, nil with how long to wait where there is none.
func (s *Slipway) due() (*delivery, hook, time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	wait := time.Hour
	for _, d := range s.state.Deliveries {
		if d.Taken || d.Tries >= mostTries {
			continue
		}
		r, err := s.repository(d.Repository)
		if err != nil {
			continue
		}
		i := slices.IndexFunc(r.Hooks, func(h *hook) bool { return h.ID == d.Hook })
		if i < 0 {
			continue
		}
		if left := time.Until(d.Next); left > 0 {
			wait = min(wait, left)
			continue
		}
		one := *d
		return &one, *r.Hooks[i], 0
	}
	return nil, hook{}, wait
}

func (s *Slipway) delivered(sent *delivery, code int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, d := range s.state.Deliveries {
		if d.ID == sent.ID {
			d.Tries++
			d.Code, d.Taken = code, code >= 200 && code < 300
			d.Next = time.Now().Add(firstAgain << d.Tries)
		}
	}
	if err := s.save(); err != nil && s.Log != nil {
		s.Log("after a delivery: " + err.Error())
	}
}

// post sends a delivery, and gives the code of the answer, 0 for none.
func post(ctx context.Context, client *http.Client, h hook, d *delivery) int {
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, h.Address, bytes.NewReader([]byte(d.Body)))
	if err != nil {
		return 0
	}
	mac := hmac.New(sha256.New, []byte(h.Secret))
	mac.Write([]byte(d.Body))
	q.Header.Set("Content-Type", "application/json")
	q.Header.Set(SignatureHeader, hex.EncodeToString(mac.Sum(nil)))
	q.Header.Set("Slipway-Delivery", strconv.Itoa(d.ID))
	answer, err := client.Do(q)
	if err != nil {
		return 0
	}
	answer.Body.Close()
	return answer.StatusCode
}
