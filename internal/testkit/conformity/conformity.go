// Package conformity holds what a service answers against the document that describes it.
package conformity

import (
	"bytes"
	"mime"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/go-chi/chi/v5"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"ubiquon/internal/server/controlapi"
)

// Checker reports answers of the control endpoints that are not as their OpenAPI document says.
// It is safe for concurrent use. Create it with New.
type Checker struct {
	t       testing.TB
	routes  *chi.Mux
	mu      sync.Mutex
	from    *jsonschema.Compiler
	schemas map[string]*jsonschema.Schema
}

// New returns a checker that reports to t.
func New(t testing.TB) *Checker {
	t.Helper()
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(controlapi.Document()))
	if err != nil {
		t.Fatal(err)
	}
	c := &Checker{
		t: t, routes: chi.NewMux(), from: jsonschema.NewCompiler(), schemas: map[string]*jsonschema.Schema{},
	}
	if err := c.from.AddResource("control.json", document); err != nil {
		t.Fatal(err)
	}
	for _, op := range controlapi.Operations() {
		c.routes.Method(op.Method, "/control/v1"+op.Path, http.NotFoundHandler())
	}
	return c
}

// Handler checks what next answers. Answers that are streamed are not looked at.
func (c *Checker) Handler(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path, found := strings.CutPrefix(r.URL.Path, "/control/v1")
		route := chi.NewRouteContext()
		if !found || !c.routes.Match(route, r.Method, r.URL.Path) || path == "/news" {
			next.ServeHTTP(w, r)
			return
		}
		kept := &copied{ResponseWriter: w}
		next.ServeHTTP(kept, r)
		c.Check(r.Method, strings.TrimPrefix(route.RoutePattern(), "/control/v1"), kept.status, kept.Header(),
			kept.body.Bytes())
	})
}

// copied keeps a copy of an answer.
type copied struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

// WriteHeader implements http.ResponseWriter.
func (k *copied) WriteHeader(status int) {
	k.status = status
	k.ResponseWriter.WriteHeader(status)
}

// Write implements io.Writer.
func (k *copied) Write(p []byte) (int, error) {
	k.body.Write(p)
	return k.ResponseWriter.Write(p)
}

// Unwrap is for http.ResponseController.
func (k *copied) Unwrap() http.ResponseWriter { return k.ResponseWriter }

// Check checks an answer of the operation with a method and a path pattern. Answers that are
// not JSON are not looked at.
func (c *Checker) Check(method, pattern string, status int, header http.Header, answer []byte) {
	c.t.Helper()
	kind, _, _ := mime.ParseMediaType(header.Get("Content-Type"))
	response := "200"
	switch {
	case status >= http.StatusBadRequest:
		response = "default"
	case status == http.StatusAccepted:
		response = "202"
	}
	if kind != "application/json" && kind != "application/problem+json" {
		return // lines, YAML, GraphQL
	}
	at := "control.json#/paths/" + escaped(pattern) + "/" + strings.ToLower(method) + "/responses/" + response +
		"/content/" + escaped(kind) + "/schema"
	schema, err := c.schema(at)
	if err != nil {
		c.t.Errorf("%s %s answers %s of %s, which is not described: %v",
			method, pattern, strconv.Itoa(status), kind, err)
		return
	}
	body, err := jsonschema.UnmarshalJSON(bytes.NewReader(answer))
	if err == nil {
		err = schema.Validate(body)
	}
	if err != nil {
		c.t.Errorf("%s %s answers %d with something else than is described: %v", method, pattern, status, err)
	}
}

func (c *Checker) schema(at string) (*jsonschema.Schema, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if known := c.schemas[at]; known != nil {
		return known, nil
	}
	schema, err := c.from.Compile(at)
	if err == nil {
		c.schemas[at] = schema
	}
	return schema, err
}

// escaped is a part of a JSON pointer in the fragment of an address.
func escaped(part string) string {
	return strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D", "+", "%2B").Replace(part)
}

// Serve starts a server of h whose answers are checked. The caller closes it.
func Serve(t testing.TB, h http.Handler) *httptest.Server {
	t.Helper()
	return httptest.NewServer(New(t).Handler(h))
}
