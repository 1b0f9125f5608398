package server

import (
	"bytes"
	"context"
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
	"ubiquon/internal/gateway"
	"ubiquon/internal/store"
)

// maxControlBody bounds the body of a control request.
const maxControlBody = 8 << 20

// control mounts what those who run the service ask of it. All of it takes a
// key that may manage everything, but for a builder's reports.
func (s *Server) control(r chi.Router) {
	r.Post("/builds/{id}/reports", s.report)
	r.Group(func(r chi.Router) {
		r.Use(s.managersOnly)
		r.Get("/status", answerWith(s, func(r *http.Request) (any, error) { return s.g.Status(r.Context()) }))
		s.controlModel(r)
		s.controlEntries(r)
		s.controlSchedules(r)
		r.Get("/events", answerWith(s, s.listEvents))
		r.Get("/events/{id}", answerWith(s, func(r *http.Request) (any, error) { return s.g.Event(r.Context(), chi.URLParam(r, "id")) }))
		r.Get("/sites", answerWith(s, func(r *http.Request) (any, error) {
			sites, err := s.g.Sites(r.Context())
			return map[string]any{"items": sites}, err
		}))
		r.Post("/sites/{site}/rebuild", answerWith(s, s.rebuild))
		r.Get("/builds", answerWith(s, s.listBuilds))
		r.Get("/builds/{id}", answerWith(s, func(r *http.Request) (any, error) { return s.g.Build(r.Context(), chi.URLParam(r, "id")) }))
		r.Get("/cache", answerWith(s, func(*http.Request) (any, error) { return s.g.CacheStats(), nil }))
		r.Post("/cache/purge", answerWith(s, func(*http.Request) (any, error) { return map[string]int{"purged": s.g.Purge()}, nil }))
		r.Get("/keys", answerWith(s, func(r *http.Request) (any, error) {
			keys, err := s.g.Keys(r.Context())
			return map[string]any{"items": keys}, err
		}))
		r.Post("/keys", answerWith(s, s.createKey))
		r.Delete("/keys/{id}", answerWith(s, func(r *http.Request) (any, error) {
			return map[string]bool{"revoked": true}, s.g.RevokeKey(r.Context(), chi.URLParam(r, "id"), keyOf(r).Name)
		}))
		r.Get("/news", s.news)
	})
}

type keyContext struct{}

func withKey(ctx context.Context, k *access.Key) context.Context {
	return context.WithValue(ctx, keyContext{}, k)
}

// keyOf is the key behind a control request.
func keyOf(r *http.Request) *access.Key { return r.Context().Value(keyContext{}).(*access.Key) }

func (s *Server) managersOnly(next http.Handler) http.Handler {
	need := access.Grant{Verb: access.Manage, Edition: access.Any, Type: access.Any}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		key, err := s.reader(r)
		if err == nil && !rightsOf(key).Allows(need) {
			err = &gateway.DeniedError{Grant: need}
		}
		if err != nil {
			s.fail(w, r, err)
			return
		}
		next.ServeHTTP(w, r.WithContext(withKey(r.Context(), key)))
	})
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
		writeJSON(w, http.StatusOK, out)
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
		return 0, badRequest{problem{Kind: "parameter", Status: 400, Parameter: "If-Match", Detail: strconv.Quote(header) + " is no revision", Hint: `send the revision as it came in the ETag, as in "3"`}}
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

func readBody(r *http.Request, into any) error {
	body, err := io.ReadAll(http.MaxBytesReader(nil, r.Body, maxControlBody))
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
		return badRequest{problem{Kind: "too-large", Status: 413, Detail: fmt.Sprintf("the body may have %d bytes", tooLarge.Limit)}}
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
	n, err := strconv.Atoi(p[name])
	if err != nil || n < 0 {
		return 0, badRequest{problem{Kind: "parameter", Status: 400, Parameter: name, Detail: strconv.Quote(p[name]) + " is no number"}}
	}
	return n, nil
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
	items, err := s.g.Events(r.Context(), store.EventFilter{State: p["state"], Entry: p["entry"], Limit: n})
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
	items, err := s.g.Builds(r.Context(), store.BuildFilter{Site: p["site"], Limit: n})
	return map[string]any{"items": items}, err
}

func (s *Server) rebuild(r *http.Request) (any, error) {
	var form struct {
		Now bool `json:"now"`
	}
	if err := readBody(r, &form); err != nil {
		return nil, err
	}
	return s.g.Rebuild(r.Context(), chi.URLParam(r, "site"), keyOf(r).Name, form.Now)
}

func (s *Server) createKey(r *http.Request) (any, error) {
	var form struct {
		Name    string     `json:"name"`
		Grants  []string   `json:"grants"`
		Site    string     `json:"site"`
		Expires *time.Time `json:"expires"`
	}
	if err := readBody(r, &form); err != nil {
		return nil, err
	}
	k := access.Key{Name: form.Name, Site: form.Site, Expires: form.Expires}
	for _, text := range form.Grants {
		g, err := access.ParseGrant(text)
		if err != nil {
			return nil, badRequest{problem{Kind: "body", Status: 400, Parameter: "grants", Detail: err.Error()}}
		}
		k.Grants = append(k.Grants, g)
	}
	if k.Name == "" || len(k.Grants) == 0 {
		return nil, badRequest{problem{Kind: "body", Status: 400, Parameter: "name", Detail: "a key needs a name and at least one grant"}}
	}
	made, secret, err := s.g.CreateKey(r.Context(), k, keyOf(r).Name)
	return map[string]any{"key": made, "secret": secret}, err
}

// report takes a builder's word on a build, with the site's key.
func (s *Server) report(w http.ResponseWriter, r *http.Request) {
	key, err := s.reader(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	b, err := s.g.Build(r.Context(), chi.URLParam(r, "id"))
	manage := access.Grant{Verb: access.Manage, Edition: access.Any, Type: access.Any}
	if key == nil || !rightsOf(key).Allows(manage) && (err != nil || key.Site != b.Site) {
		s.fail(w, r, &gateway.DeniedError{Grant: manage})
		return
	}
	answerWith(s, func(r *http.Request) (any, error) {
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
			return s.g.ReportBuild(r.Context(), b.ID, form.State, form.Error)
		}
		return nil, badRequest{problem{Kind: "body", Status: 400, Parameter: "state", Detail: fmt.Sprintf("%q is none of started, finished, failed", form.State)}}
	})(w, r)
}

// news tells the console, as server-sent events, that there is something new to
// fetch.
func (s *Server) news(w http.ResponseWriter, r *http.Request) {
	news, stop := s.g.News()
	defer stop()
	out := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	// A stream outlives the listener's limit for answers.
	_ = out.SetWriteDeadline(time.Time{})
	fmt.Fprint(w, ": listening\n\n")
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		if err := out.Flush(); err != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case what := <-news:
			fmt.Fprintf(w, "event: news\ndata: %s\n\n", what)
		case <-beat.C:
			fmt.Fprint(w, ": still here\n\n")
		}
	}
}
