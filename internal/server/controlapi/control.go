// Package controlapi is the surface under /control/v1/, for those who run the service and
// edit content.
package controlapi

import (
	"log/slog"
	"net/http"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/environment"
	"ubiquon/internal/server/contentapi"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/originapi"
)

// API answers the requests under /control/v1/ of one environment. It is safe for concurrent
// use. Create it with New.
type API struct {
	env     *environment.Environment
	guard   *guard.Guard
	content *contentapi.API
	origins *originapi.API
	log     *slog.Logger
}

// New returns the surface.
func New(e *environment.Environment, g *guard.Guard, content *contentapi.API, log *slog.Logger) *API {
	return &API{env: e, guard: g, content: content, origins: originapi.New(e, g), log: log}
}

// Guard implements operation.Host.
func (s *API) Guard() *guard.Guard { return s.guard }

// news tells the console, as server-sent events, that there is something new to
// fetch, until whoever asks may not any more.
func (s *API) news(w http.ResponseWriter, r *http.Request, _ api.None) {
	end, err := s.guard.Streams.Open(
		s.guard.QueueName(guard.PrincipalOf(r), r), s.env.Replica.Limits().Streams,
		s.env.Replica.Limits().StreamsPerPrincipal,
	)
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	defer end()
	news, stop := s.env.Replica.News().Listen()
	defer stop()
	out := guard.BeginEvents(w)
	beat := time.NewTicker(guard.StreamBeat)
	defer beat.Stop()
	still := func() bool {
		reader, err := s.guard.PresentPrincipal(r)
		return err == nil && guard.ReadsAll.Check(&reader, time.Now()) == nil
	}
	for {
		if err := out.Out.Flush(); err != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-s.guard.Streams.Ending:
			out.Bye()
			return
		case what := <-news:
			if what == accessNews && !still() {
				return
			}
			out.Write("event: news\ndata: %s\n\n", what)
		case <-beat.C:
			if !still() {
				return
			}
			out.Write("event: news\ndata: %s\n\n", figureNews)
		}
	}
}

// accessNews is the word that keys or grants have changed.
const accessNews = "access"

// figureNews is told at each beat: counts that nobody announces may have moved on.
const figureNews = "figures"
