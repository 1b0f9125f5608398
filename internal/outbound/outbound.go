// Package outbound calls the outside: builders, caches downstream, issuers of tokens. Addresses
// are checked when a connection is made, answers are bounded, calls are signed.
package outbound

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"golang.org/x/sync/errgroup"
)

// Caller makes signed calls.
type Caller struct {
	client *http.Client
}

// New returns a caller.
func New(o Options) *Caller { return &Caller{client: o.NewClient()} }

// Target is somebody who is called.
type Target struct {
	Call   string `yaml:"call" json:"call"`               // the address that is called with POST
	Secret string `yaml:"secret" json:"secret,omitempty"` // signs the call (Standard Webhooks)
	// Method, as in PURGE, makes of the call plain requests, for caches that know nothing of
	// ours: one for each address, in the place of {address} in Call; or a single one with
	// the groups in the header Groups, as a list of RFC 9651, or, with Separator, as they
	// are.
	Method    string `yaml:"method" json:"method,omitempty"`
	Groups    string `yaml:"groups" json:"groups,omitempty"`
	Separator string `yaml:"separator" json:"separator,omitempty"`
	// Everything is called with Method when it is not known which addresses are over.
	Everything string `yaml:"everything" json:"everything,omitempty"`
}

// addressMark is what stands for an address in Target.Call.
const addressMark = "{address}"

// Check returns what is wrong with the target.
func (t Target) Check() error {
	for name, at := range map[string]string{
		"call":       strings.Replace(t.Call, addressMark, "/", 1),
		"everything": t.Everything,
	} {
		if u, err := url.Parse(at); (at != "" || name == "call") &&
			(err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
			return fmt.Errorf("%s %q is no http address", name, at)
		}
	}
	marked := strings.Contains(t.Call, addressMark)
	switch {
	case t.Method == "" && (t.Groups != "" || t.Everything != "" || marked):
		return errors.New("method is missing; the call is signed JSON without it")
	case t.Method == "":
		return nil
	case t.Secret != "":
		return errors.New("a plain request is not signed: take out secret, or method")
	case marked == (t.Groups != ""):
		return errors.New(
			"a plain request names an address ({address} in call), or the groups (groups: the header's name)",
		)
	case strings.ToUpper(t.Method) != t.Method:
		return fmt.Errorf("method %q: methods are in capitals", t.Method)
	}
	return nil
}

// Expiry is what a cache is to let go of: what is of the groups, or at the addresses. More
// says that there are addresses that are not known.
type Expiry struct {
	Groups, Addresses []string
	More              bool
}

// togetherMost bounds the plain requests that are made at the same time.
const togetherMost = 8

// Expire makes the plain requests of a target. 404 and 410 are taken for success, too: the
// cache did not have it. Its error is that of the first that failed.
func (c *Caller) Expire(ctx context.Context, t Target, e Expiry) error {
	if t.Groups != "" {
		value := strings.Join(e.Groups, t.Separator)
		if t.Separator == "" {
			quoted := make([]string, len(e.Groups))
			for i, g := range e.Groups {
				quoted[i] = strconv.Quote(g)
			}
			value = strings.Join(quoted, ", ")
		}
		return c.plain(ctx, t.Method, t.Call, t.Groups, value)
	}
	if e.More && t.Everything != "" {
		return c.plain(ctx, t.Method, t.Everything, "", "")
	}
	var all errgroup.Group
	all.SetLimit(togetherMost)
	for _, address := range e.Addresses {
		all.Go(
			func() error { return c.plain(ctx, t.Method, strings.Replace(t.Call, addressMark, address, 1), "", "") },
		)
	}
	return all.Wait()
}

// plain makes a request without a body.
func (c *Caller) plain(ctx context.Context, method, address, header, value string) error {
	req, err := http.NewRequestWithContext(ctx, method, address, nil)
	if err != nil {
		return err
	}
	if header != "" {
		req.Header.Set(header, value)
	}
	resp, err := c.client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10)) // for the connection's sake
	if resp.StatusCode/100 == 2 || resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone {
		return nil
	}
	return &AnswerError{
		Status:     resp.StatusCode,
		RetryAfter: retryAfter(resp.Header.Get("Retry-After"), time.Now()),
		text:       fmt.Sprintf("%s answered %s to %s", req.URL.Host, resp.Status, method),
	}
}

// Event is a CloudEvent 1.0, whose data is JSON.
type Event struct {
	Type   string
	Source string
	ID     string
	Time   time.Time
	Data   any
}

// MarshalJSON writes the event in the structured mode.
func (e Event) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		SpecVersion string    `json:"specversion"`
		Type        string    `json:"type"`
		Source      string    `json:"source"`
		ID          string    `json:"id"`
		Time        time.Time `json:"time"`
		MediaType   string    `json:"datacontenttype"`
		Data        any       `json:"data"`
	}{"1.0", e.Type, e.Source, e.ID, e.Time, "application/json", e.Data})
}

// Message is a call with POST.
type Message struct {
	Address string
	// Secret signs the call by the Standard Webhooks scheme (whsec_ and base64), if there is one.
	Secret string
	// ID is the same for every try of the same call.
	ID string
	// Headers are sent besides those that are ours.
	Headers map[string]string
	// Payload is sent as JSON, an Event as a CloudEvent.
	Payload any
	// Most is how much of the answer's body is read, in bytes; 0 means 2,000.
	Most int64
}

// Post sends payload to an address: see Send.
func (c *Caller) Post(ctx context.Context, address, secret, id string, payload any) error {
	_, err := c.Send(ctx, Message{Address: address, Secret: secret, ID: id, Payload: payload})
	return err
}

// maxAnswer is how much of the answer to a call is read.
const maxAnswer = 2000

// Send makes a call. Any 2xx answer is success; a redirect is not followed. It returns the
// answer's status and the beginning of its body. Its error is an *AnswerError if there was
// another answer.
func (c *Caller) Send(ctx context.Context, m Message) (Answer, error) {
	body, err := json.Marshal(m.Payload)
	if err != nil {
		return Answer{}, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, m.Address, bytes.NewReader(body))
	if err != nil {
		return Answer{}, err
	}
	for name, value := range m.Headers {
		req.Header.Set(name, value)
	}
	req.Header.Set("Content-Type", "application/json")
	if _, is := m.Payload.(Event); is {
		req.Header.Set("Content-Type", "application/cloudevents+json")
	}
	req.Header.Set("Idempotency-Key", strconv.Quote(m.ID))
	if m.Secret != "" {
		if err := Sign(req.Header, m.Secret, m.ID, time.Now(), body); err != nil {
			return Answer{}, err
		}
	}
	resp, err := c.client.Do(req)
	if err != nil {
		return Answer{}, err
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, cmp.Or(m.Most, maxAnswer)))
	answer := Answer{resp.StatusCode, string(bytes.TrimSpace(text)), ""}
	if at, err := resp.Location(); err == nil {
		answer.Location = at.String()
	}
	if resp.StatusCode/100 == 2 {
		return answer, nil
	}
	return answer, &AnswerError{
		Status: resp.StatusCode, RetryAfter: retryAfter(resp.Header.Get("Retry-After"), time.Now()),
		text: fmt.Sprintf("%s answered %s: %s", req.URL.Host, resp.Status, answer.Text[:min(len(answer.Text), 500)]),
	}
}

// Answer is what came back.
type Answer struct {
	Status int
	// Text is the beginning of the body.
	Text string
	// Location is the header of that name, made absolute.
	Location string
}

// AnswerError is the error of a call that was answered, but not taken.
type AnswerError struct {
	Status int
	// RetryAfter is how long the answer says to wait; 0 if it does not.
	RetryAfter time.Duration
	text       string
}

// Error implements error.
func (e *AnswerError) Error() string { return e.text }

// retryAfter reads the header of that name (RFC 9110, 10.2.3): seconds or a date.
func retryAfter(text string, now time.Time) time.Duration {
	if n, err := strconv.Atoi(text); err == nil {
		return time.Duration(max(0, min(n, 1<<30))) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, at.Sub(now))
	}
	return 0
}

// maxFetched bounds what Get reads.
const maxFetched = 1 << 20

// Get fetches what is at an address, 1 MiB at most.
func (c *Caller) Get(ctx context.Context, address string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	resp, err := c.client.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, maxFetched+1))
	if err == nil && len(body) > maxFetched {
		err = fmt.Errorf("%s answered with more than %d bytes", req.URL.Host, maxFetched)
	}
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s answered %s", req.URL.Host, resp.Status)
	}
	return body, err
}

// Sign sets the headers of the Standard Webhooks scheme for a body.
func Sign(h http.Header, secret, id string, at time.Time, body []byte) error {
	w, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		return fmt.Errorf("the secret is not whsec_ and base64")
	}
	signature, err := w.Sign(id, at, body)
	if err != nil {
		return err
	}
	h.Set(standardwebhooks.HeaderWebhookID, id)
	h.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(at.Unix(), 10))
	h.Set(standardwebhooks.HeaderWebhookSignature, signature)
	return nil
}
