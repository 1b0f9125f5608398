package diagnose

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/invalidation"
)

// mostAnswers bounds the answers that Impact names.
const mostAnswers = 100

// Impact says which answers and pages changes would touch that have not happened. The saved reads are
// computed for that, unless their answers are held.
func (d *Service) Impact(ctx context.Context, changes []content.Change) (*api.Impact, error) {
	out := &api.Impact{Saved: []string{}, Answers: []api.CacheEntry{}}
	for i := range changes {
		changes[i].At = time.Now() // filters that speak of now are asked about now
		if changes[i].Edition == content.Published {
			out.Changes++
		}
	}
	saved, err := d.saved(ctx)
	if err != nil {
		return nil, err
	}
	hit := d.cache.Simulate(invalidation.Deltas(changes...))
	slices.SortStableFunc(hit, func(a, b *cache.Response) int { return cmp.Compare(b.Hits(), a.Hits()) })
	for _, r := range hit {
		if out.AnswersAll++; len(out.Answers) < mostAnswers {
			out.Answers = append(out.Answers, d.delivery.CacheEntry(r))
		}
		if name := saved[r.Key()]; name != "" {
			out.Saved = append(out.Saved, name)
		}
	}
	slices.Sort(out.Saved)
	out.Pages, err = d.pages.Affected(ctx, changes)
	return out, err
}

// saved are the names of the saved reads, by the keys of their answers, which are held then.
func (d *Service) saved(ctx context.Context) (map[string]string, error) {
	reads, err := d.store.Documents.SavedReads(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, r := range reads {
		var q struct{ Request, Edition string }
		if json.Unmarshal(r.Read, &q) != nil || q.Request == "" {
			continue
		}
		key, err := d.delivery.Warm(ctx,
			"/content/"+d.replica.Environment()+"/"+cmp.Or(q.Edition, content.Published)+q.Request)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err == nil { // else it is none for the present model
			out[key] = r.Name
		}
	}
	return out, nil
}
