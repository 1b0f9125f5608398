package delivery

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"

	"ubiquon/internal/api"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/query"
	"ubiquon/internal/graphql"
)

const (
	// mostBreaks bounds what a plan lists of them, mostTried how many requests that are held
	// are compiled for it.
	mostBreaks = 100
	mostTried  = 500
)

// BrokenRequests compiles what is in use against a model: trusted documents, saved reads, and the
// requests whose answers are held, the most popular first.
func (d *Service) BrokenRequests(ctx context.Context, m *model.Model) ([]api.Breakage, error) {
	out := []api.Breakage{}
	schema, err := graphql.New(m, d.limits, d.Files)
	if err != nil {
		return nil, err
	}
	try := func(what, text, shown string) {
		if len(out) == mostBreaks || d.recompile == nil {
			return
		}
		r, err := query.ParseRequest(text)
		if err != nil {
			return
		}
		compile, err := d.recompile(r)
		if err != nil {
			return // it is none for the present model either
		}
		if _, err := compile(d.replica.Model(), d.Schema()); err != nil {
			return
		}
		if _, err := compile(m, schema); err != nil {
			out = append(out, api.Breakage{What: what, Request: shown, Reason: err.Error()})
		}
	}
	check := func(what, text, shown string) {
		if errs := schema.Check(text); len(errs) > 0 && len(d.Schema().Check(text)) == 0 && len(out) < mostBreaks {
			out = append(out, api.Breakage{What: what, Request: shown, Reason: errs.Error()})
		}
	}
	documents, err := d.store.Documents.TrustedDocuments(ctx)
	if err != nil {
		return nil, err
	}
	for _, doc := range documents {
		check("trusted document "+doc.Name, doc.Text, doc.ID)
	}
	saved, err := d.store.Documents.SavedReads(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range saved {
		var q struct{ Request, Query, Edition string }
		if json.Unmarshal(r.Read, &q) != nil {
			continue
		}
		switch edition := cmp.Or(q.Edition, content.Published); {
		case q.Request != "":
			try("saved read "+r.Name, "/content/"+d.replica.Environment()+"/"+edition+q.Request, q.Request)
		case q.Query != "":
			check("saved read "+r.Name, q.Query, q.Query)
		}
	}
	for _, r := range d.cache.First(mostTried,
		func(a, b *cache.Response) int { return cmp.Compare(b.Hits(), a.Hits()) },
		func(r *cache.Response) bool { return r.Asked != "" && r.Status < 400 }) {
		try(fmt.Sprintf("asked for (%d hits)", r.Hits()), r.Asked, DisplayText(r.Asked))
	}
	return out, nil
}
