package writing

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
)

// Consequence is a difference between two models with what it does to the
// entries that are there.
type Consequence struct {
	model.Difference
	// Entries that lose something, or that lack what they need.
	Entries int `json:"entries"`
}

// Consequences compares two models and counts the entries that a difference
// touches. What no entry would lose is safe.
func (wr *Writer) Consequences(ctx context.Context, from, to *model.Model) ([]Consequence, error) {
	return consequences(ctx, wr.db.Conns(ctx), wr.environment, from, to)
}

func consequences(
	ctx context.Context, q db.Querier, environment string, from, to *model.Model,
) ([]Consequence, error) {
	differences := model.Compare(from, to)
	out := make([]Consequence, len(differences))
	var types []string
	for i, d := range differences {
		out[i].Difference = d
		if d.Severity == model.Safe {
			continue
		}
		if d.Type == "" { // a locale: it may be written in any
			types = from.TypeNames()
		} else if !slices.Contains(types, d.Type) {
			types = append(types, d.Type)
		}
	}
	if types == nil {
		return out, nil
	}
	conversion := model.Convert(from, to)
	rows, err := q.Query(
		ctx,
		`select e.type, e.live, r.fields from entry e join revision r on r.environment = e.environment and r.entry =
			e.id and r.number = e.revision
		where e.environment = $1 and e.type = any($2)`,
		environment,
		types,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var typ string
		var live, newest content.Fields
		if err := rows.Scan(&typ, &live, &newest); err != nil {
			return nil, err
		}
		lost := conversion.Losing(typ, newest)
		for _, f := range conversion.Losing(typ, live) {
			if !slices.Contains(lost, f) {
				lost = append(lost, f)
			}
		}
		for i := range out {
			d := &out[i]
			switch {
			case d.Severity == model.NeedsDefault && d.Type == typ && newest[d.Field] == nil,
				d.Severity == model.Loses && d.Type == typ && (d.Field == "" || slices.Contains(lost, d.Field)),
				d.Severity == model.Loses && d.Type == "" &&
					slices.Contains(content.WrittenIn(from.Type(typ), newest), strings.TrimPrefix(d.Where, "locale ")):
				d.Entries++
			}
		}
	}
	for i := range out {
		if d := &out[i]; d.Severity == model.Loses && d.Entries == 0 {
			d.Severity = model.Safe
			d.Text += " (no entry has any)"
		}
	}
	return out, rows.Err()
}

// LossError is the error of applying a model that would lose content.
type LossError struct {
	Consequences []Consequence // those that lose something
}

func (e *LossError) Error() string {
	lines := make([]string, len(e.Consequences))
	for i, c := range e.Consequences {
		lines[i] = fmt.Sprintf("%s: %s (%d entries)", c.Where, c.Text, c.Entries)
	}
	return "the model would lose content:\n" + strings.Join(lines, "\n")
}

// ModelOptions say how a model is applied.
type ModelOptions struct {
	// AllowLoss applies a model that loses content.
	AllowLoss bool
	// IfVersion, if not 0, refuses when the present model has another version,
	// with ErrModelMoved.
	IfVersion int64
	// Progress is told how many of the entries are converted.
	Progress func(done, total int)
}

// ApplyModel makes m the environment's model, which it creates if need be,
// converts what is stored and lays documents out anew where they differ, in one
// transaction that keeps writers out. It does nothing when m is the model
// already. Its error is a *LossError when content would be lost.
func (wr *Writer) ApplyModel(ctx context.Context, m *model.Model, cause content.Cause, o ModelOptions) error {
	src, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return wr.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var held []byte
		var version int64
		var b db.Batch
		b.Exec(`begin`)
		b.Exec(`select pg_advisory_xact_lock($1, hashtext($2))`, db.LockContent, wr.environment)
		b.Query(
			func(r pgx.Rows) error { return r.Scan(&held, &version) },
			`select model, model_version from environment where name = $1`, wr.environment,
		)
		if err := b.Run(ctx, conn); err != nil {
			return err
		}
		if o.IfVersion != 0 && o.IfVersion != version {
			return db.ErrModelMoved
		}
		var relaid []content.Change
		touches := map[string][]string{model.Everything: {model.Everything}}
		if held != nil {
			old, err := model.FromJSON(held)
			if err != nil {
				return err
			}
			if same, _ := json.Marshal(old); bytes.Equal(same, src) {
				return nil
			}
			c, err := wr.convert(ctx, conn, old, m, o)
			if err != nil {
				return err
			}
			relaid = c.relaid
			touches = model.Convert(old, m).Restates()
			if c.many {
				relaid, touches = nil, model.Convert(old, m).Touches()
			}
		}
		var last db.Batch
		last.Exec(`insert into environment (name, model, model_version) values ($1, $2, 1)
			on conflict (name) do update set model = excluded.model, model_version = environment.model_version +
			1`, wr.environment, src)
		if err := wr.changes.Queue(&last,
			[][]content.Change{append([]content.Change{{Kind: content.ModelChange, Fields: touches, Cause: cause}},
				relaid...)}); err != nil {
			return err
		}
		last.Exec(`commit`)
		return last.Run(ctx, conn)
	})
}

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
		if losing := slices.DeleteFunc(all, func(c Consequence) bool { return c.Severity != model.Loses }); len(
			losing,
		) > 0 {
			return nil, &LossError{losing}
		}
	}
	c := conversion{s: wr, conn: conn, to: to, Conversion: model.Convert(from, to), progress: o.Progress}
	if c.progress == nil {
		c.progress = func(int, int) {}
	}
	var gone, plain, below []string
	for _, name := range c.Touched() {
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
	// Paths may be swapped between entries that are laid out in different batches.
	b.Exec(`set constraints all deferred`)
	if err := b.Run(ctx, conn); err != nil {
		return nil, err
	}
	if err := c.all(ctx, plain, convertAtOnce); err != nil {
		return nil, err
	}
	// Entries that live below others need those at hand.
	if err := c.all(ctx, below, 1<<30); err != nil {
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
		if one := content.ChangeBetween(content.RelaidChange, edition, id, t, before[edition],
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

// all converts the entries of the types, so many at once.
func (c *conversion) all(ctx context.Context, types []string, atOnce int) error {
	if len(types) == 0 {
		return nil
	}
	for last := ""; ; {
		states, err := c.some(ctx, types, last, atOnce)
		if err != nil || len(states) == 0 {
			return err
		}
		last = states[len(states)-1].ID
		if err := c.relay(ctx, states); err != nil {
			return err
		}
		c.done += len(states)
		c.progress(c.done, c.total)
	}
}

// some reads the next entries in their old form.
func (c *conversion) some(ctx context.Context, types []string, after string, n int) ([]*entryState, error) {
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
		return nil, err
	}
	defer rows.Close()
	var out []*entryState
	for rows.Next() {
		var e entryState
		var number int
		var fields content.Fields
		if err := rows.Scan(append(EntryTargets(&e.Entry), &e.live, &number, &fields)...); err != nil {
			return nil, err
		}
		if len(out) == 0 || out[len(out)-1].ID != e.ID {
			e.revisions = map[int]content.Fields{}
			out = append(out, &e)
		}
		out[len(out)-1].revisions[number] = fields
	}
	return out, rows.Err()
}

// relay converts entries and writes them with their documents.
func (c *conversion) relay(ctx context.Context, states []*entryState) error {
	tx := newTransaction(c.s, c.conn, c.to)
	var ids, changed, changedFields []string
	for _, e := range states {
		ids = append(ids, e.ID)
	}
	before, err := c.documentsOf(ctx, ids)
	if err != nil {
		return err
	}
	var changedNumbers []int
	for _, e := range states {
		old := e.Type
		for _, number := range slices.Sorted(maps.Keys(e.revisions)) {
			before, _ := json.Marshal(e.revisions[number]) // came out of JSON
			now := content.Fields(c.Fields(old, e.revisions[number]))
			after, _ := json.Marshal(now)
			if !bytes.Equal(before, after) {
				changed, changedNumbers, changedFields = append(
					changed, e.ID,
				), append(
					changedNumbers, number,
				), append(
					changedFields, string(after),
				)
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
	}
	if err := tx.renderAll(ctx, ids); err != nil {
		return err
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
				if err := tx.out.document(edition, t, d); err != nil {
					return err
				}
			}
		}
	}
	if tx.cycle != "" {
		return content.Problems{
			{Entry: tx.cycle, Path: "about.path", Rule: "cycle", Text: "the entry would live below itself"},
		}
	}
	var b db.Batch
	b.Exec(`delete from document where environment = $1 and entry = any($2)`, c.s.environment, ids)
	b.Exec(
		`update revision r set fields = n.fields::jsonb from unnest($2::text[], $3::int[], $4::text[]) as n (entry,
			number, fields)
		where r.environment = $1 and r.entry = n.entry and r.number = n.number`,
		c.s.environment,
		changed,
		changedNumbers,
		changedFields,
	)
	c.s.queueEntries(&b, &tx.out)
	c.s.queueDocuments(&b, &tx.out)
	if err := b.Run(ctx, c.conn); err != nil {
		return alreadyTaken(err, &tx.out)
	}
	c.written.taken = append(c.written.taken, tx.out.taken...)
	if len(states) < convertAtOnce {
		c.written.documents = append(c.written.documents, tx.out.documents...)
	}
	return nil
}
