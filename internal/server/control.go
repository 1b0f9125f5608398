package server

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/store/builds"
	"ubiquon/internal/store/events"
)

// routes mounts routes of the control endpoints, each with its permit.
type routes struct {
	s *Server
	r chi.Router
}

func (c routes) handle(method, path string, need permit, h http.Handler) {
	c.r.Method(method, path, c.s.guarded(need, h))
}

// do mounts a route that answers with JSON.
func (c routes) do(method, path string, need permit, f func(*http.Request) (any, error)) {
	h := http.Handler(answerWith(c.s, f))
	if need.once {
		h = c.s.async(need.proved, c.s.once(need.proved, h))
	}
	c.handle(method, path, need, h)
}

func (c routes) get(path string, need permit, f func(*http.Request) (any, error)) {
	c.do("GET", path, need, f)
}

// control mounts what those who run the service ask of it.
func (s *Server) control(r chi.Router) {
	c := routes{s, r}
	s.routeSessions(c)
	s.routeModel(c)
	s.routeEntries(c)
	s.routePreviewLinks(c)
	s.routeSchedules(c)
	s.routeKeys(c)
	s.routeAccounts(c)
	s.routeBuilds(c)
	s.routeOrigins(c)
	s.routeReads(c)
	c.get("/status", readsAll, func(r *http.Request) (any, error) { return s.env.Diagnosis.Status(r.Context()) })
	c.get("/writes/{write}", writesOrDecides, s.showWrite)
	c.get("/events", readsAll, s.listEvents)
	c.get(
		"/events/{id}", readsAll,
		func(r *http.Request) (any, error) { return s.env.Ingest.Event(r.Context(), chi.URLParam(r, "id")) },
	)
	s.routeCache(c)
	c.do("POST", "/why", readsAll.inTurn(), s.why)
	c.handle("GET", "/news", readsAll, http.HandlerFunc(s.news))
}

// routeBuilds mounts what is done with sites and their builds.
func (s *Server) routeBuilds(c routes) {
	c.get("/sites", readsAll, func(r *http.Request) (any, error) {
		sites, err := s.env.Automation.Sites(r.Context())
		return map[string]any{"items": sites}, err
	})
	c.do("POST", "/sites/{site}/rebuild", rebuilds, s.rebuild)
	c.get("/builds", readsAll, s.listBuilds)
	c.get(
		"/builds/{id}", readsAll,
		func(r *http.Request) (any, error) { return s.env.Automation.Build(r.Context(), chi.URLParam(r, "id")) },
	)
	// The site's own key is enough for this one.
	c.do("POST", "/builds/{id}/reports", reports, s.report)
}

// badRequest is an error that is the caller's, with its own status.
type badRequest struct{ problem }

func (b badRequest) Error() string { return b.Detail }

func answerWith(s *Server, f func(*http.Request) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		out, err := f(r)
		if err != nil {
			s.fail(w, r, err)
			return
		}
		if tagged, ok := out.(interface{ revision() int }); ok {
			w.Header().Set("ETag", revisionTag(tagged.revision()))
		}
		status := http.StatusOK
		if other, ok := out.(interface{ status() int }); ok {
			status = other.status()
		}
		writeJSON(w, status, out)
	}
}

// revisionTag is the entity tag of an entry at a revision.
func revisionTag(n int) string { return `"` + strconv.Itoa(n) + `"` }

// wantedRevision reads an If-Match header that revisionTag has written; 0 when
// there is none.
func wantedRevision(r *http.Request) (int, error) {
	header := r.Header.Get("If-Match")
	if header == "" || header == "*" {
		return 0, nil
	}
	n, err := strconv.Atoi(strings.Trim(header, `"`))
	if err != nil || n < 1 {
		return 0, badRequest{
			problem{
				Kind:      "parameter",
				Status:    400,
				Parameter: "If-Match",
				Detail:    strconv.Quote(header) + " is no revision",
				Hint:      `send the revision as it came in the ETag, as in "3"`,
			},
		}
	}
	return n, nil
}

// stream writes one JSON value a line (NDJSON) while long work goes on.
type stream struct {
	w       http.ResponseWriter
	out     *http.ResponseController
	enc     *json.Encoder
	started bool
}

func newStream(w http.ResponseWriter) *stream {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	out := http.NewResponseController(w)
	// Long work outlives the listener's limits, and tells how far it has come
	// while the rest still arrives.
	_ = out.SetReadDeadline(time.Time{})
	_ = out.SetWriteDeadline(time.Time{})
	_ = out.EnableFullDuplex()
	return &stream{w: w, out: out, enc: enc}
}

func (s *stream) write(v any) {
	if !s.started {
		s.started = true
		s.w.Header().Set("Content-Type", "application/x-ndjson")
	}
	// The reader may be gone; the work goes on.
	_ = s.enc.Encode(v)
	_ = s.out.Flush()
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	// The reader may be gone; nothing can be done about that.
	_ = enc.Encode(v)
}

func tooLargeProblem(limit int64) problem {
	return problem{Kind: "too-large", Status: 413, Detail: fmt.Sprintf("the body may have %d bytes", limit)}
}

func readBody(r *http.Request, into any) error {
	body, err := io.ReadAll(r.Body)
	if err == nil && (bytes.Contains(body, []byte(`\u0000`)) || !utf8.Valid(body)) {
		err = errors.New("it is not valid UTF-8, or holds a NUL")
	}
	if err == nil {
		dec := json.NewDecoder(bytes.NewReader(body))
		dec.DisallowUnknownFields()
		err = dec.Decode(into)
	}
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return badRequest{tooLargeProblem(tooLarge.Limit)}
	case err == io.EOF:
		return nil
	case err != nil:
		return badRequest{problem{Kind: "body", Status: 400, Detail: "the body cannot be read: " + err.Error()}}
	}
	return nil
}

// queryValues checks that only known parameters are given.
func queryValues(r *http.Request, known ...string) (map[string]string, error) {
	return parameters(r.URL, known)
}

func number(p map[string]string, name string) (int, error) {
	if p[name] == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(p[name], 10, 32)
	if err != nil || n < 0 {
		return 0, badRequest{
			problem{
				Kind:      "parameter",
				Status:    400,
				Parameter: name,
				Detail:    strconv.Quote(access.Printable(p[name])) + " is no number from 0 to 2147483647",
			},
		}
	}
	return int(n), nil
}

func (s *Server) listEvents(r *http.Request) (any, error) {
	p, err := queryValues(r, "state", "entry", "limit")
	if err != nil {
		return nil, err
	}
	n, err := number(p, "limit")
	if err != nil {
		return nil, err
	}
	items, err := s.env.Ingest.Events(r.Context(), events.EventFilter{State: p["state"], Entry: p["entry"], Limit: n})
	return map[string]any{"items": items}, err
}

func (s *Server) listBuilds(r *http.Request) (any, error) {
	p, err := queryValues(r, "site", "limit")
	if err != nil {
		return nil, err
	}
	n, err := number(p, "limit")
	if err != nil {
		return nil, err
	}
	items, err := s.env.Automation.Builds(r.Context(), builds.BuildFilter{Site: p["site"], Limit: n})
	return map[string]any{"items": items}, err
}

func (s *Server) rebuild(r *http.Request) (any, error) {
	var form struct {
		Now bool `json:"now"`
	}
	if err := readBody(r, &form); err != nil {
		return nil, err
	}
	b, err := s.env.Automation.Rebuild(r.Context(), chi.URLParam(r, "site"), by(r), form.Now)
	if err == nil {
		err = s.env.Audit.Note(
			r.Context(), by(r), "build start", chi.URLParam(r, "site"), nil,
			map[string]any{"build": b.ID, "now": form.Now},
		)
	}
	return b, err
}

// report takes a builder's word on a build, with the site's key.
func (s *Server) report(r *http.Request) (any, error) {
	b, err := s.env.Automation.Build(r.Context(), chi.URLParam(r, "id"))
	if who := readerOf(r); !who.Rights.Allows(access.Administer) &&
		(err != nil || who.Site == "" || who.Site != b.Site) {
		return nil, &access.DeniedError{Grant: access.Administer, Everyone: !who.Known()}
	}
	if err != nil {
		return nil, err
	}
	var form struct {
		State string `json:"state"`
		Error string `json:"error"`
	}
	if err := readBody(r, &form); err != nil {
		return nil, err
	}
	switch rebuild.State(form.State) {
	case "started", rebuild.Finished, rebuild.Failed:
		return s.env.Automation.ReportBuild(r.Context(), b.ID, form.State, form.Error)
	}
	return nil, badRequest{
		problem{
			Kind:      "body",
			Status:    400,
			Parameter: "state",
			Detail:    fmt.Sprintf("%q is none of started, finished, failed", form.State),
		},
	}
}

// news tells the console, as server-sent events, that there is something new to
// fetch, until whoever asks may not any more.
func (s *Server) news(w http.ResponseWriter, r *http.Request) {
	end, err := s.streams.open(
		readerOf(r).Principal(s.source(r)), s.env.Replica.Limits().Streams,
		s.env.Replica.Limits().StreamsPerPrincipal,
	)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	defer end()
	news, stop := s.env.Replica.News().Listen()
	defer stop()
	out := beginEvents(w)
	beat := time.NewTicker(streamBeat)
	defer beat.Stop()
	still := func() bool {
		reader, err := s.present(r)
		return err == nil && readsAll.check(&reader, time.Now()) == nil
	}
	for {
		if err := out.out.Flush(); err != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-s.streams.ending:
			out.bye()
			return
		case what := <-news:
			if what == accessNews && !still() {
				return
			}
			out.write("event: news\ndata: %s\n\n", what)
		case <-beat.C:
			if !still() {
				return
			}
			out.write(": still here\n\n")
		}
	}
}

// accessNews is the word that keys or grants have changed.
const accessNews = "access"
