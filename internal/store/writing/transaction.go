package writing

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/store/db"
)

// write is one call of Apply on its way.
type write struct {
	m       *model.Model
	version int64
	edits   []Edit
	by      string
	cause   content.Cause

	ctx      context.Context
	rendered content.Renderings
	acts     []api.AuditRecord // for the audit log
	signals  []rule.Occurrence // for the rules
	done     Applied
	err      error
	over     chan struct{}
	apart    bool // it must not be committed with others
}

// transaction is the work on some writes that are committed together.
type transaction struct {
	s    *Writer
	conn *pgxpool.Conn
	m    *model.Model
	now  time.Time
	held map[string]*heldEntry
	// next is the state of every entry that is written, by id; nil when it goes.
	next map[string]*entryState
	// there are the types of entries that references lead to.
	there map[string]string
	// facts are what the bytes of files tell: by hash, of those that are written, and by id, of
	// those that are referred to.
	facts map[string]content.Fields
	// files are those that others show, as they are delivered.
	files map[pathKey]map[string]any
	// paths are where entries live that are not written; asked are those of which
	// that is known, missing those of which it had to be.
	paths          map[pathKey]string
	asked, missing map[string]bool
	around         content.RenderContext
	laid           map[string]map[string]map[string]content.Document // by entry, edition, locale
	// reached are entries that are not written themselves, but show where one lives that is.
	reached map[string]bool
	// making are the entries whose documents are being rendered.
	making map[string]bool
	// cycle is an entry that was found to live below itself, if any.
	cycle string
	// together says that there are several writes.
	together bool
	out      records
}

func newTransaction(s *Writer, conn *pgxpool.Conn, m *model.Model) *transaction {
	tx := &transaction{
		s: s, conn: conn, m: m,
		held: map[string]*heldEntry{}, next: map[string]*entryState{}, there: map[string]string{},
		facts: map[string]content.Fields{}, files: map[pathKey]map[string]any{},
		paths: map[pathKey]string{}, asked: map[string]bool{}, missing: map[string]bool{},
		laid: map[string]map[string]map[string]content.Document{}, making: map[string]bool{},
		reached: map[string]bool{},
	}
	tx.around.Find, tx.around.File = tx.find, tx.file
	return tx
}

// errApart is the error of a write that reaches entries beyond its own, and so
// must not be committed together with others.
var errApart = errors.New("this write needs a transaction of its own")

type pathKey struct{ edition, locale, entry string }

// applyTogether carries out the writes in one transaction. What is wrong with
// one write is its own error, and leaves the others alone; an error of the
// transaction is returned.
func (wr *Writer) applyTogether(ctx context.Context, writes []*write) error {
	return wr.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		begin := time.Now()
		defer func() {
			for _, w := range writes {
				w.done.Took = time.Since(begin)
			}
		}()
		tx := newTransaction(wr, conn, writes[0].m)
		tx.together = len(writes) > 1
		tx.around.Prose = content.Renderings{}
		for _, w := range writes {
			maps.Copy(tx.around.Prose, w.rendered)
		}
		var all []Edit
		for _, w := range writes {
			all = append(all, w.edits...)
		}
		slices.SortFunc(all, func(a, b Edit) int { return strings.Compare(a.ID, b.ID) })
		if err := tx.begin(ctx, writes[0].version, all); err != nil {
			return err
		}
		var good []*write
		for _, w := range writes {
			if w.err = tx.write(ctx, w); w.err == nil {
				good = append(good, w)
			} else if errors.Is(w.err, errApart) {
				return w.err
			} else {
				tx.forget(w)
			}
		}
		return tx.finish(ctx, good)
	})
}

// begin opens the transaction, makes rows for entries that are new, and reads
// all that the edits need to know.
func (tx *transaction) begin(ctx context.Context, version int64, edits []Edit) error {
	var b db.Batch
	b.Exec(`begin`)
	b.Exec(`select pg_advisory_xact_lock_shared($1, hashtext($2))`, db.LockContent, tx.s.environment)
	if tx.together {
		b.Exec(`set local lock_timeout = '` + togetherLock + `'`)
	}
	var ids, types, origins, keys []string
	for _, e := range edits {
		if e.Save != nil || e.Live == PublishGiven {
			ids, types = append(ids, e.ID), append(types, e.Type)
			origins, keys = append(origins, e.Origin), append(keys, e.OriginKey)
		}
	}
	if len(ids) > 0 {
		b.Exec(`insert into entry (environment, id, type, origin, origin_key, updated)
			select $1, id, type, origin, key, clock_timestamp() from unnest($2::text[], $3::text[], $4::text[],
			$5::text[]) as n (id, type, origin, key)
			on conflict do nothing`, tx.s.environment, ids, types, origins, keys)
	}
	b.Query(func(r pgx.Rows) error {
		var present int64
		if err := r.Scan(&present); err != nil {
			return err
		}
		if present != version {
			return db.ErrModelMoved
		}
		return nil
	}, `select model_version from environment where name = $1`, tx.s.environment)
	tx.read(&b, edits)
	if tx.together {
		b.Exec(`set local lock_timeout = 0`)
	}
	return b.Run(ctx, tx.conn)
}
