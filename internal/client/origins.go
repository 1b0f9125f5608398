package client

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"ubiquon/internal/api"
)

// Events lists events, the newest first.
func (os *Origins) Events(ctx context.Context, f api.EventFilter) ([]api.EventTrace, error) {
	var out api.Items[api.EventTrace]
	err := os.c.call(
		ctx, http.MethodGet, "/events?"+query(f), nil,
		&out,
	)
	return out.Items, err
}

// Event returns one event with everything that came of it.
func (os *Origins) Event(ctx context.Context, id string) (out api.EventDetail, err error) {
	return out, os.c.call(ctx, http.MethodGet, "/events/"+url.PathEscape(id), nil, &out)
}

// Compare compares everything an origin holds with what is held here, telling how
// many items of a type were seen. With deleteMany entries go that the origin does not have
// any more, however many they are.
func (os *Origins) Compare(
	ctx context.Context, name string, deleteMany bool, tell func(typ string, seen int),
) (out api.Reconciled, err error) {
	return out, os.c.withProgress(
		ctx, "/origins/"+url.PathEscape(name)+"/compare", api.OriginCompare{Delete: deleteMany}, tell, &out,
	)
}

// Retire lets go of an origin that is not configured any more: do is local, unpublish
// or delete. Without apply it is only told what would happen.
func (os *Origins) Retire(
	ctx context.Context, name, do string, apply bool, tell func(typ string, seen int),
) (out api.Retirement, err error) {
	return out, os.c.withProgress(
		ctx, "/origins/"+url.PathEscape(name)+"/retire", api.OriginRetire{Do: do, Apply: apply}, tell, &out,
	)
}

// Adopt has the entries of an old origin change hands to a new one. by is key, slug or
// path, or empty for all of them; without apply it is only told what would happen.
func (os *Origins) Adopt(
	ctx context.Context, old, name, by string, apply bool, tell func(typ string, seen int),
) (out api.Adoption, err error) {
	return out, os.c.withProgress(
		ctx, "/origins/"+url.PathEscape(name)+"/adopt", api.OriginAdopt{From: old, By: by, Apply: apply}, tell,
		&out,
	)
}

// Rejected lists what could not be imported of an origin.
func (os *Origins) Rejected(ctx context.Context, name string) ([]api.UntakenItem, error) {
	var out api.Items[api.UntakenItem]
	err := os.c.call(ctx, http.MethodGet, "/origins/"+url.PathEscape(name)+"/untaken", nil, &out)
	return out.Items, err
}

// withProgress asks for long work on an origin, tells how far it has come, and reads its
// outcome.
func (c *Client) withProgress(
	ctx context.Context, path string, body any, tell func(typ string, seen int), into any,
) error {
	src, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return c.stream(ctx, path, "application/json", bytes.NewReader(src), func(line []byte) error {
		var p struct {
			Type string
			Seen int
			Done json.RawMessage
		}
		err := json.Unmarshal(line, &p)
		if p.Done != nil {
			return json.Unmarshal(p.Done, into)
		}
		if err == nil && tell != nil {
			tell(p.Type, p.Seen)
		}
		return err
	})
}
