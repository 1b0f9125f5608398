package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"ubiquon/internal/api"
)

// Examine runs a read and tells all about it.
func (rs *Reads) Examine(ctx context.Context, q api.ReadQuestion) (out api.Examined, err error) {
	return out, rs.c.call(ctx, http.MethodPost, "/reads", q, &out)
}

// SavedReads lists the reads that people have kept.
func (rs *Reads) SavedReads(ctx context.Context) ([]api.SavedRead, error) {
	var out api.Items[api.SavedRead]
	err := rs.c.call(ctx, http.MethodGet, "/reads/saved", nil, &out)
	return out.Items, err
}

// SaveRead keeps a read under a name.
func (rs *Reads) SaveRead(ctx context.Context, name string, read json.RawMessage) (out api.SavedRead, err error) {
	return out, rs.c.call(ctx, http.MethodPost, "/reads/saved", api.NewSavedRead{Name: name, Read: read}, &out)
}

// ForgetRead throws a kept read away.
func (rs *Reads) ForgetRead(ctx context.Context, id string) error {
	return rs.c.call(ctx, http.MethodDelete, "/reads/saved/"+url.PathEscape(id), nil, &api.None{})
}

// Documents lists the trusted GraphQL documents.
func (rs *Reads) Documents(ctx context.Context) ([]api.TrustedDocument, error) {
	var out api.Items[api.TrustedDocument]
	err := rs.c.call(ctx, http.MethodGet, "/documents", nil, &out)
	return out.Items, err
}

// AddDocument trusts a GraphQL document.
func (rs *Reads) AddDocument(ctx context.Context, name, text string) (out api.TrustedDocument, err error) {
	return out, rs.c.call(ctx, http.MethodPost, "/documents", api.NewDocument{Name: name, Text: text}, &out)
}

// RemoveDocument ends the trust in a document, by id or name.
func (rs *Reads) RemoveDocument(ctx context.Context, name string) error {
	return rs.c.call(ctx, http.MethodDelete, "/documents/"+url.PathEscape(name), nil, &api.None{})
}

// Views lists the views of lists that people have saved.
func (rs *Reads) Views(ctx context.Context) ([]api.SavedView, error) {
	var out api.Items[api.SavedView]
	err := rs.c.call(ctx, http.MethodGet, "/views", nil, &out)
	return out.Items, err
}

// SaveView saves a view, in place of the one of its page and name.
func (rs *Reads) SaveView(ctx context.Context, v api.NewSavedView) (out api.SavedView, err error) {
	return out, rs.c.call(ctx, http.MethodPost, "/views", v, &out)
}

// RemoveView removes a saved view.
func (rs *Reads) RemoveView(ctx context.Context, id string) error {
	return rs.c.call(ctx, http.MethodDelete, "/views/"+url.PathEscape(id), nil, &api.None{})
}
