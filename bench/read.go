package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"runtime"
	"runtime/pprof"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/client"
)

// The read measurement has an environment of its own too.
const readModelText = `
locales: {en: {}, nb: {fallback: [en]}}
types:
  pier:
    fields: {name: {kind: text}, slug: {kind: slug, madeFrom: name}}
  route:
    path: /routes/{slug}
    fields: {name: {kind: text, translated: true}, slug: {kind: slug, madeFrom: name}, piers: {kind: reference, types: [pier], several: true}}
  notice:
    path: /notices/{slug}
    fields:
      title:      {kind: text, translated: true, max: 120, indexed: true}
      slug:       {kind: slug, madeFrom: title}
      severity:   {kind: choice, options: {information: Information, delay: Delay}}
      text:       {kind: prose, translated: true}
      routes:     {kind: reference, types: [route], several: true}
      validUntil: {kind: datetime, indexed: true}
`

func readLine(w *bytes.Buffer, i int) {
	switch {
	case i < 50:
		fmt.Fprintf(
			w, `{"id":"pier-%d","type":"pier","fields":{"name":"Pier %d"},"published":"2026-01-01T08:00:00Z"}`+"\n",
			i, i,
		)
	case i < 250:
		fmt.Fprintf(
			w,
			`{"id":"route-%d","type":"route","fields":{"name":{"en":"Route %d","nb":"Rute %d"},"piers":["pier-%d","pier-%d","pier-%d"]},"published":"2026-01-01T08:00:00Z"}`+"\n",
			i, i, i, i%50, (i*7)%50, (i*3+1)%50,
		)
	default:
		fmt.Fprintf(
			w,
			`{"id":"notice-%d","type":"notice","fields":{"title":{"en":"Notice %d of the line"},"severity":"%s","text":{"en":"The boat of %d is **late**. Use the *stairs on the left*; the crew will help with prams, bicycles and bread."},"routes":["route-%d","route-%d"],"validUntil":"20%02d-%02d-%02dT%02d:00:00Z"},"published":"2026-02-01T08:00:00Z"}`+"\n",
			i, i, []string{"information", "delay"}[i%2], i, 50+i%200, 50+(i*7)%200, 20+i%13, 1+i%12, 1+i%28, i%24,
		)
	}
}

// reads measures each kind of read, computed anew each time, against the same by
// hand.
func (y *yard) reads(ctx context.Context) error {
	own, stop, err := ownService(ctx, readModelText)
	if err != nil {
		return err
	}
	defer stop()
	c := own.client
	var in bytes.Buffer
	for i := range y.entries {
		readLine(&in, i)
	}
	fmt.Printf("  bringing in %d entries\n", y.entries)
	if err := c.Entries().Import(ctx, &in, client.ImportOptions{}, func(client.ImportProgress) {}); err != nil {
		return err
	}
	pool, err := pgxpool.New(ctx, own.database)
	if err != nil {
		return err
	}
	defer pool.Close()
	if _, err := pool.Exec(ctx, `vacuum analyze document`); err != nil {
		return err
	}
	hand := &readsByHand{pool: pool, cases: http.NewServeMux()}
	hand.routes()
	address, end, err := beside(hand.cases)
	if err != nil {
		return err
	}
	defer end()

	const fields = "fields=title,slug,severity,validUntil,about(path)"
	filter := "&filter=" + url.QueryEscape(
		"severity = 'delay' AND validUntil > TIMESTAMP('2026-11-23T00:00:00Z')",
	) + "&sort=validUntil"
	depth := "/notices?fields=title,routes(name,piers(name))&sort=title"
	graph := "/graphql?query=" + url.QueryEscape(
		`{notices(sort:["title"]){nodes{id title routes{id name piers{id name}}}}}`,
	)
	far, err := y.cursorAt(ctx, c, "/notices?"+fields+"&sort=-validUntil", 500)
	if err != nil {
		return err
	}
	base := "/content/main/published"
	y.demo.Card.Keys.Published = c.Key // load sends it
	for _, one := range []struct{ name, ours, theirs string }{
		{"list of 20, filtered and sorted", "/notices?" + fields + filter, "/list"},
		{"one by slug", "/notices/notice-7777-of-the-line?fields=title,slug,severity,text(html)", "/one"},
		{"depth 3", depth, "/depth"},
		{"the same in GraphQL", graph, "/graphql"},
		{"LIKE", "/notices?" + fields + "&filter=" + url.QueryEscape("title LIKE 'Notice "+
			"77%'") + "&sort=title", "/like"},
		{"page 1, by the same order", "/notices?" + fields + "&sort=-validUntil", "/page?n=1"},
		{"page 500 by cursor", far, "/page?n=500"},
	} {
		fmt.Printf("  %s\n", one.name)
		ours, err := c.Do(ctx, http.MethodGet, base+one.ours, nil, nil)
		if err == nil {
			err = ours.Err()
		}
		if err != nil {
			return fmt.Errorf("%s: %w", one.name, err)
		}
		theirs, err := (&client.Client{Address: address}).Do(ctx, http.MethodGet, one.theirs, nil, nil)
		if err != nil {
			return err
		}
		if !sameContent(ours.Body, theirs.Body) {
			return fmt.Errorf("%s: the two sides differ:\n%s\n%s", one.name, ours.Body, theirs.Body)
		}
		if y.profile != "" {
			f, err := os.Create(y.profile + "." + strings.Map(func(r rune) rune {
				if r < 97 {
					return -1
				}
				return r
			}, one.theirs))
			if err != nil {
				return err
			}
			if err := pprof.StartCPUProfile(f); err != nil {
				return err
			}
			_, err = y.load(ctx, c.Address+base+one.ours, "Prefer: recompute")
			pprof.StopCPUProfile()
			f.Close()
			if err != nil {
				return err
			}
			if f, err = os.Create(f.Name() + ".allocs"); err != nil {
				return err
			}
			err = pprof.Lookup("allocs").WriteTo(f, 0)
			f.Close()
			if err != nil {
				return err
			}
			continue
		}
		if err := y.compare(ctx, c.Address+base+one.ours, address+one.theirs, "Prefer: recompute"); err != nil {
			return err
		}
		a, err := allocated(ctx, c, base+one.ours)
		if err != nil {
			return err
		}
		b, err := allocated(ctx, &client.Client{Address: address}, one.theirs)
		if err != nil {
			return err
		}
		fmt.Printf(
			"    %d bytes; allocated for a request, client included: ours %d KB, reference %d KB\n", len(ours.Body),
			a>>10, b>>10,
		)
		if err := split(ctx, c, one.ours); err != nil {
			return err
		}
	}
	return nil
}

// cursorAt follows a list of 20 to a page and returns the request for it.
func (y *yard) cursorAt(ctx context.Context, c *client.Client, request string, page int) (string, error) {
	at := request
	for range page - 1 {
		a, err := c.Do(ctx, http.MethodGet, "/content/main/published"+at, nil, nil)
		if err == nil {
			err = a.Err()
		}
		if err != nil {
			return "", err
		}
		var out struct{ Window struct{ Next string } }
		if err := json.Unmarshal(a.Body, &out); err != nil {
			return "", err
		}
		at = request + "&after=" + url.QueryEscape(out.Window.Next)
	}
	return at, nil
}

// sameContent compares the entries of two answers.
func sameContent(a, b []byte) bool {
	entries := func(src []byte) string {
		var v struct {
			Items json.RawMessage
			Data  struct {
				Notices struct{ Nodes json.RawMessage }
			}
		}
		if json.Unmarshal(src, &v) != nil {
			return string(src)
		}
		if v.Items == nil && v.Data.Notices.Nodes == nil {
			return string(bytes.TrimSpace(src))
		}
		return string(v.Items) + string(v.Data.Notices.Nodes)
	}
	return entries(a) == entries(b)
}

// allocated returns how many bytes the process, which both sides run in, allocates
// for a request.
func allocated(ctx context.Context, c *client.Client, path string) (uint64, error) {
	const n = 300
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	for range n {
		if _, err := c.Do(ctx, http.MethodGet, path, http.Header{"Prefer": {"recompute"}}, nil); err != nil {
			return 0, err
		}
	}
	runtime.ReadMemStats(&after)
	return (after.TotalAlloc - before.TotalAlloc) / n, nil
}

// split prints where the time of a read goes, as the service tells it.
func split(ctx context.Context, c *client.Client, path string) error {
	q := client.ReadQuestion{Request: path}
	if u, err := url.Parse(path); err == nil && u.Path == "/graphql" {
		q = client.ReadQuestion{Query: u.Query().Get("query")}
	}
	var sum client.Examined
	const n = 100
	for range n {
		e, err := c.Reads().Examine(ctx, q)
		if err != nil {
			return err
		}
		sum.RoundTrips, sum.Statements = e.RoundTrips, e.Statements
		sum.Milliseconds.Parse += e.Milliseconds.Parse / n
		sum.Milliseconds.SQL += e.Milliseconds.SQL / n
		sum.Milliseconds.Render += e.Milliseconds.Render / n
		sum.Milliseconds.All += e.Milliseconds.All / n
	}
	m := sum.Milliseconds
	fmt.Printf(
		"    one at a time, compiled each time: %.2f ms, of which compiling %.0f %%, SQL and taking in %.0f %%, "+
			"laying out %.0f %%; %d statements in %d round trips\n",
		m.All, 100*m.Parse/m.All, 100*m.SQL/m.All, 100*m.Render/m.All, len(sum.Statements), sum.RoundTrips,
	)
	return nil
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
			$1`, "notice-7777-of-the-line").
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
