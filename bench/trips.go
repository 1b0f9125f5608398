package main

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
)

// countPublish publishes once more on a connection that counts.
func countPublish(ctx context.Context, url string) (trips, statements int, err error) {
	m, err := readModel(contentModel)
	if err != nil {
		return 0, 0, err
	}
	counter := &tripCounter{}
	s, err := store.Open(ctx, "counted", db.Options{URL: url, Tracer: counter})
	if err != nil {
		return 0, 0, err
	}
	defer s.DB.Close()
	if err := s.Writer.ApplyModel(ctx, m, causeOfBench, writing.ModelOptions{}); err != nil {
		return 0, 0, err
	}
	publish := func(word string) error {
		_, err := s.Writer.Apply(
			ctx,
			m,
			1,
			[]writing.Edit{
				{
					ID:     "n",
					Type:   "notice",
					Origin: "local",
					Save:   map[string]any{"title": map[string]any{"en": word}, "slug": "n"},
					Live:   writing.PublishNewest,
				},
			},
			"bench",
			causeOfBench,
		)
		return err
	}
	// The first ones prepare the statements.
	if err := errors.Join(publish("a"), publish("b"), publish("c")); err != nil {
		return 0, 0, err
	}
	*counter = tripCounter{}
	err = publish("d")
	return counter.trips, counter.statements, err
}

// tripCounter counts batches and single statements as they are sent.
type tripCounter struct{ trips, statements int }

func (t *tripCounter) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	t.trips, t.statements = t.trips+1, t.statements+1
	return ctx
}
func (t *tripCounter) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}
func (t *tripCounter) TraceBatchStart(ctx context.Context, _ *pgx.Conn, d pgx.TraceBatchStartData) context.Context {
	t.trips, t.statements = t.trips+1, t.statements+d.Batch.Len()
	return ctx
}
func (t *tripCounter) TraceBatchQuery(context.Context, *pgx.Conn, pgx.TraceBatchQueryData) {}
func (t *tripCounter) TraceBatchEnd(context.Context, *pgx.Conn, pgx.TraceBatchEndData)     {}

var causeOfBench = content.Cause{Kind: "user", Name: "bench"}

func readModel(text string) (*model.Model, error) {
	return model.Read(map[string][]byte{"model.yaml": []byte(text)})
}
