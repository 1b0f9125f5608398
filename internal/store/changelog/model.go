package changelog

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
)

// Model returns the environment's model and its version, ErrNotFound before
// the first ApplyModel.
func (l *Log) Model(ctx context.Context) (*model.Model, int64, error) {
	var src []byte
	var version int64
	err := l.db.Conns(ctx).
		QueryRow(ctx, `select model, model_version from environment where name = $1`, l.environment).
		Scan(&src, &version)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, 0, fmt.Errorf("environment %s: %w", l.environment, db.ErrNotFound)
	}
	if err != nil {
		return nil, 0, err
	}
	m, err := model.FromJSON(src)
	return m, version, err
}
