package store

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
)

// Keys returns all keys, the newest first.
func (s *Store) Keys(ctx context.Context) ([]*access.Key, error) {
	rows, err := s.Pool.Query(ctx, `select id, name, hash, grants, site, created, expires from access_key where environment = $1 order by created desc, id`, s.Environment)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (*access.Key, error) {
		k := &access.Key{}
		var hash []byte
		err := r.Scan(&k.ID, &k.Name, &hash, &k.Grants, &k.Site, &k.Created, &k.Expires)
		copy(k.Hash[:], hash)
		return k, err
	})
}

// AddKey keeps a key and announces it in the change log; it fills in id and
// time of creation.
func (s *Store) AddKey(ctx context.Context, k *access.Key, cause content.Cause) error {
	k.ID = strings.ToLower(rand.Text()[:10])
	return s.changeAccess(ctx, cause, func(b *batch) {
		b.query(func(r pgx.Rows) error { return r.Scan(&k.Created) },
			`insert into access_key (environment, id, name, hash, grants, site, expires) values ($1, $2, $3, $4, $5, $6, $7) returning created`,
			s.Environment, k.ID, k.Name, k.Hash[:], k.Grants, k.Site, k.Expires)
	})
}

// RemoveKey ends a key. Its error is ErrNotFound if there is none of that id.
func (s *Store) RemoveKey(ctx context.Context, id string, cause content.Cause) error {
	found := false
	return s.changeAccess(ctx, cause, func(b *batch) {
		b.query(func(pgx.Rows) error { found = true; return nil }, `delete from access_key where environment = $1 and id = $2 returning id`, s.Environment, id)
		b.b.Queue(`select 1`).QueryRow(func(pgx.Row) error {
			if !found {
				return fmt.Errorf("key %s: %w", id, ErrNotFound)
			}
			return nil
		})
	})
}

func (s *Store) changeAccess(ctx context.Context, cause content.Cause, write func(*batch)) error {
	return s.inBatches(ctx, func(conn *pgxpool.Conn) error {
		var b batch
		b.exec(`begin`)
		write(&b)
		if err := b.run(ctx, conn); err != nil {
			return err
		}
		var last batch
		if err := s.queueChanges(&last, [][]content.Change{{{Kind: content.AccessChange, Cause: cause}}}); err != nil {
			return err
		}
		last.exec(`commit`)
		return last.run(ctx, conn)
	})
}
