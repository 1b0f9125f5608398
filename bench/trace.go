package main

import (
	"context"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/environment"
	"ubiquon/internal/server"
	"ubiquon/internal/store"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
)

const traceModel = `
locales: {en: {}}
types:
  route:
    fields: {name: {kind: text}, slug: {kind: slug, madeFrom: name}}
  notice:
    fields:
      title:    {kind: text}
      slug:     {kind: slug, madeFrom: title}
      severity: {kind: choice, options: {information: Information, delay: Delay, cancelled: Cancelled}}
      route:    {kind: reference, types: [route]}
`

// trace lets readers ask for pages as they do, a few often and most seldom, while one
// notice a second is published: once against this cache, and beside it in counting
// what a cache would have done that expires by whole type, and one that expires after
// sixty seconds.
func (y *harness) trace(ctx context.Context) error {
	const (
		notices, routes   = 1500, 40
		reads, perPublish = 60_000, 500 // of a second
		age               = 60 * perPublish
	)
	m, err := readModel(traceModel)
	if err != nil {
		return err
	}
	s, err := store.Open(ctx, "bench-trace", db.Options{URL: y.database})
	if err != nil {
		return err
	}
	defer s.DB.Close()
	g, err := environment.Open(ctx, environment.Options{Store: s, Model: m})
	if err != nil {
		return err
	}
	defer g.Close()
	web := server.New(server.Options{Environment: g})
	if err := g.Start(ctx); err != nil {
		return err
	}
	open, err := access.ParseGrants([]string{"read published *"})
	if err != nil {
		return err
	}
	if _, err := g.Keys.ChangePublicGrants(ctx, "bench", open, nil); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(8400, 1))
	notice := func(i int) writing.Edit {
		return writing.Edit{
			ID:     fmt.Sprintf("n%d", i),
			Type:   "notice",
			Origin: content.Local,
			Live:   writing.PublishNewest,
			Save: content.Fields{
				"title":    fmt.Sprintf("Notice %d, %d", i, r.IntN(1000)),
				"slug":     fmt.Sprintf("notice-%d", i),
				"severity": []string{"information", "information", "delay", "cancelled"}[i%4],
				"route":    fmt.Sprintf("r%d", i%routes),
			},
		}
	}
	var edits []writing.Edit
	for i := range routes {
		edits = append(
			edits,
			writing.Edit{
				ID:     fmt.Sprintf("r%d", i),
				Type:   "route",
				Origin: content.Local,
				Live:   writing.PublishNewest,
				Save:   content.Fields{"name": fmt.Sprintf("Route %d", i)},
			},
		)
	}
	for i := range notices {
		edits = append(edits, notice(i))
	}
	for part := range slices.Chunk(edits, 200) {
		if _, err := g.Authoring.Apply(ctx, part, "bench", content.Cause{Kind: "user"}); err != nil {
			return err
		}
	}
	base := "/content/bench-trace/published"
	type request struct {
		path  string
		types string
	}
	var all []request
	for page := range 20 {
		all = append(
			all,
			request{
				fmt.Sprintf("%s/notices?fields=title,route(name)&sort=-published&limit=20&offset=%d", base, page*20),
				"notice route",
			},
		)
	}
	for i := range routes {
		all = append(
			all,
			request{fmt.Sprintf("%s/routes/route-%d?fields=name", base, i), "route"},
			request{
				base + "/notices?fields=title&limit=10&filter=" + url.QueryEscape(
					fmt.Sprintf("route.slug = 'route-%d'", i),
				),
				"notice route",
			},
		)
	}
	for i := range notices {
		all = append(
			all,
			request{fmt.Sprintf("%s/notices/notice-%d?fields=title,severity,route(name)", base, i), "notice route"},
		)
	}
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	zipf := rand.NewZipf(r, 1.1, 4, uint64(len(all)-1))
	type kept struct {
		at   int
		body uint64
	}
	byAge, byType := map[int]kept{}, map[int]kept{}
	lastChange := map[string]int{}
	var exact, typeHits, ageHits, ageStale int
	// over has, for each ten seconds, the hits of the three and what was too old.
	const step = 10 * perPublish
	over := make([][4]int, reads/step)
	for i := range reads {
		if i%perPublish == perPublish-1 {
			if _, err := g.Authoring.Apply(ctx, []writing.Edit{notice(r.IntN(notices))}, "bench",
				content.Cause{Kind: "user"}); err != nil {
				return err
			}
			lastChange["notice"] = i
		}
		n := int(zipf.Uint64())
		w := httptest.NewRecorder()
		web.ServeHTTP(w, httptest.NewRequest(http.MethodGet, all[n].path, nil))
		if w.Code != 200 {
			return fmt.Errorf("%s: %d %s", all[n].path, w.Code, w.Body)
		}
		h := fnv.New64a()
		h.Write(w.Body.Bytes())
		now := kept{i, h.Sum64()}
		if strings.HasPrefix(w.Header().Get("Cache-Status"), "Ubiquon; hit") {
			exact++
			over[i/step][0]++
		}
		if k, ok := byType[n]; ok &&
			!slices.ContainsFunc(
				strings.Fields(all[n].types),
				func(t string) bool { c, changed := lastChange[t]; return changed && c >= k.at },
			) {
			typeHits++
			over[i/step][1]++
		} else {
			byType[n] = now
		}
		if k, ok := byAge[n]; ok && i-k.at < age {
			ageHits++
			over[i/step][2]++
			if k.body != now.body {
				ageStale++
				over[i/step][3]++
			}
		} else {
			byAge[n] = now
		}
	}
	share := func(n int) string { return fmt.Sprintf("%.1f %%", 100*float64(n)/reads) }
	fmt.Printf("  %d reads of %d requests, %d a second, one publish a second:\n", reads, len(all), perPublish)
	fmt.Printf(
		"    exact                    hits %s, too old 0\n    by whole type            hits %s, too old 0\n    by "+
			"an age of 60 s        hits %s, too old %s\n",
		share(exact), share(typeHits), share(ageHits), share(ageStale),
	)
	if y.plot == "" {
		return nil
	}
	lines := []line{
		{name: "hits, exact", colour: "#0b6e4f"},
		{name: "hits, by whole type", colour: "#8a5a00"},
		{name: "hits, by an age of 60 s", colour: "#3b5ba5"},
		{name: "too old, by age", colour: "#b3261e", dashed: true},
	}
	for i := range lines {
		for _, n := range over {
			lines[i].shares = append(lines[i].shares, float64(n[i])/step)
		}
	}
	return plot(
		y.plot, fmt.Sprintf("%d reads a second of %d requests, one publish a second", perPublish, len(all)),
		fmt.Sprintf("%d seconds", reads/perPublish), lines,
	)
}
