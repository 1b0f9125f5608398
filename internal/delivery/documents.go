package delivery

import (
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"strings"
	"sync/atomic"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
)

// Documents are the trusted GraphQL documents and the saved reads of an environment. It is
// safe for concurrent use.
type Documents struct {
	replica   *replication.Replica
	delivery  *Service
	store     *store.Store
	log       *slog.Logger
	documents atomic.Pointer[map[string]string] // texts of trusted documents, by id
}

// NewDocuments returns documents that are known once Load has returned.
func NewDocuments(r *replication.Replica, delivery *Service) *Documents {
	return &Documents{replica: r, delivery: delivery, store: r.Store(), log: r.Log()}
}

// Load takes up the GraphQL documents that may be named.
func (ds *Documents) Load(ctx context.Context) error {
	all, err := ds.store.Documents.TrustedDocuments(ctx)
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
	ds.documents.Store(&texts)
	return nil
}

// Document returns the text of a trusted GraphQL document, by its id or name.
func (ds *Documents) Document(id string) (text string, known bool) {
	text, known = (*ds.documents.Load())[id]
	return text, known
}

// Documents lists the trusted GraphQL documents.
func (ds *Documents) Documents(ctx context.Context) ([]api.TrustedDocument, error) {
	return ds.store.Documents.TrustedDocuments(ctx)
}

// Trust keeps a GraphQL document, which must be one that this model can answer:
// check is told its text. When it returns, this node answers the document by its id.
func (ds *Documents) Trust(ctx context.Context, name, text, by string) (api.TrustedDocument, error) {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 200 {
		return api.TrustedDocument{}, api.BadParameter("name", "a document has a name of 1 to 200 bytes")
	}
	if errs := ds.delivery.Schema().Check(text); len(errs) > 0 {
		return api.TrustedDocument{}, api.BadParameter("text", "%s", errs.Error())
	}
	d, err := ds.store.Documents.AddTrustedDocument(ctx, name, text, content.Cause{Kind: "user", Name: by})
	if err != nil {
		return d, err
	}
	return d, ds.replica.CatchUp(ctx)
}

// Distrust ends the trust in a document, by id or name.
func (ds *Documents) Distrust(ctx context.Context, name, by string) error {
	if err := ds.store.Documents.RemoveTrustedDocument(ctx, name, content.Cause{Kind: "user", Name: by}); err != nil {
		return err
	}
	return ds.replica.CatchUp(ctx)
}

// SavedReads lists the reads that people have kept.
func (ds *Documents) SavedReads(ctx context.Context) ([]api.SavedRead, error) {
	return ds.store.Documents.SavedReads(ctx)
}

// SaveRead keeps a read under a name, in place of the one that has it.
func (ds *Documents) SaveRead(
	ctx context.Context, name string, read json.RawMessage, by string,
) (api.SavedRead, error) {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 200 {
		return api.SavedRead{}, api.BadParameter("name", "a saved read has a name of 1 to 200 bytes")
	}
	if len(read) > 64<<10 {
		return api.SavedRead{}, api.BadParameter("read", "a saved read has at most 64 KiB")
	}
	out, err := ds.store.Documents.SaveRead(ctx, name, read, by)
	if err != nil {
		return out, err
	}
	return out, ds.store.Audit.Add(ctx, content.UserCause(by), "read save", name, nil, json.RawMessage(read))
}

// ForgetRead throws a kept read away.
func (ds *Documents) ForgetRead(ctx context.Context, id, by string) error {
	if err := ds.store.Documents.ForgetRead(ctx, id); err != nil {
		return err
	}
	return ds.store.Audit.Add(ctx, content.UserCause(by), "read forget", id, nil, nil)
}

// Changed loads the trusted documents if changes are about them.
func (ds *Documents) Changed(ctx context.Context, changes []content.Change) error {
	if !slices.ContainsFunc(changes, func(c content.Change) bool {
		return c.Kind == content.AccessChange && c.What == content.DocumentAccess
	}) {
		return nil
	}
	return ds.Load(ctx)
}

// Views lists the views of lists that people have saved.
func (ds *Documents) Views(ctx context.Context) ([]api.SavedView, error) {
	return ds.store.Views.List(ctx)
}

// viewPages are the pages whose lists can be saved as views.
var viewPages = []string{"entries", "events", "audit"}

// SaveView saves a view, in place of the one of its page and name.
func (ds *Documents) SaveView(ctx context.Context, v api.NewSavedView, by string) (api.SavedView, error) {
	v.Name = strings.TrimSpace(v.Name)
	switch {
	case !slices.Contains(viewPages, v.Page):
		return api.SavedView{}, api.BadParameter(
			"page", "%q has no views; take one of %s", v.Page, strings.Join(viewPages, ", "),
		)
	case v.Name == "" || len(v.Name) > 100:
		return api.SavedView{}, api.BadParameter("name", "a view has a name of 1 to 100 bytes")
	case len(v.Query) > 4000:
		return api.SavedView{}, api.BadParameter("query", "a view's query has at most 4000 bytes")
	}
	out, err := ds.store.Views.Save(ctx, api.SavedView{Page: v.Page, Name: v.Name, Query: v.Query, By: by})
	if err != nil {
		return out, err
	}
	return out, ds.store.Audit.Add(ctx, content.UserCause(by), "view save", v.Page+" "+v.Name, nil, v)
}

// RemoveView removes a saved view. Its error is db.ErrNotFound when there is none.
func (ds *Documents) RemoveView(ctx context.Context, id, by string) error {
	if err := ds.store.Views.Remove(ctx, id); err != nil {
		return err
	}
	return ds.store.Audit.Add(ctx, content.UserCause(by), "view remove", id, nil, nil)
}
