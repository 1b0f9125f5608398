// Package writing changes content in one transaction: load and lock (load.go), transition
// (advance.go, transition.go), render (render.go), persist (persist.go). Writes that do not touch
// one another are committed together (commit.go). A change of the model converts what is stored
// (convert.go).
package writing

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sort"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/changelog"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/once"
)

// Writer writes entries and the model of an environment. It is safe for concurrent use.
type Writer struct {
	db          *db.DB
	environment string
	changes     *changelog.Log
	audit       *audit.Log
	writes      *once.Writes
	log         *slog.Logger
	commits     committer
}

// New returns the writer of an environment.
func New(
	d *db.DB, environment string, changes *changelog.Log, a *audit.Log, writes *once.Writes, log *slog.Logger,
) *Writer {
	w := &Writer{db: d, environment: environment, changes: changes, audit: a, writes: writes, log: log}
	w.commits.s = w
	return w
}

// ReferredError is the error of deleting or retiring an entry that others refer
// to.
type ReferredError struct {
	Entry string
	By    []api.Referrer
}

// Error implements error.
func (e *ReferredError) Error() string {
	first := e.By[0]
	more := ""
	if n := len(e.By) - 1; n > 0 {
		more = fmt.Sprintf(", and %d more", n)
	}
	return fmt.Sprintf(
		"entry %s is referred to by %s %q (%s) in %s%s; take the references out first, or delete it even so", e.Entry,
		first.Type, first.Title, first.Entry, first.Field, more,
	)
}

// entryState is an entry with the fields that matter for its documents.
type entryState struct {
	content.Entry
	live, newest content.Fields
	revisions    map[int]content.Fields // others that were asked for
	writer       string                 // of the newest
}

type heldEntry struct {
	entryState
	documents map[string]map[string]content.Document // by edition and locale
}

// documents lays out what readers of the edition get of the entry.
func (e *entryState) documents(
	m *model.Model, t *model.Type, edition string, around *content.RenderContext,
) map[string]content.Document {
	about := content.About{
		Revision:       e.PublishedRevision,
		FirstPublished: e.FirstPublished,
		Published:      e.Published,
		Updated:        e.Updated,
	}
	fields := e.live
	if edition == content.Preview {
		fields, about.Revision = e.newest, e.Revision
	} else if e.PublishedRevision == 0 {
		return nil
	} else {
		// A draft saved behind the published state is nothing that its readers see.
		about.Updated = *e.Published
	}
	if fields == nil || e.Revision == 0 || e.Retired != nil || e.Withheld {
		return nil
	}
	if e.PublishedRevision == 0 {
		about.Published = nil
	}
	return content.Documents(m, t, edition, e.ID, fields, about, around)
}

// Apply carries out the edits, all or none, and appends what readers can see of
// it to the change log in the same transaction. Its error is a
// content.Problems, a *ConflictError, a *ReferredError, ErrForeign, ErrNotFound,
// ErrScheduleGone or ErrModelMoved where one of them is the reason.
//
// Writes that wait at the same time are committed together (see committer). A
// transaction takes two round trips, more only when the path of an entry moves
// that others live below: one locks the entries and reads them, one writes and
// commits. The end of the log is locked last, so numbers are given in the
// order in which commits become visible.
func (wr *Writer) Apply(
	ctx context.Context, m *model.Model, version int64, edits []Edit, by string, cause content.Cause,
) (Applied, error) {
	edits = slices.Clone(edits)
	sort.SliceStable(edits, func(i, j int) bool { return edits[i].ID < edits[j].ID })
	for i := range edits {
		if i > 0 && edits[i].ID == edits[i-1].ID {
			return Applied{}, fmt.Errorf("entry %s is edited twice in one write", edits[i].ID)
		}
	}
	w := &write{m: m, version: version, edits: edits, by: by, cause: cause}
	if err := wr.render(ctx, w); err != nil {
		return Applied{}, err
	}
	return wr.commits.apply(ctx, w)
}

// renderTimeout bounds how long the prose of one write is rendered.
const renderTimeout = 5 * time.Second

func title(m *model.Model, t *model.Type, fields content.Fields) string {
	switch v := fields[t.Title].(type) {
	case string:
		return v
	case map[string]any:
		for _, tag := range m.Tags() {
			if s, ok := v[tag].(string); ok {
				return s
			}
		}
	}
	return ""
}

// QueueDocumentsOf reads the documents of entries.
func (wr *Writer) QueueDocumentsOf(b *db.Batch, ids []string, each func(edition string, d content.Document)) {
	b.Query(func(r pgx.Rows) error {
		var edition string
		var d content.Document
		err := r.Scan(&edition, &d.Locale, &d.Entry, &d.Type, &d.Slug, &d.About, &d.Fields)
		if err == nil {
			each(edition, d)
		}
		return err
	}, `select edition, locale, entry, type, coalesce(slug, ''), about, fields from document where environment = $1
		and entry = any($2)`, wr.environment, ids)
}
