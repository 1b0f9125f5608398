package gateway

import (
	"context"
	"encoding/json"
	"strings"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store"
)

// loadDocuments takes up the GraphQL documents that may be named.
func (g *Gateway) loadDocuments(ctx context.Context) error {
	all, err := g.store.TrustedDocuments(ctx)
	if err != nil {
		return err
	}
	texts := make(map[string]string, len(all))
	for _, d := range all {
		texts[d.Name] = d.Text // by the id that somebody else's tool gave it, too
	}
	for _, d := range all {
		texts[d.ID] = d.Text
	}
	g.documents.Store(&texts)
	return nil
}

// Document returns the text of a trusted GraphQL document, by its id or name.
func (g *Gateway) Document(id string) (text string, known bool) {
	text, known = (*g.documents.Load())[id]
	return text, known
}

// Documents lists the trusted GraphQL documents.
func (g *Gateway) Documents(ctx context.Context) ([]store.TrustedDocument, error) {
	return g.store.TrustedDocuments(ctx)
}

// Trust keeps a GraphQL document, which must be one that this model can answer:
// check is told its text. When it returns, this node answers the document by its id.
func (g *Gateway) Trust(ctx context.Context, name, text, by string) (store.TrustedDocument, error) {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 200 {
		return store.TrustedDocument{}, badAccess("name", "a document has a name of 1 to 200 bytes")
	}
	if errs := g.Schema().Check(text); len(errs) > 0 {
		return store.TrustedDocument{}, badAccess("text", "%s", errs.Error())
	}
	d, err := g.store.AddTrustedDocument(ctx, name, text, content.Cause{Kind: "user", Name: by})
	if err != nil {
		return d, err
	}
	return d, g.catchUp(ctx)
}

// Distrust ends the trust in a document, by id or name.
func (g *Gateway) Distrust(ctx context.Context, name, by string) error {
	if err := g.store.RemoveTrustedDocument(ctx, name, content.Cause{Kind: "user", Name: by}); err != nil {
		return err
	}
	return g.catchUp(ctx)
}

// SavedReads lists the reads that people have kept.
func (g *Gateway) SavedReads(ctx context.Context) ([]store.SavedRead, error) {
	return g.store.SavedReads(ctx)
}

// SaveRead keeps a read under a name, in place of the one that has it.
func (g *Gateway) SaveRead(ctx context.Context, name string, read json.RawMessage, by string) (store.SavedRead, error) {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 200 {
		return store.SavedRead{}, badAccess("name", "a saved read has a name of 1 to 200 bytes")
	}
	if len(read) > 64<<10 {
		return store.SavedRead{}, badAccess("read", "a saved read has at most 64 KiB")
	}
	out, err := g.store.SaveRead(ctx, name, read, by)
	if err != nil {
		return out, err
	}
	return out, g.Note(ctx, by, "read save", name, nil, json.RawMessage(read))
}

// ForgetRead throws a kept read away.
func (g *Gateway) ForgetRead(ctx context.Context, id, by string) error {
	if err := g.store.ForgetRead(ctx, id); err != nil {
		return err
	}
	return g.Note(ctx, by, "read forget", id, nil, nil)
}
