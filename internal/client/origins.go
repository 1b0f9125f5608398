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

// Reconcile compares everything an origin holds with what is held here and takes over what differs,
// telling how many items of a type were seen. With deleteMany entries go that the origin does not have
// any more, however many they are.
func (os *Origins) Reconcile(
	ctx context.Context, name string, deleteMany bool, tell func(typ string, seen int),
) (out api.Reconciled, err error) {
	return out, os.c.withProgress(
		ctx, "/origins/"+url.PathEscape(name)+"/reconcile", api.OriginReconcile{Delete: deleteMany}, tell, &out,
	)
}

// Compare says how what an origin has differs from what is held of it, and changes nothing.
func (os *Origins) Compare(
	ctx context.Context, name string, tell func(typ string, seen int),
) (out api.Comparison, err error) {
	return out, os.c.withProgress(ctx, "/origins/"+url.PathEscape(name)+"/compare", api.None{}, tell, &out)
}

// Try says which entry an item of an origin becomes, and what is wrong with it.
func (os *Origins) Try(ctx context.Context, t api.OriginTry) (out api.OriginTried, err error) {
	return out, os.c.call(ctx, http.MethodPost, "/origins/"+url.PathEscape(t.Origin)+"/try", t, &out)
}

// TryHook says what would become of a call.
func (os *Origins) TryHook(ctx context.Context, t api.HookTry) (out api.HookTried, err error) {
	return out, os.c.call(ctx, http.MethodPost, "/origins/"+url.PathEscape(t.Origin)+"/hook/try", t, &out)
}

// Capture has the calls of a hook kept without acting on them for so many minutes, 1 to 120; 0 ends it.
func (os *Origins) Capture(ctx context.Context, name string, minutes int) (out api.CapturedCalls, err error) {
	path := "/origins/" + url.PathEscape(name) + "/capture"
	return out, os.c.call(ctx, http.MethodPost, path, api.HookCapture{Minutes: minutes}, &out)
}

// Captured lists the calls of a hook that were kept without acting on them, the newest first.
func (os *Origins) Captured(ctx context.Context, name string) (out api.CapturedCalls, err error) {
	return out, os.c.call(ctx, http.MethodGet, "/origins/"+url.PathEscape(name)+"/captured", nil, &out)
}

// Replay has an event processed again.
func (os *Origins) Replay(ctx context.Context, event string) (out api.EventDetail, err error) {
	return out, os.c.call(ctx, http.MethodPost, "/events/"+url.PathEscape(event)+"/replay", nil, &out)
}

// Push writes an item of an origin that writes here. typ may be empty where the origin maps one.
func (os *Origins) Push(
	ctx context.Context, environment, name, typ, key string, item any,
) (out api.PushOutcome, err error) {
	return out, os.c.call(ctx, http.MethodPut, pushPath(environment, name, key, typ), item, &out)
}

// DeletePushed deletes an item of an origin that writes here.
func (os *Origins) DeletePushed(
	ctx context.Context, environment, name, typ, key string,
) (out api.PushOutcome, err error) {
	return out, os.c.call(ctx, http.MethodDelete, pushPath(environment, name, key, typ), nil, &out)
}

func pushPath(environment, name, key, typ string) string {
	return "/environments/" + url.PathEscape(environment) + "/origins/" + url.PathEscape(name) + "/entries/" +
		url.PathEscape(key) + "?" + url.Values{"type": {typ}}.Encode()
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

// Swap has an origin take the place of another one for the types that it maps; without apply it only says
// what would happen. by is as for Adopt.
func (os *Origins) Swap(
	ctx context.Context, from, name, by string, apply bool, tell func(typ string, seen int),
) (out api.Swapped, err error) {
	return out, os.c.withProgress(
		ctx, "/origins/"+url.PathEscape(name)+"/swap", api.OriginSwap{From: from, By: by, Apply: apply}, tell, &out,
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
