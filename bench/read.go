package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"runtime"
	"strconv"

	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/api"
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

// reads measures each kind of read, recomputed each time, against the same by
// hand.
func (y *harness) reads(ctx context.Context) error {
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
	if err := c.Entries().Import(ctx, &in, api.ImportOptions{}, func(api.ImportProgress) {}); err != nil {
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
	page := min(500, y.entries/20-20) // there are so many notices
	far, err := y.cursorAt(ctx, c, "/notices?"+fields+"&sort=-validUntil", page)
	if err != nil {
		return err
	}
	base := "/content/main/published"
	y.demo.Connection.Keys.Published = c.Key // load sends it
	for _, one := range []struct{ name, ours, theirs string }{
		{"list of 20, filtered and sorted", "/notices?" + fields + filter, "/list"},
		{"one by slug", "/notices/notice-777-of-the-line?fields=title,slug,severity,text(html)", "/one"},
		{"depth 3", depth, "/depth"},
		{"the same in GraphQL", graph, "/graphql"},
		{"LIKE", "/notices?" + fields + "&filter=" + url.QueryEscape("title LIKE 'Notice "+
			"77%'") + "&sort=title", "/like"},
		{"page 1, by the same order", "/notices?" + fields + "&sort=-validUntil", "/page?n=1"},
		{"page far down, by cursor", far, "/page?n=" + strconv.Itoa(page)},
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
		y.what = "miss, " + one.name
		err = y.compare(ctx, c.Address+base+one.ours, address+one.theirs, "Prefer: recompute")
		if y.what = ""; err != nil {
			return err
		}
		if y.profile != "" {
			continue
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
func (y *harness) cursorAt(ctx context.Context, c *client.Client, request string, page int) (string, error) {
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
	q := api.ReadQuestion{Request: path}
	if u, err := url.Parse(path); err == nil && u.Path == "/graphql" {
		q = api.ReadQuestion{Query: u.Query().Get("query")}
	}
	var sum api.Examined
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
