package writing

import (
	"context"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
)

// Simulate returns the changes that readers would see if the edits were applied, and applies none of
// them. Edits that could not be applied are left out. The entries are locked meanwhile.
func (wr *Writer) Simulate(
	ctx context.Context, m *model.Model, version int64, edits []Edit, cause content.Cause,
) (out []content.Change, err error) {
	edits = slices.Clone(edits)
	slices.SortFunc(edits, func(a, b Edit) int { return strings.Compare(a.ID, b.ID) })
	w := &write{m: m, version: version, edits: edits, cause: cause}
	if err := wr.render(ctx, w); err != nil {
		return nil, err
	}
	err = wr.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		tx := newTransaction(wr, conn, m)
		tx.around.Prose = w.rendered
		if err := tx.begin(ctx, version, edits); err != nil {
			return err
		}
		if w.err = tx.write(ctx, w); w.err == nil {
			out = w.done.Changes
		}
		return nil // what is open is rolled back
	})
	if w.err != nil && len(edits) > 1 && ContentReason(w.err) {
		for i := range edits {
			one, err := wr.Simulate(ctx, m, version, edits[i:i+1], cause)
			if err != nil {
				return out, err
			}
			out = append(out, one...)
		}
		return out, nil
	}
	if w.err != nil && !ContentReason(w.err) {
		return nil, w.err
	}
	return out, err
}
