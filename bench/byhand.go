package main

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"

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

// readsByHand answers the same reads with SQL and structs written for each.
type readsByHand struct {
	pool  *pgxpool.Pool
	cases *http.ServeMux
}

type linkedPier struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

type linkedRoute struct {
	ID    string       `json:"id"`
	Name  string       `json:"name"`
	Piers []linkedPier `json:"piers"`
}

type linkedNotice struct {
	ID     string        `json:"id"`
	Title  string        `json:"title"`
	Routes []linkedRoute `json:"routes"`
}

const handColumns = `select entry, about ->> 'path', fields ->> 'title', slug, fields ->> 'severity', fields ->>
	'validUntil' from document
	where environment = 'main' and edition = 'published' and locale = 'en' and type = 'notice' `

func (h *readsByHand) routes() {
	h.answer("/list", func(ctx context.Context, _ *http.Request) (any, error) {
		return h.notices(
			ctx,
			handColumns+`and (fields ->> 'severity') collate "C" = $1 and (fields ->> 'validUntil') collate "C" > $2
				order by (fields ->> 'validUntil') collate "C" nulls last, entry limit 20`,
			"delay", "2026-11-23T00:00:00.000000Z",
		)
	})
	h.answer("/like", func(ctx context.Context, _ *http.Request) (any, error) {
		return h.notices(
			ctx,
			handColumns+`and (fields ->> 'title') collate "C" like $1 order by (fields ->> 'title') collate "C"
				nulls last, entry limit 20`,
			"Notice 77%",
		)
	})
	h.answer("/page", func(ctx context.Context, r *http.Request) (any, error) {
		if n, _ := strconv.Atoi(r.URL.Query().Get("n")); n > 1 {
			at, err := h.placeOf(ctx, 20*(n-1))
			if err != nil {
				return nil, err
			}
			return h.notices(
				ctx,
				handColumns+`and (fields ->> 'validUntil') collate "C" <= $1 and ((fields ->> 'validUntil') collate
					"C" < $1 or entry > $2) order by (fields ->> 'validUntil') collate "C" desc nulls last, entry
					limit 20`,
				at[0], at[1],
			)
		}
		return h.notices(
			ctx, handColumns+`order by (fields ->> 'validUntil') collate "C" desc nulls last, entry limit 20`,
		)
	})
	h.answer("/one", func(ctx context.Context, _ *http.Request) (any, error) {
		var n struct {
			ID       string `json:"id"`
			Title    string `json:"title"`
			Slug     string `json:"slug"`
			Severity string `json:"severity"`
			Text     struct {
				HTML string `json:"html"`
			} `json:"text"`
		}
		err := h.pool.QueryRow(ctx, `select entry, fields ->> 'title', slug, fields ->> 'severity', fields -> 'text'
			->> 'html' from document
			where environment = 'main' and edition = 'published' and locale = 'en' and type = 'notice' and slug =
			$1`, "notice-777-of-the-line").
			Scan(&n.ID, &n.Title, &n.Slug, &n.Severity, &n.Text.HTML)
		return n, err
	})
	h.answer("/depth", func(ctx context.Context, _ *http.Request) (any, error) {
		nodes, err := h.linked(ctx)
		return map[string]any{"items": nodes}, err
	})
	h.answer("/graphql", func(ctx context.Context, _ *http.Request) (any, error) {
		nodes, err := h.linked(ctx)
		return map[string]any{"data": map[string]any{"notices": map[string]any{"nodes": nodes}}}, err
	})
}

// places are the sort values and ids at which pages begin, found once.
var places = map[int][2]string{}

func (h *readsByHand) placeOf(ctx context.Context, n int) ([2]string, error) {
	if at, ok := places[n]; ok {
		return at, nil
	}
	var at [2]string
	err := h.pool.QueryRow(ctx, `select fields ->> 'validUntil', entry from document where environment = 'main' and
		edition = 'published' and locale = 'en' and type = 'notice'
		order by (fields ->> 'validUntil') collate "C" desc nulls last, entry limit 1 offset $1`, n-1).
		Scan(&at[0], &at[1])
	places[n] = at
	return at, err
}

func (h *readsByHand) answer(path string, f func(context.Context, *http.Request) (any, error)) {
	h.cases.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
		out, err := f(r.Context(), r)
		answerByHand(w, out, err)
	})
}

func (h *readsByHand) notices(ctx context.Context, sql string, args ...any) (any, error) {
	return noticesByHand(ctx, h.pool, sql, args...)
}

// linked reads notices with their routes, and those with their piers, in a
// statement each.
func (h *readsByHand) linked(ctx context.Context) ([]linkedNotice, error) {
	const of = ` from document where environment = 'main' and edition = 'published' and locale = 'en'`
	type link struct {
		id, name string
		to       []string
	}
	read := func(sql string, args ...any) ([]link, []string, error) {
		rows, err := h.pool.Query(ctx, sql, args...)
		if err != nil {
			return nil, nil, err
		}
		var wanted []string
		out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (l link, err error) {
			err = row.Scan(&l.id, &l.name, &l.to)
			wanted = append(wanted, l.to...)
			return l, err
		})
		return out, wanted, err
	}
	top, wanted, err := read(
		`select entry, fields ->> 'title', fields ->
			'routes'` + of + ` and type = 'notice' order by (fields ->> 'title') collate "C" nulls last, entry limit
				20`,
	)
	if err != nil {
		return nil, err
	}
	byID := map[string]link{}
	for _, step := range []string{"piers", "none"} {
		found, next, err := read(
			`select entry, fields ->> 'name', fields -> '`+step+`'`+of+` and entry = any($1)`, wanted,
		)
		if err != nil {
			return nil, err
		}
		for _, l := range found {
			byID[l.id] = l
		}
		wanted = next
	}
	out := make([]linkedNotice, len(top))
	for i, n := range top {
		out[i] = linkedNotice{ID: n.id, Title: n.name, Routes: []linkedRoute{}}
		for _, id := range n.to {
			r := linkedRoute{ID: id, Name: byID[id].name, Piers: []linkedPier{}}
			for _, p := range byID[id].to {
				r.Piers = append(r.Piers, linkedPier{ID: p, Name: byID[p].name})
			}
			out[i].Routes = append(out[i].Routes, r)
		}
	}
	return out, nil
}
