package writing

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"slices"
	"sync"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
)

// convertAtOnce is how many entries are converted in one round trip.
const convertAtOnce = 500

// convert turns the stored content of one model into that of another.
func (wr *Writer) convert(
	ctx context.Context, conn *pgxpool.Conn, from, to *model.Model, o ModelOptions,
) (*conversion, error) {
	if !o.AllowLoss {
		all, err := consequences(ctx, conn, wr.environment, from, to)
		if err != nil {
			return nil, err
		}
		losing := slices.DeleteFunc(all, func(c api.Consequence) bool { return c.Severity != model.Loses })
		if len(losing) > 0 {
			return nil, &LossError{losing}
		}
	}
	c := conversion{s: wr, conn: conn, to: to, Conversion: model.Convert(from, to), progress: o.Progress}
	if c.progress == nil {
		c.progress = func(int, int) {}
	}
	var gone, plain, below []string
	for _, name := range c.AffectedTypes() {
		switch now := c.Type(name); {
		case now == nil:
			gone = append(gone, name)
		case len(now.Parents()) > 0:
			below = append(below, name)
		default:
			plain = append(plain, name)
		}
	}
	touched := slices.Concat(plain, below)
	if err := c.gone(ctx, gone); err != nil {
		return nil, err
	}
	if err := conn.QueryRow(ctx, `select count(*) from entry where environment = $1 and type = any($2) and revision
		> 0`, wr.environment, touched).Scan(&c.total); err != nil {
		return nil, err
	}
	var b db.Batch
	b.Exec(`delete from entry where environment = $1 and type = any($2)`, wr.environment, gone)
	// Where the entries live now is where those that move will have lived.
	b.Exec(`create temporary table lived on commit drop as select locale, path, entry from document
		where environment = $1 and edition = 'published' and type = any($2) and path is not
		null`, wr.environment, touched)
	b.Exec(`delete from taken where environment = $1 and type = any($2)`, wr.environment, touched)
	// Paths may be swapped between entries that are rendered in different batches.
	b.Exec(`set constraints all deferred`)
	if err := b.Run(ctx, conn); err != nil {
		return nil, err
	}
	if err := c.touched(ctx, plain, below); err != nil {
		return nil, err
	}
	if c.MovesPaths() {
		// What links to entries that have moved shows it.
		c.Conversion = model.Convert(to, to)
		var linking []string
		for _, t := range to.Types {
			if slices.ContainsFunc(t.Fields, (*model.Field).HasProse) {
				linking = append(linking, t.Name)
			}
		}
		if err := c.all(ctx, linking, convertAtOnce); err != nil {
			return nil, err
		}
	}
	var last db.Batch
	last.Exec(`set constraints all immediate`)
	last.Exec(`insert into former_path (environment, locale, path, entry) select $1::text, l.* from lived l
		where not exists (select from document d where d.environment = $1 and d.edition = 'published' and d.entry =
		l.entry and d.locale = l.locale and d.path = l.path)
		on conflict (environment, locale, path) do update set entry = excluded.entry, since =
		clock_timestamp()`, wr.environment)
	if err := last.Run(ctx, conn); err != nil {
		return nil, alreadyTaken(err, &c.written)
	}
	return &c, nil
}

// touched converts the entries of types: files first, since what refers to them shows them.
func (c *conversion) touched(ctx context.Context, plain, below []string) error {
	var files []string
	if i := slices.Index(plain, model.FileType); i >= 0 {
		files, plain = plain[i:i+1:i+1], slices.Concat(plain[:i], plain[i+1:])
	}
	if err := c.all(ctx, files, convertAtOnce); err != nil {
		return err
	}
	if err := c.all(ctx, plain, convertAtOnce); err != nil {
		return err
	}
	// Entries that live below others need those at hand.
	return c.all(ctx, below, 1<<30)
}

type conversion struct {
	*model.Conversion
	s           *Writer
	conn        *pgxpool.Conn
	to          *model.Model
	progress    func(done, total int)
	done, total int
	written     records // for naming who has taken what
	// relaid is what differs for readers; many says that it would be too much to say.
	relaid []content.Change
	many   bool
}

// maxRelaid is up to how many entries' differences are told one by one.
const maxRelaid = 1000

// differs notes what became of an entry's documents.
func (c *conversion) differs(id string, t *model.Type, before, after map[string]map[string]content.Document) {
	if c.many = c.many || len(c.relaid) >= 2*maxRelaid; c.many {
		c.relaid = nil
		return
	}
	for _, edition := range content.Editions {
		if one := content.ChangeBetween(content.RerenderChange, edition, id, t, before[edition],
			after[edition]); one != nil {
			c.relaid = append(c.relaid, *one)
		}
	}
}

// documentsOf reads the documents of entries, by entry, edition and locale.
func (c *conversion) documentsOf(
	ctx context.Context, ids []string,
) (map[string]map[string]map[string]content.Document, error) {
	out := map[string]map[string]map[string]content.Document{}
	if c.many {
		return out, nil
	}
	var b db.Batch
	c.s.QueueDocumentsOf(&b, ids, func(edition string, d content.Document) {
		if out[d.Entry] == nil {
			out[d.Entry] = map[string]map[string]content.Document{content.Published: {}, content.Preview: {}}
		}
		out[d.Entry][edition][d.Locale] = d
	})
	return out, b.Run(ctx, c.conn)
}

// gone notes that the entries of types are not there any more.
func (c *conversion) gone(ctx context.Context, types []string) error {
	rows, err := c.conn.Query(
		ctx, `select id, type from entry where environment = $1 and type = any($2) order by id limit $3`,
		c.s.environment, types, maxRelaid+1,
	)
	if err != nil {
		return err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[struct{ ID, Type string }])
	if err != nil {
		return err
	}
	c.many = c.many || len(all) > maxRelaid
	ids := make([]string, len(all))
	for i, one := range all {
		ids[i] = one.ID
	}
	before, err := c.documentsOf(ctx, ids)
	for _, one := range all {
		c.differs(one.ID, c.From(one.Type), before[one.ID], nil)
	}
	return err
}

// all converts the entries of the types in batches of atOnce. While PostgreSQL writes a batch, the next is prepared.
func (c *conversion) all(ctx context.Context, types []string, atOnce int) error {
	if len(types) == 0 {
		return nil
	}
	var ready converted
	for last := ""; ; {
		states, before, err := c.read(ctx, types, last, atOnce)
		if err != nil {
			return err
		}
		result := make(chan error, 1)
		go func(these converted) { result <- c.write(ctx, these) }(ready)
		written := sync.OnceValue(func() error { return <-result })
		next, err := c.prepare(ctx, states, before, written)
		if failed := written(); failed != nil { // c.conn is in use until then
			return failed
		}
		if err != nil || len(states) == 0 {
			return err
		}
		ready, last = next, states[len(states)-1].ID
	}
}

// read returns the next n entries after an id in their old form, and their documents by entry, edition and locale.
func (c *conversion) read(ctx context.Context, types []string, after string, n int) (
	[]*entryState, map[string]map[string]map[string]content.Document, error,
) {
	rows, err := c.conn.Query(
		ctx,
		`select `+EntryColumns+`, e.live, r.number, r.fields from (select * from entry where environment = $1 and
			type = any($2) and revision > 0 and id > $3
			order by id limit $4) e join revision r on r.environment = e.environment and r.entry = e.id order by
			e.id, r.number`,
		c.s.environment,
		types,
		after,
		n,
	)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	var out []*entryState
	var ids []string
	for rows.Next() {
		var e entryState
		var number int
		var fields content.Fields
		if err := rows.Scan(append(EntryTargets(&e.Entry), &e.live, &number, &fields)...); err != nil {
			return nil, nil, err
		}
		if len(out) == 0 || out[len(out)-1].ID != e.ID {
			e.revisions = map[int]content.Fields{}
			out, ids = append(out, &e), append(ids, e.ID)
		}
		out[len(out)-1].revisions[number] = fields
	}
	if err := rows.Err(); err != nil {
		return nil, nil, err
	}
	before, err := c.documentsOf(ctx, ids)
	return out, before, err
}

// converted are entries in their new form with their documents, ready to be written.
type converted struct {
	ids []string
	// The revisions that differ.
	changed, changedFields []string
	changedNumbers         []int
	out                    records
}

// prepare converts entries and renders their documents. The batch before may still be written meanwhile: c.conn is used
// only after written has returned.
func (c *conversion) prepare(
	ctx context.Context, states []*entryState, before map[string]map[string]map[string]content.Document,
	written func() error,
) (out converted, err error) {
	tx := newTransaction(c.s, c.conn, c.to)
	for _, e := range states {
		old := e.Type
		for _, number := range slices.Sorted(maps.Keys(e.revisions)) {
			before, _ := json.Marshal(e.revisions[number]) // came out of JSON
			now := content.Fields(c.Fields(old, e.revisions[number]))
			after, _ := json.Marshal(now)
			if !bytes.Equal(before, after) {
				out.changed, out.changedNumbers = append(out.changed, e.ID), append(out.changedNumbers, number)
				out.changedFields = append(out.changedFields, string(after))
			}
			if number == e.Revision {
				e.newest = now
			}
		}
		if e.live != nil {
			e.live = c.Fields(old, e.live)
		}
		e.Type = c.Type(old).Name
		tx.next[e.ID] = e
		out.ids = append(out.ids, e.ID)
	}
	for _, id := range out.ids {
		tx.documents(id)
	}
	if len(tx.missing) > 0 {
		if err := written(); err != nil {
			return out, err
		}
	}
	if err := tx.renderAll(ctx, out.ids); err != nil {
		return out, err
	}
	for _, e := range states {
		t := c.to.Type(e.Type)
		tx.out.entries = append(
			tx.out.entries, entryRow{Entry: e.Entry, Title: title(c.to, t, e.newest), Live: e.live},
		)
		tx.out.takes(t, e.ID, e)
		after := tx.documents(e.ID)
		c.differs(e.ID, t, before[e.ID], after)
		for edition, documents := range after {
			for _, d := range documents {
				if err := tx.out.document(edition, t, d, true); err != nil {
					return out, err
				}
			}
		}
	}
	if tx.cycle != "" {
		return out, content.Problems{
			{Entry: tx.cycle, Path: "about.path", Rule: "cycle", Text: "the entry would live below itself"},
		}
	}
	out.out = tx.out
	return out, nil
}

// write writes entries in place of what there is of them.
func (c *conversion) write(ctx context.Context, these converted) error {
	if len(these.ids) == 0 {
		return nil
	}
	var b db.Batch
	b.Exec(`delete from document where environment = $1 and entry = any($2)`, c.s.environment, these.ids)
	b.Exec(
		`update revision r set fields = n.fields::jsonb from unnest($2::text[], $3::int[], $4::text[]) as n (entry,
			number, fields)
		where r.environment = $1 and r.entry = n.entry and r.number = n.number`,
		c.s.environment, these.changed, these.changedNumbers, these.changedFields,
	)
	c.s.queueEntries(&b, &these.out)
	c.s.queueDocuments(&b, &these.out)
	if err := b.Run(ctx, c.conn); err != nil {
		return alreadyTaken(err, &these.out)
	}
	c.written.taken = append(c.written.taken, these.out.taken...)
	if len(these.ids) < convertAtOnce {
		c.written.documents = append(c.written.documents, these.out.documents...)
	}
	c.done += len(these.ids)
	c.progress(c.done, c.total)
	return nil
}
