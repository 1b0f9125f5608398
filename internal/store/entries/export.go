package entries

import (
	"context"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store/writing"
)

// Exported is an entry with everything that an export says of it.
type Exported struct {
	content.Entry
	Newest, Live content.Fields
	// Revisions are the earlier ones, the oldest first, if they were asked for.
	Revisions []content.Revision
}

// EachEntry calls each for every entry of an origin, of some types or, with none,
// of all, in the order of ids. It reads some at a time, not one snapshot.
func (es *Entries) EachEntry(
	ctx context.Context, types []string, origin string, revisions bool, each func(*Exported) error,
) error {
	const atOnce = 200
	for last := ""; ; {
		rows, err := es.db.Conns(ctx).
			Query(ctx, `select `+writing.EntryColumns+`, e.live, r.number, r.at, r.by, r.message, r.fields
			from (select * from entry where environment = $1 and origin = $2 and ($3::text[] is null or type =
			any($3)) and revision > 0 and id > $4 order by id limit $5) e
			join revision r on r.environment = e.environment and r.entry = e.id and (r.number = e.revision or $6)
			order by e.id, r.number`,
				es.environment, origin, types, last, atOnce, revisions)
		if err != nil {
			return err
		}
		var found []*Exported
		for rows.Next() {
			var e Exported
			var v content.Revision
			if err := rows.Scan(append(writing.EntryTargets(&e.Entry), &e.Live, &v.Number, &v.At, &v.By, &v.Message,
				&v.Fields)...); err != nil {
				rows.Close()
				return err
			}
			if len(found) == 0 || found[len(found)-1].ID != e.ID {
				found = append(found, &e)
			}
			if now := found[len(found)-1]; v.Number == now.Revision {
				now.Newest = v.Fields
			} else {
				now.Revisions = append(now.Revisions, v)
			}
		}
		if rows.Close(); rows.Err() != nil {
			return rows.Err()
		}
		for _, e := range found {
			if err := each(e); err != nil {
				return err
			}
		}
		if len(found) < atOnce {
			return nil
		}
		last = found[len(found)-1].ID
	}
}
