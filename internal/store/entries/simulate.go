package entries

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
)

// SimulateChanges returns the change of the published edition that publishing an
// entry's newest state would make, or unpublishing it; none if readers would see no
// difference. Its error is ErrNotFound if there is no such entry.
func (es *Entries) SimulateChanges(
	ctx context.Context, m *model.Model, entry, what string,
) ([]content.Change, error) {
	held := map[string]map[string]content.Document{content.Published: {}, content.Preview: {}}
	typ := ""
	err := es.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var b db.Batch
		b.Query(
			func(r pgx.Rows) error { return r.Scan(&typ) },
			`select type from entry where environment = $1 and id = $2`, es.environment, entry,
		)
		es.writer.QueueDocumentsOf(
			&b, []string{entry}, func(edition string, d content.Document) { held[edition][d.Locale] = d },
		)
		return b.Run(ctx, conn)
	})
	if err != nil {
		return nil, err
	}
	t := m.Type(typ)
	if t == nil {
		return nil, fmt.Errorf("the entry %s: %w", entry, db.ErrNotFound)
	}
	before, after := held[content.Published], held[content.Preview]
	now := time.Now()
	for tag, d := range after { // it would be published now
		d.About.Published, d.About.Updated = &now, now
		after[tag] = d
	}
	if what == "unpublish" {
		after = nil
	}
	c := content.ChangeBetween(content.ContentChange, content.Published, entry, t, before, after)
	if c == nil {
		return nil, nil
	}
	c.What = map[string]string{"publish": "published", "unpublish": "unpublished"}[what]
	return []content.Change{*c}, nil
}
