package writing

import (
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
)

// togetherLock is how long writes that are committed together wait for an entry that
// somebody else holds, before each goes its own way.
const togetherLock = "500ms"

const EntryColumns = `e.id, e.type, e.origin, e.origin_key, e.origin_version, e.revision, e.published_revision,
	e.first_published, e.published, e.updated,
	e.behind, e.review, e.retired, e.withheld`

// EntryTargets returns where the columns of EntryColumns are scanned to.
func EntryTargets(e *content.Entry) []any {
	return []any{
		&e.ID, &e.Type, &e.Origin, &e.OriginKey, &e.OriginVersion, &e.Revision, &e.PublishedRevision,
		&e.FirstPublished, &e.Published, &e.Updated, &e.Behind, &e.Review, &e.Retired, &e.Withheld,
	}
}

// read queues what locks the edits' entries and reads them.
func (tx *transaction) read(b *db.Batch, edits []Edit) {
	var all, refs, asked, hashes []string
	var numbers []int
	for i := range edits {
		e := &edits[i]
		all = append(all, e.ID)
		for _, n := range []int{e.Restore, e.PublishRevision} {
			if n != 0 {
				asked, numbers = append(asked, e.ID), append(numbers, n)
			}
		}
		for _, fields := range []content.Fields{e.Save, e.Published} {
			if hash, ok := fields["hash"].(string); ok && e.Type == model.FileType {
				hashes = append(hashes, hash)
			}
		}
		if t := tx.m.Type(e.Type); t != nil && e.Save != nil && !e.Loose {
			for _, leaf := range content.Leaves(t, e.Save, false) {
				id, _ := leaf.Value.(string)
				if leaf.Field.Kind == model.File {
					id = content.FileID(leaf.Value)
				}
				if (leaf.Field.Kind == model.Reference || leaf.Field.Kind == model.File) && content.ValidID(id) {
					refs = append(refs, id)
				}
			}
		}
	}
	b.Query(func(r pgx.Rows) error {
		h := &heldEntry{documents: map[string]map[string]content.Document{content.Published: {}, content.Preview: {}}}
		var now time.Time
		if err := r.Scan(append(EntryTargets(&h.Entry), &h.live, &now)...); err != nil {
			return err
		}
		if now.After(tx.now) {
			tx.now = now
		}
		tx.held[h.ID] = h
		return nil
	}, `select `+EntryColumns+
		`, e.live, greatest(clock_timestamp(), e.updated) from entry e where e.environment = $1 and e.id = any($2)
			order by e.id for update`, tx.s.environment, all)
	b.Query(func(r pgx.Rows) error {
		var id, by string
		var number int
		var fields content.Fields
		if err := r.Scan(&id, &number, &by, &fields); err != nil {
			return err
		}
		h := tx.held[id]
		if number == h.Revision {
			h.newest, h.writer = fields, by
		}
		if h.revisions == nil {
			h.revisions = map[int]content.Fields{}
		}
		h.revisions[number] = fields
		return nil
	}, `select r.entry, r.number, r.by, r.fields from (select id, revision from entry where environment = $1 and
		id = any($2) union select * from unnest($3::text[], $4::int[])) n (entry, number)
		join revision r on r.environment = $1 and r.entry = n.entry and r.number = n.number`,
		tx.s.environment, all, asked, numbers)
	tx.s.QueueDocumentsOf(
		b, all, func(edition string, d content.Document) { tx.held[d.Entry].documents[edition][d.Locale] = d },
	)
	tx.readReferred(b, refs)
	tx.readFacts(b, hashes)
}

// readReferred queues what reads entries that references, and files that fields, lead to.
func (tx *transaction) readReferred(b *db.Batch, ids []string) {
	if len(ids) == 0 {
		return
	}
	b.Query(func(r pgx.Rows) error {
		var id, typ string
		var facts content.Fields
		err := r.Scan(&id, &typ, &facts)
		tx.there[id], tx.facts[id] = typ, facts
		return err
	}, `select id, type, case when type = 'file' then (select fields from revision r where r.environment = e.environment
		and r.entry = e.id and r.number = e.revision) end
		from entry e where environment = $1 and id = any($2) and revision > 0`, tx.s.environment, ids)
}

// readFacts queues what reads what bytes tell. They are locked: garbage is collected of what is not.
func (tx *transaction) readFacts(b *db.Batch, hashes []string) {
	if len(hashes) == 0 {
		return
	}
	b.Query(func(r pgx.Rows) error {
		var hash string
		var facts content.Fields
		err := r.Scan(&hash, &facts)
		tx.facts[hash] = facts
		return err
	}, `select hash, facts from blob where environment = $1 and hash = any($2) for share`, tx.s.environment, hashes)
}
