package environment_test

import (
	"context"
	"io"
	"net/http"
	"reflect"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/client"
	"ubiquon/internal/core/access"
	"ubiquon/internal/server"
	"ubiquon/internal/testkit"
)

// recorder answers every request with nothing, and remembers the last one.
type recorder struct{ last *http.Request }

func (r *recorder) RoundTrip(req *http.Request) (*http.Response, error) {
	r.last = req
	if req.Body != nil {
		_, _ = io.Copy(io.Discard, req.Body) // it is to be sent whole
	}
	return &http.Response{
		StatusCode: 200,
		Header:     http.Header{},
		Body:       io.NopCloser(strings.NewReader("{}")),
		Request:    req,
	}, nil
}

// TestEveryCallHasARoute makes every call of the client, with arguments of some kind,
// and finds the route that it goes to.
func TestEveryCallHasARoute(t *testing.T) {
	n := open(t, testkit.Store(t, testkit.Model(t, testkit.Ferries)), access.NewSecret())
	routes := server.New(server.Options{Environment: n.Environment}).Routes()
	var asked recorder
	c := &client.Client{Address: "http://127.0.0.1:8400", Key: "ubq_x", HTTP: &http.Client{Transport: &asked}}
	argument := func(of reflect.Type) reflect.Value {
		switch of {
		case reflect.TypeFor[context.Context]():
			return reflect.ValueOf(t.Context())
		case reflect.TypeFor[io.Reader]():
			return reflect.ValueOf(strings.NewReader("{}\n"))
		case reflect.TypeFor[io.Writer]():
			return reflect.ValueOf(io.Discard)
		}
		if of.Kind() == reflect.Func {
			return reflect.MakeFunc(of, func([]reflect.Value) []reflect.Value { return nil })
		}
		v := reflect.New(of).Elem()
		switch of.Kind() {
		case reflect.String:
			v.SetString("some-thing")
		case reflect.Int, reflect.Int64:
			v.SetInt(3)
		}
		return v
	}
	type method struct {
		name string
		call reflect.Value
	}
	var methods []method
	for _, area := range []any{
		c, c.Keys(), c.Accounts(), c.Cache(), c.Entries(), c.Models(), c.Origins(), c.Builds(), c.Reads(),
	} {
		calls := reflect.ValueOf(area)
		for i := range calls.NumMethod() {
			name := calls.Type().Method(i).Name
			if calls.Type().Method(i).Type.NumOut() == 1 && area == any(c) && name != "Wake" {
				continue // it returns an area
			}
			methods = append(methods, method{calls.Type().Elem().Name() + "." + name, calls.Method(i)})
		}
	}
	used := map[string]bool{}
	for _, one := range methods {
		name, call := one.name, one.call
		if name == "Client.Do" { // it goes where it is told to
			continue
		}
		var in []reflect.Value
		for k := range call.Type().NumIn() {
			if call.Type().IsVariadic() && k == call.Type().NumIn()-1 {
				break
			}
			in = append(in, argument(call.Type().In(k)))
		}
		asked.last = nil
		out := call.Call(in)
		if err, _ := out[len(out)-1].Interface().(error); asked.last == nil {
			t.Errorf("%s asks nobody: %v", name, err)
			continue
		}
		r := asked.last
		if r.Header.Get("Authorization") != "Bearer ubq_x" {
			t.Errorf("%s says not who asks", name)
		}
		if r.Method != http.MethodGet && r.Method != http.MethodDelete && r.Header.Get("Content-Type") == "" &&
			r.ContentLength != 0 {
			t.Errorf("%s says not what it sends", name)
		}
		if strings.HasPrefix(r.URL.Path, "/content/") {
			continue
		}
		route := chi.NewRouteContext()
		if !routes.Match(route, r.Method, r.URL.EscapedPath()) {
			t.Errorf("%s asks for %s %s, which nobody serves", name, r.Method, r.URL.Path)
			continue
		}
		used[r.Method+" "+route.RoutePattern()] = true
	}
	if len(used) < 45 {
		t.Errorf("only %d routes are used", len(used))
	}
}
