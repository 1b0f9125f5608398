package replication

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
)

// firstModel takes up the stored model, or stores the first one; with apply the
// one that is configured, whatever is stored.
func (r *Replica) firstModel(ctx context.Context, first *model.Model, apply bool) error {
	err := r.ReloadModel(ctx)
	differs := err == nil && first != nil && !sameModel(first, r.Model())
	switch {
	case err != nil && !errors.Is(err, db.ErrNotFound):
		return err
	case err == nil && !differs:
		return nil
	case differs && !apply:
		r.log.Warn(
			"the configured model differs from the one in force, which stays; see it with: ubiquon model diff " +
				"DIR, take it up with: ubiquon model apply DIR, or at start with --apply-model",
		)
		return nil
	case first == nil:
		return errors.New(
			"the environment has no model yet; name the directory of its files with model: in the configuration, " +
				"or --model",
		)
	}
	if err := r.store.Writer.ApplyModel(ctx, first, causeOfModel, writing.ModelOptions{}); err != nil {
		return fmt.Errorf("applying the model: %w", err)
	}
	return r.ReloadModel(ctx)
}

func sameModel(a, b *model.Model) bool {
	x, _ := json.Marshal(a) // plain records
	y, _ := json.Marshal(b)
	return bytes.Equal(x, y)
}
