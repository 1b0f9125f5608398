// Package originapi is the part of the control endpoints that is about origins: how they are read, their
// events and hooks, and what they write here.
package originapi

import (
	"net/http"
	"slices"
	"strconv"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/environment"
	"ubiquon/internal/ingest"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

// API answers requests about the origins of one environment. It is safe for concurrent use.
type API struct {
	env   *environment.Environment
	guard *guard.Guard
}

// New returns the part.
func New(e *environment.Environment, g *guard.Guard) *API { return &API{e, g} }

// Guard implements operation.Host.
func (s *API) Guard() *guard.Guard { return s.guard }

// Operations lists the operations.
func Operations() []*operation.Operation { return append(originOperations(), hookOperations()...) }

// originOperations are what is done with events and origins.
func originOperations() []*operation.Operation {
	return []*operation.Operation{
		operation.Call("GET /events", "listEvents", "List events, the newest first", guard.ReadsAll, (*API).listEvents).
			WithExample(api.EventFilter{Limit: 5}),
		operation.Call("GET /events/{id}", "getEvent", "Get an event with everything that came of it",
			guard.ReadsAll, (*API).getEvent),
		operation.Call("GET /origins", "listOrigins", "List origins, and how reading them goes",
			guard.ReadsAll, (*API).listOrigins).
			WithExample(api.None{}),
		operation.Call(
			"GET /origins/{origin}/untaken", "listUntaken", "List the items of an origin that could not be taken over",
			guard.ReadsAll, (*API).listUntaken).
			WithExample(api.OriginRef{Origin: "harbour-office"}),
		operation.Lines("POST /origins/{origin}/reconcile", "reconcileOrigin",
			"Compare everything an origin holds with what is stored here, and take over the differences",
			guard.Administers, (*API).reconcileOrigin).Fails("origin").
			WithExample(api.OriginReconcile{OriginRef: api.OriginRef{Origin: "harbour-office"}}),
		operation.Lines(
			"POST /origins/{origin}/retire", "retireOrigin", "Let go of an origin that is not configured any more",
			guard.Administers, (*API).retireOrigin).
			Fails("foreign"),
		operation.Lines(
			"POST /origins/{origin}/adopt", "adoptOrigin", "Have another origin's entries change hands to this one",
			guard.Administers, (*API).adoptOrigin).
			Fails("origin"),
		operation.Lines("POST /origins/{origin}/swap", "swapOrigin",
			"Have an origin take the place of another one, or rehearse that", guard.Administers, (*API).swapOrigin).
			Fails("origin", "setting"),
		operation.Call("POST /origins/{origin}/test", "testOrigin", "Read the first page of each type of an origin",
			guard.Administers, (*API).testOrigin),
		operation.Call("POST /wake", "wake", "End that the node runs as a quiet copy", guard.Administers, (*API).wake).
			WithExample(api.None{}),
	}
}

func (s *API) listEvents(r *http.Request, f api.EventFilter) (api.Items[api.EventTrace], error) {
	return operation.Items(s.env.Ingest.Events(r.Context(), f))
}

func (s *API) getEvent(r *http.Request, in api.EventRef) (api.EventDetail, error) {
	return s.env.Ingest.Event(r.Context(), in.ID)
}

func (s *API) listOrigins(r *http.Request, _ api.None) (api.Items[api.OriginState], error) {
	return operation.Items(s.env.Ingest.Origins(r.Context()))
}

func (s *API) testOrigin(r *http.Request, in api.OriginRef) (api.Items[api.CallAnswer], error) {
	out, err := operation.Items(s.env.Ingest.Test(r.Context(), in.Origin))
	if err == nil {
		err = s.env.Audit.Note(r.Context(), guard.ActorName(r), "origin test", in.Origin, nil, nil)
	}
	return out, err
}

func (s *API) listUntaken(r *http.Request, in api.OriginRef) (api.Items[api.UntakenItem], error) {
	return operation.Items(s.env.Ingest.Untaken(r.Context(), in.Origin))
}

func (s *API) wake(r *http.Request, _ api.None) (api.Awake, error) {
	s.env.Replica.Work().Wake()
	return api.Awake{Awake: true}, s.env.Audit.Note(r.Context(), guard.ActorName(r), "wake", "", nil, nil)
}

// withProgress notes long work on an origin in the audit log, does it, and sends how far it
// has come.
func withProgress[T any](
	s *API, r *http.Request, what, origin string, in any, send func(api.OriginProgress[T]),
	work func(ingest.Progress) (T, error),
) error {
	if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), what, origin, nil, in); err != nil {
		return err
	}
	done, err := work(func(typ string, n int) { send(api.OriginProgress[T]{Type: typ, Seen: n}) })
	if err == nil {
		send(api.OriginProgress[T]{Done: &done})
	}
	return err
}

func (s *API) retireOrigin(
	r *http.Request, in api.OriginRetire, send func(api.OriginProgress[api.Retirement]),
) error {
	if !slices.Contains([]string{ingest.KeepLocal, ingest.Unpublish, ingest.DeleteAll}, in.Do) {
		return operation.BadMember("do", strconv.Quote(in.Do)+" is none of local, unpublish and delete")
	}
	return withProgress(s, r, "origin retire", in.Origin, in, send, func(p ingest.Progress) (api.Retirement, error) {
		return s.env.Ingest.Retire(r.Context(), in.Origin, in.Do, guard.ActorName(r), in.Apply, p)
	})
}

func (s *API) adoptOrigin(r *http.Request, in api.OriginAdopt, send func(api.OriginProgress[api.Adoption])) error {
	return withProgress(s, r, "origin adopt", in.Origin, in, send, func(p ingest.Progress) (api.Adoption, error) {
		return s.env.Ingest.Adopt(r.Context(), in.From, in.Origin, in.By, guard.ActorName(r), in.Apply, p)
	})
}

func (s *API) reconcileOrigin(
	r *http.Request, in api.OriginReconcile, send func(api.OriginProgress[api.Reconciled]),
) error {
	return withProgress(s, r, "origin reconcile", in.Origin, in, send, func(p ingest.Progress) (api.Reconciled, error) {
		return s.env.Ingest.Reconcile(
			r.Context(), in.Origin, content.Cause{Kind: "reconcile", Name: in.Origin}, in.Delete, p,
		)
	})
}

func (s *API) swapOrigin(r *http.Request, in api.OriginSwap, send func(api.OriginProgress[api.Swapped])) error {
	return withProgress(s, r, "origin swap", in.Origin, in, send, func(p ingest.Progress) (api.Swapped, error) {
		return s.env.Swap(r.Context(), in, guard.ActorName(r), p)
	})
}
