package main

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// byHand answers the reading with SQL and structs written for it alone.
type byHand struct {
	pool *pgxpool.Pool
}

func newByHand(ctx context.Context, url string) (*byHand, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	cfg.MaxConns = 16
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	return &byHand{pool}, err
}

type notice struct {
	ID    string `json:"id"`
	About struct {
		Path *string `json:"path"`
	} `json:"about"`
	Title      string  `json:"title"`
	Slug       string  `json:"slug"`
	Severity   string  `json:"severity"`
	ValidUntil *string `json:"validUntil"`
}

type notices struct {
	Items  []notice `json:"items"`
	Window struct {
		Limit int     `json:"limit"`
		Next  *string `json:"next"`
		Prev  *string `json:"prev"`
	} `json:"window"`
}

func (h *byHand) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	out, err := noticesByHand(
		r.Context(),
		h.pool,
		`select entry, about ->> 'path', fields ->> 'title', slug, fields ->> 'severity', fields ->> 'validUntil'
		from document where environment = 'main' and edition = 'published' and locale = 'en' and type = 'notice'
		order by (fields ->> 'title') collate "C" nulls last, entry limit 20`,
	)
	answerByHand(w, out, err)
}

// noticesByHand is a list as the service writes it, of the columns that notice has.
func noticesByHand(ctx context.Context, pool *pgxpool.Pool, sql string, args ...any) (out notices, err error) {
	rows, err := pool.Query(ctx, sql, args...)
	if err != nil {
		return out, err
	}
	out.Window.Limit = 20
	out.Items, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (notice, error) {
		var n notice
		err := row.Scan(&n.ID, &n.About.Path, &n.Title, &n.Slug, &n.Severity, &n.ValidUntil)
		return n, err
	})
	return out, err
}

func answerByHand(w http.ResponseWriter, out any, err error) {
	if err != nil {
		http.Error(w, err.Error(), 500)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	enc.Encode(out)
}
