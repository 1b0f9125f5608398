package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"ubiquon/internal/api"
)

// ReadQuestion is a read to be examined: REST or GraphQL.
type ReadQuestion struct {
	// Request is a REST read, from the plural on, as in /notices?limit=3.
	Request string `json:"request,omitempty"`
	// Query, or DocumentID, is a GraphQL one.
	Query         string          `json:"query,omitempty"`
	OperationName string          `json:"operationName,omitempty"`
	Variables     json.RawMessage `json:"variables,omitempty"`
	DocumentID    string          `json:"documentId,omitempty"`
	Edition       string          `json:"edition,omitempty"`
	// As is who reads: empty for the client's own key, everyone, or a key by id, name
	// or secret.
	As string `json:"as,omitempty"`
	// Language is an Accept-Language header.
	Language string `json:"language,omitempty"`
	Lenient  bool   `json:"lenient,omitempty"`
	// Explain has PostgreSQL tell how it runs the statements.
	Explain bool `json:"explain,omitempty"`
}

// Examine runs a read and tells all about it.
func (rs *Reads) Examine(ctx context.Context, q ReadQuestion) (out api.Examined, err error) {
	return out, rs.c.call(ctx, http.MethodPost, "/reads", q, &out)
}

// SavedReads lists the reads that people have kept.
func (rs *Reads) SavedReads(ctx context.Context) ([]api.SavedRead, error) {
	var out struct{ Items []api.SavedRead }
	err := rs.c.call(ctx, http.MethodGet, "/reads/saved", nil, &out)
	return out.Items, err
}

// SaveRead keeps a read under a name.
func (rs *Reads) SaveRead(ctx context.Context, name string, read json.RawMessage) (out api.SavedRead, err error) {
	return out, rs.c.call(ctx, http.MethodPost, "/reads/saved", map[string]any{"name": name, "read": read}, &out)
}

// ForgetRead throws a kept read away.
func (rs *Reads) ForgetRead(ctx context.Context, id string) error {
	return rs.c.call(ctx, http.MethodDelete, "/reads/saved/"+url.PathEscape(id), nil, &struct{}{})
}

// Documents lists the trusted GraphQL documents.
func (rs *Reads) Documents(ctx context.Context) ([]api.TrustedDocument, error) {
	var out struct{ Items []api.TrustedDocument }
	err := rs.c.call(ctx, http.MethodGet, "/documents", nil, &out)
	return out.Items, err
}

// AddDocument trusts a GraphQL document.
func (rs *Reads) AddDocument(ctx context.Context, name, text string) (out api.TrustedDocument, err error) {
	return out, rs.c.call(ctx, http.MethodPost, "/documents", map[string]string{"name": name, "text": text}, &out)
}

// RemoveDocument ends the trust in a document, by id or name.
func (rs *Reads) RemoveDocument(ctx context.Context, name string) error {
	return rs.c.call(ctx, http.MethodDelete, "/documents/"+url.PathEscape(name), nil, &struct{}{})
}
