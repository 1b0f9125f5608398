package event

import (
	"encoding/json"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"unicode"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
)

// decodeCloudEvents reads CloudEvents 1.0 in structured, binary or batched mode.
func decodeCloudEvents(header http.Header, body []byte) ([]Announcement, error) {
	media, _, _ := mime.ParseMediaType(header.Get("Content-Type"))
	switch {
	case media == cloudevents.ApplicationCloudEventsJSON:
		var e cloudevents.Event
		if err := json.Unmarshal(body, &e); err != nil {
			return nil, fmt.Errorf("the body is no CloudEvents event: %w", err)
		}
		one, err := announced(&e, body)
		return []Announcement{one}, err
	case media == cloudevents.ApplicationCloudEventsBatchJSON:
		var each []json.RawMessage
		if err := json.Unmarshal(body, &each); err != nil {
			return nil, fmt.Errorf("the body is no batch of CloudEvents events: %w", err)
		}
		if len(each) == 0 || len(each) > MaxAtOnce {
			return nil, fmt.Errorf("the batch has %d events; it may have 1 to %d", len(each), MaxAtOnce)
		}
		out := make([]Announcement, len(each))
		for i, src := range each {
			var e cloudevents.Event
			err := json.Unmarshal(src, &e)
			if err == nil {
				out[i], err = announced(&e, src)
			}
			if err != nil {
				return nil, fmt.Errorf("event %d of the batch: %w", i+1, err)
			}
		}
		return out, nil
	case header.Get("ce-specversion") != "":
		e, err := fromHeaders(header)
		if err != nil {
			return nil, fmt.Errorf("the headers are no CloudEvents event: %w", err)
		}
		one, err := announced(e, body)
		return []Announcement{one}, err
	}
	return nil, &ContentTypeError{
		"send CloudEvents 1.0: structured (application/cloudevents+json), a batch of them " +
			"(application/cloudevents-batch+json), or in binary mode with ce- headers",
	}
}

// fromHeaders reads the attributes of an event in binary mode: of headers that begin with ce-, with
// percent-encoding.
func fromHeaders(header http.Header) (*cloudevents.Event, error) {
	attributes := map[string]string{}
	for name, values := range header {
		attribute, is := strings.CutPrefix(strings.ToLower(name), "ce-")
		if !is {
			continue
		}
		value, err := url.PathUnescape(values[0])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		attributes[attribute] = value
	}
	src, err := json.Marshal(attributes)
	if err != nil {
		return nil, err
	}
	var e cloudevents.Event
	return &e, json.Unmarshal(src, &e)
}

// announced reads an event. The last part of its type says what happened (…saved, …published,
// …unpublished, …deleted, …ping), its subject what it happened to (kind/key).
func announced(e *cloudevents.Event, body []byte) (Announcement, error) {
	out := Announcement{Body: body}
	if err := e.Validate(); err != nil {
		return out, fmt.Errorf("the event is not valid: %w", err)
	}
	if e.SpecVersion() != "1.0" {
		return out, fmt.Errorf("the event has specversion %q; 1.0 is read here", e.SpecVersion())
	}
	out.ID = e.Source() + " " + e.ID()
	out.Kind = e.Type()[strings.LastIndexByte(e.Type(), '.')+1:]
	if !slices.Contains(Kinds, out.Kind) {
		return out, fmt.Errorf("the event's type %q does not end in one of %s", e.Type(), strings.Join(Kinds, ", "))
	}
	if !e.Time().IsZero() {
		at := e.Time().UTC()
		out.At = &at
	}
	if out.Kind == Ping {
		return out, nil
	}
	var ok bool
	if out.OriginKind, out.Key, ok = strings.Cut(e.Subject(), "/"); !ok || out.OriginKind == "" || out.Key == "" ||
		strings.ContainsFunc(out.Key, unicode.IsControl) {
		return out, fmt.Errorf("the event's subject %q is not kind/key, as in reports/R-1007", e.Subject())
	}
	return out, nil
}
