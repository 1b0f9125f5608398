package originapi

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/event"
	"ubiquon/internal/ingest"
	"ubiquon/internal/origin"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// mayPush is the permit of origins that write their items here. The grants that a type takes are checked
// by the route.
var mayPush = guard.On(access.Write, content.Preview).WithBody(guard.ContentBody)

// hookOperations are about the calls of hooks, and about origins that write their items here.
func hookOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call("GET /origins/{origin}/captured", "listCapturedCalls",
			"List the calls of a hook that were kept without acting on them", guard.Administers, (*API).listCaptured).
			WithExample(api.OriginRef{Origin: "harbour-office"}),
		operation.Call("POST /origins/{origin}/capture", "captureCalls",
			"Keep the next calls of a hook without acting on them", guard.Administers, (*API).captureCalls),
		operation.Call("POST /origins/{origin}/hook/try", "tryHook",
			"Say what would become of a call: whether it is proven, and what it announces", guard.Administers,
			(*API).tryHook).Fails("setting").
			WithExample(api.HookTry{OriginRef: api.OriginRef{Origin: "harbour-office"}, Body: "{}"}),
		operation.Call("POST /origins/{origin}/try", "tryItem",
			"Say which entry an item of an origin becomes, and what is wrong with it", guard.Administers,
			(*API).tryItem).Fails("setting", "origin"),
		operation.Lines("POST /origins/{origin}/compare", "compareOrigin",
			"Say how what an origin has differs from what is held of it, and change nothing", guard.Administers,
			(*API).compareOrigin).
			Fails("origin"),
		operation.Call("POST /events/{id}/replay", "replayEvent", "Process an event again", guard.Administers,
			(*API).replayEvent).Fails("not-found"),
		operation.Call("PUT /environments/{environment}/origins/{origin}/entries/{key}", "pushItem",
			"Write an item of an origin that writes here; its body is the item in the origin's own form", mayPush,
			(*API).pushItem).TakesAny().Fails("not-pushed"),
		operation.Call(
			"DELETE /environments/{environment}/origins/{origin}/entries/{key}",
			"deletePushedItem",
			"Delete an item of an origin that writes here",
			mayPush,
			(*API).deletePushed,
		).Fails("not-pushed", "not-found"),
		operation.Lines("POST /environments/{environment}/origins/{origin}/entries", "pushItems",
			"Write many items of an origin that writes here, as NDJSON: {\"key\", \"item\"} a line",
			mayPush.WithBody(guard.UnboundedBody), (*API).pushItems).
			Takes(operation.MediaLines).Fails("not-pushed", "bad-line"),
	}
}

func (s *API) listCaptured(r *http.Request, in api.OriginRef) (api.CapturedCalls, error) {
	return s.env.Ingest.Captured(r.Context(), in.Origin)
}

func (s *API) captureCalls(r *http.Request, in api.HookCapture) (out api.CapturedCalls, err error) {
	if in.Minutes < 0 || in.Minutes > 120 {
		return out, operation.BadMember("minutes", "minutes is 1 to 120, or 0 to end it")
	}
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "hook capture", in.Origin, nil, in); err != nil {
		return out, err
	}
	span := time.Duration(in.Minutes) * time.Minute
	return s.env.Ingest.Capture(r.Context(), in.Origin, guard.ActorName(r), span)
}

// specOf reads a configuration that is tried; nil where none is given.
func (s *API) specOf(name string, given any) (*origin.Config, error) {
	if given == nil {
		return nil, nil
	}
	src, err := json.Marshal(given)
	if err != nil {
		return nil, err
	}
	return s.env.Settings.OriginToTry(name, src)
}

func (s *API) tryHook(r *http.Request, in api.HookTry) (out api.HookTried, err error) {
	if len(in.Body) > event.MaxBody {
		return out, operation.BadMember("body", "an announcement may have 1 MiB")
	}
	given, err := s.specOf(in.Origin, in.Spec)
	if err != nil {
		return out, err
	}
	return s.env.Ingest.Try(r.Context(), in, given, s.guard.Self(r)+"/hooks/"+in.Origin)
}

func (s *API) tryItem(r *http.Request, in api.OriginTry) (out api.OriginTried, err error) {
	given, err := s.specOf(in.Origin, in.Spec)
	if err != nil {
		return out, err
	}
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "origin try", in.Origin, nil, nil); err != nil {
		return out, err
	}
	return s.env.Ingest.TryItem(r.Context(), in, given)
}

func (s *API) compareOrigin(r *http.Request, in api.OriginRef, send func(api.OriginProgress[api.Comparison])) error {
	return withProgress(s, r, "origin compare", in.Origin, in, send, func(p ingest.Progress) (api.Comparison, error) {
		return s.env.Ingest.Compare(r.Context(), in.Origin, p)
	})
}

func (s *API) replayEvent(r *http.Request, in api.EventRef) (out api.EventDetail, err error) {
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "event replay", in.ID, nil, nil); err != nil {
		return out, err
	}
	return s.env.Ingest.Replay(r.Context(), in.ID)
}

// pushing checks that who asks may write and publish what an origin writes.
func (s *API) pushing(r *http.Request, environment, name, typ string) error {
	if environment != s.env.Replica.Environment() {
		return api.Problem{
			Kind: "not-found", Status: http.StatusNotFound,
			Detail: fmt.Sprintf("there is no environment %q here", access.Printable(environment)),
		}
	}
	types := []string{typ}
	if source := s.env.Ingest.Source(name); typ == "" && source != nil {
		types = nil
		for own := range source.Config.Types {
			types = append(types, own)
		}
	}
	for _, t := range types {
		if err := guard.Require(r, access.Need{Verb: access.Write, Edition: content.Preview, Type: t},
			access.Need{Verb: access.Publish, Edition: content.Published, Type: t}); err != nil {
			return err
		}
	}
	return nil
}

// keyOf is the key that an address names; slashes in it are escaped.
func keyOf(in api.PushRef) (string, error) {
	key, err := url.PathUnescape(in.Key)
	if err != nil {
		return "", operation.BadMember("key", "the key is not escaped as in an address")
	}
	return key, nil
}

func (s *API) pushItem(r *http.Request, in api.PushRef) (out api.PushOutcome, err error) {
	if err := s.pushing(r, in.Environment, in.Origin, in.Type); err != nil {
		return out, err
	}
	key, err := keyOf(in)
	if err != nil {
		return out, err
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return out, err
	}
	if !json.Valid(body) || !bytes.HasPrefix(bytes.TrimSpace(body), []byte("{")) {
		return out, api.Problem{Kind: "body", Status: http.StatusBadRequest, Detail: "the body is no JSON object"}
	}
	return s.env.Ingest.Push(
		r.Context(),
		in.Origin,
		in.Type,
		[]api.PushedItem{{Key: key, Item: body}},
		guard.ActorName(r),
	)
}

func (s *API) deletePushed(r *http.Request, in api.PushRef) (out api.PushOutcome, err error) {
	if err := s.pushing(r, in.Environment, in.Origin, in.Type); err != nil {
		return out, err
	}
	key, err := keyOf(in)
	if err != nil {
		return out, err
	}
	return s.env.Ingest.DropPushed(r.Context(), in.Origin, in.Type, key)
}

// pushedTogether is how many items are taken over in one step, and longestLine bounds one, in bytes.
const (
	pushedTogether = 200
	longestLine    = 2 << 20
)

func (s *API) pushItems(r *http.Request, in api.PushMany, send func(api.OriginProgress[api.PushOutcome])) error {
	if err := s.pushing(r, in.Environment, in.Origin, in.Type); err != nil {
		return err
	}
	sum := api.PushOutcome{NotTaken: []api.NotTaken{}}
	var some []api.PushedItem
	flush := func() error {
		if len(some) == 0 {
			return nil
		}
		done, err := s.env.Ingest.Push(r.Context(), in.Origin, in.Type, some, guard.ActorName(r))
		sum.Taken, sum.Changed = sum.Taken+done.Taken, sum.Changed+done.Changed
		sum.Sequence = max(sum.Sequence, done.Sequence)
		if sum.NotTaken = append(sum.NotTaken, done.NotTaken...); len(sum.NotTaken) > 1000 {
			sum.NotTaken = sum.NotTaken[:1000]
		}
		some = nil
		return err
	}
	lines := bufio.NewScanner(r.Body)
	lines.Buffer(nil, longestLine)
	n := 0
	for lines.Scan() {
		n++
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		var one api.PushedItem
		if err := json.Unmarshal(lines.Bytes(), &one); err != nil || len(one.Item) == 0 || one.Key == "" {
			return api.Problem{
				Kind: "bad-line", Status: http.StatusUnprocessableEntity,
				Detail: fmt.Sprintf("line %d is not {\"key\": …, \"item\": {…}}; those before it are taken", n),
			}
		}
		if some = append(some, one); len(some) == pushedTogether {
			if err := flush(); err != nil {
				return err
			}
			send(api.OriginProgress[api.PushOutcome]{Seen: n})
		}
	}
	if err := lines.Err(); err != nil {
		return api.Problem{
			Kind: "bad-line", Status: http.StatusUnprocessableEntity,
			Detail: fmt.Sprintf("line %d: %s", n+1, strings.TrimPrefix(err.Error(), "bufio.Scanner: ")),
		}
	}
	if err := flush(); err != nil {
		return err
	}
	send(api.OriginProgress[api.PushOutcome]{Done: &sum})
	return nil
}
