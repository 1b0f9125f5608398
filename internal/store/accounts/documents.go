package accounts

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
)

// Documents are the trusted GraphQL documents and the saved reads of an environment. It is safe
// for concurrent use.
type Documents struct {
	db          *db.DB
	environment string
	keys        *Keys
}

// NewDocuments returns the documents of an environment.
func NewDocuments(d *db.DB, environment string, keys *Keys) *Documents {
	return &Documents{d, environment, keys}
}

// DocumentID returns the id of a GraphQL document.
func DocumentID(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "sha256:" + hex.EncodeToString(sum[:])
}

// TrustedDocuments returns all of them, by name.
func (ds *Documents) TrustedDocuments(ctx context.Context) ([]api.TrustedDocument, error) {
	rows, err := ds.db.Conns(ctx).
		Query(ctx, `select id, name, text, added, by from trusted_document where environment = $1 order by name,
			added`, ds.environment)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.TrustedDocument])
}

// AddTrustedDocument keeps a document and announces it to all nodes. One that is
// kept already only gets the name.
func (ds *Documents) AddTrustedDocument(
	ctx context.Context, name, text string, cause content.Cause,
) (api.TrustedDocument, error) {
	d := api.TrustedDocument{ID: DocumentID(text), Name: name, Text: text, By: cause.Name}
	err := ds.keys.changeAccess(ctx, cause, content.DocumentAccess, d.ID, func(b *db.Batch) {
		b.Query(
			func(r pgx.Rows) error { return r.Scan(&d.Added) },
			`insert into trusted_document (environment, id, name, text, by) values ($1, $2, $3, $4, $5)
			on conflict (environment, id) do update set name = excluded.name returning added`,
			ds.environment,
			d.ID,
			name,
			text,
			d.By,
		)
	}, func() api.AuditRecord {
		return audit.NewRecord(audit.ActorFrom(ctx, cause), "document add", name, nil, map[string]string{"id": d.ID})
	})
	return d, err
}

// RemoveTrustedDocument ends the trust in a document, by id or name. Its error is
// ErrNotFound when there is none.
func (ds *Documents) RemoveTrustedDocument(ctx context.Context, name string, cause content.Cause) error {
	var id string
	err := ds.db.Conns(ctx).
		QueryRow(ctx, `select id from trusted_document where environment = $1 and (id = $2 or name = $2) order by
			added desc limit 1`, ds.environment, name).
		Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		return fmt.Errorf("document %q: %w", name, db.ErrNotFound)
	}
	if err != nil {
		return err
	}
	return ds.keys.changeAccess(ctx, cause, content.DocumentAccess, id, func(b *db.Batch) {
		b.Exec(`delete from trusted_document where environment = $1 and id = $2`, ds.environment, id)
	}, func() api.AuditRecord {
		return audit.NewRecord(audit.ActorFrom(ctx, cause), "document remove", name, map[string]string{"id": id}, nil)
	})
}

// SavedReads returns all of them, by name.
func (ds *Documents) SavedReads(ctx context.Context) ([]api.SavedRead, error) {
	rows, err := ds.db.Conns(ctx).
		Query(ctx, `select id, name, read, saved, by from saved_read where environment = $1 order by
			name`, ds.environment)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[api.SavedRead])
}

// SaveRead keeps a read under a name, in place of the one that has it.
func (ds *Documents) SaveRead(ctx context.Context, name string, read json.RawMessage,
	by string,
) (api.SavedRead, error) {
	out := api.SavedRead{Name: name, Read: read, By: by}
	err := ds.db.Conns(ctx).
		QueryRow(ctx, `insert into saved_read (environment, id, name, read, by) values ($1, $2, $3, $4, $5)
		on conflict (environment, name) do update set read = excluded.read, by = excluded.by, saved =
		clock_timestamp() returning id, saved`,
			ds.environment, strings.ToLower(rand.Text()[:8]), name, read, by).
		Scan(&out.ID, &out.Saved)
	return out, err
}

// ForgetRead throws a kept read away. Its error is ErrNotFound when there is none.
func (ds *Documents) ForgetRead(ctx context.Context, id string) error {
	tag, err := ds.db.Conns(ctx).
		Exec(ctx, `delete from saved_read where environment = $1 and id = $2`, ds.environment, id)
	if err == nil && tag.RowsAffected() == 0 {
		return fmt.Errorf("saved read %q: %w", id, db.ErrNotFound)
	}
	return err
}
