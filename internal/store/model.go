package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
)

// Model returns the environment's model and its version, ErrNotFound before
// the first ApplyModel.
func (s *Store) Model(ctx context.Context) (*model.Model, int64, error) {
	var src []byte
	var version int64
	err := s.Pool.QueryRow(ctx, `select e.model, h.model_version from environment e join head h on h.environment = e.name where e.name = $1`, s.Environment).Scan(&src, &version)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, 0, fmt.Errorf("environment %s: %w", s.Environment, ErrNotFound)
	}
	if err != nil {
		return nil, 0, err
	}
	m, err := model.FromJSON(src)
	return m, version, err
}

// ApplyModel makes m the environment's model, which it creates if need be, and
// lays all documents out anew, in one transaction that keeps writers out. It
// does nothing when m is the model already.
func (s *Store) ApplyModel(ctx context.Context, m *model.Model, cause content.Cause) error {
	src, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return s.inBatches(ctx, func(conn *pgxpool.Conn) error {
		var held []byte
		var b batch
		b.exec(`begin`)
		b.exec(`select pg_advisory_xact_lock($1, hashtext($2))`, lockContent, s.Environment)
		b.query(func(r pgx.Rows) error { return r.Scan(&held) }, `select model from environment where name = $1`, s.Environment)
		if err := b.run(ctx, conn); err != nil {
			return err
		}
		if held != nil {
			if old, err := model.FromJSON(held); err == nil {
				if same, _ := json.Marshal(old); bytes.Equal(same, src) {
					return nil
				}
			}
		}
		var w writes
		w.model = src
		if held != nil {
			if err := s.relay(ctx, conn, m, &w); err != nil {
				return err
			}
		}
		w.changes = []content.Change{{Kind: content.ModelChange, Cause: cause}}
		_, err := s.finish(ctx, conn, &w)
		return err
	})
}

// relay lays every entry's documents out by the new model. Values that no
// longer fit stay in the revisions and are left out of the documents.
func (s *Store) relay(ctx context.Context, conn *pgxpool.Conn, m *model.Model, w *writes) error {
	rows, err := conn.Query(ctx, `select `+entryColumns+`, coalesce(p.fields, 'null'), coalesce(n.fields, 'null') from entry e
		left join revision p on p.environment = e.environment and p.entry = e.id and p.number = e.published_revision
		left join revision n on n.environment = e.environment and n.entry = e.id and n.number = e.revision
		where e.environment = $1`, s.Environment)
	if err != nil {
		return err
	}
	defer rows.Close()
	w.deleteAll = true
	for rows.Next() {
		var e content.Entry
		var live, newest content.Fields
		if err := rows.Scan(append(entryTargets(&e), &live, &newest)...); err != nil {
			return err
		}
		t := m.Type(e.Type)
		if t == nil {
			continue
		}
		state := entryState{Entry: e, live: live, newest: newest}
		for _, edition := range content.Editions {
			for _, doc := range state.documents(m, t, edition) {
				if err := w.document(edition, doc); err != nil {
					return err
				}
			}
		}
	}
	return rows.Err()
}
