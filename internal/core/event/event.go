// Package event verifies and decodes the announcements of origins (Standard Webhooks,
// CloudEvents). It does not store or process them.
package event

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// What an announcement may say of an entry.
const (
	Saved       = "saved"
	Published   = "published"
	Unpublished = "unpublished"
	Deleted     = "deleted"
	Ping        = "ping" // something changed, without saying what
)

// Kinds lists what an announcement may say.
var Kinds = []string{Saved, Published, Unpublished, Deleted, Ping}

// MaxBody is how many bytes an announcement may have.
const MaxBody = 1 << 20

// Tolerance is how far a signature's timestamp may be from now.
const Tolerance = 5 * time.Minute

// Decoded is an announcement in our words.
type Decoded struct {
	Kind string `json:"kind"`
	// OriginKind and Key are what the origin calls the entry's kind and the entry:
	// the two parts of a CloudEvents subject such as reports/R-1007.
	OriginKind string `json:"originKind,omitempty"`
	Key        string `json:"key,omitempty"`
	// At is when it happened, by the origin's clock; nil if it does not say.
	At *time.Time `json:"at,omitempty"`
}

// ErrContentType is the error of a body in a format that nobody here reads.
var ErrContentType = errors.New(
	"send a CloudEvents 1.0 event in structured JSON mode, with the content type application/cloudevents+json",
)

// DecodeCloudEvent reads a CloudEvents 1.0 event in structured JSON mode. The
// last part of its type says what happened (…saved, …published, …unpublished,
// …deleted, …ping), its subject what it happened to (kind/key).
func DecodeCloudEvent(contentType string, body []byte) (Decoded, error) {
	media, _, err := mime.ParseMediaType(contentType)
	if err != nil || media != cloudevents.ApplicationCloudEventsJSON {
		return Decoded{}, ErrContentType
	}
	var e cloudevents.Event
	if err := json.Unmarshal(body, &e); err != nil {
		return Decoded{}, fmt.Errorf("the body is no CloudEvents event: %w", err)
	}
	if err := e.Validate(); err != nil {
		return Decoded{}, fmt.Errorf("the event is not valid: %w", err)
	}
	if e.SpecVersion() != "1.0" {
		return Decoded{}, fmt.Errorf("the event has specversion %q; 1.0 is read here", e.SpecVersion())
	}
	d := Decoded{Kind: e.Type()[strings.LastIndexByte(e.Type(), '.')+1:]}
	if !slices.Contains(Kinds, d.Kind) {
		return Decoded{}, fmt.Errorf(
			"the event's type %q does not end in one of %s", e.Type(), strings.Join(Kinds, ", "),
		)
	}
	if !e.Time().IsZero() {
		at := e.Time().UTC()
		d.At = &at
	}
	if d.Kind == Ping {
		return d, nil
	}
	var ok bool
	if d.OriginKind, d.Key, ok = strings.Cut(e.Subject(), "/"); !ok || d.OriginKind == "" || d.Key == "" ||
		strings.ContainsFunc(d.Key, unicode.IsControl) {
		return Decoded{}, fmt.Errorf("the event's subject %q is not kind/key, as in reports/R-1007", e.Subject())
	}
	return d, nil
}

// ErrNotProven is the error of an announcement whose sender is not proven. The
// text after it says why, without repeating anything secret.
var ErrNotProven = errors.New("not proven to come from the origin")

// Prove checks an announcement by the Standard Webhooks scheme: the headers
// webhook-id, webhook-timestamp and webhook-signature, made with any of the
// secrets (whsec_ and base64), at a time near now. Signatures are compared in
// constant time.
func Prove(secrets []string, header http.Header, body []byte, now time.Time) error {
	id, stamp := header.Get(standardwebhooks.HeaderWebhookID), header.Get(standardwebhooks.HeaderWebhookTimestamp)
	if id == "" || stamp == "" || header.Get(standardwebhooks.HeaderWebhookSignature) == "" {
		return fmt.Errorf(
			"%w: the headers webhook-id, webhook-timestamp and webhook-signature are needed", ErrNotProven,
		)
	}
	seconds, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil {
		return fmt.Errorf("%w: webhook-timestamp is not a number of seconds", ErrNotProven)
	}
	if off := now.Sub(time.Unix(seconds, 0)); off.Abs() > Tolerance {
		return fmt.Errorf(
			"%w: webhook-timestamp is %s off our clock, at most %s is allowed", ErrNotProven,
			off.Abs().Round(time.Second), Tolerance,
		)
	}
	for _, secret := range secrets {
		w, err := standardwebhooks.NewWebhook(secret)
		if err != nil {
			return errors.New("a configured secret is not whsec_ and base64")
		}
		if w.VerifyIgnoringTimestamp(body, header) == nil {
			return nil
		}
	}
	return fmt.Errorf("%w: the signature does not fit the body", ErrNotProven)
}
