package environment_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/server"
)

var mutations = flag.Int("mutations", 60, "mutated requests of each route")

// oddValues are values that something goes wrong on.
var oddValues = []string{
	"",
	"%ff",
	"%00",
	"\xff",
	"-1",
	"0",
	"9223372036854775808",
	"-9223372036854775809",
	"2147483648",
	"1e400",
	"NaN",
	"null",
	"true",
	"[]",
	"{}",
	"..",
	"%2e%2e%2f",
	"'",
	"\"",
	"\\",
	"%",
	"a'; drop table entry; --",
	strings.Repeat(
		"9", 400,
	),
	strings.Repeat("x", 3000),
	strings.Repeat("(", 300),
	"ärger",
	"\u202e",
	"eyJhbGciOiJub25lIn0.e30.",
	"ubq_0",
	"ubv_x.y",
	"2026-13-45",
	"2026-11-28T08:00:00Z",
	"fog",
	"notice",
	"nb",
	"preview",
	"*",
	"title LIKE '%'",
	"A_CONTAINS(routes, ('ring'))",
	"routes(notices(routes(name)))",
	"-published,title",
	"notices[limit=3,sort=-published](title)",
	"1,2,3",
}

var oddNames = []string{
	"fields", "filter", "sort", "limit", "offset", "after", "before", "count", "locale", "translated", "revision",
	"path", "type", "state", "search", "entry", "ids", "below", "until", "who", "what", "origin", "revisions", "from",
	"to", "edition", "query", "variables", "operationName", "documentId", "nothing", "missing", "refersTo", "site",
	"contains",
}

var oddHeaders = []string{
	"If-Match", "If-None-Match", "Prefer", "Accept", "Accept-Language", "Accept-Encoding", "Content-Type",
	"Cache-Control", "Last-Event-ID", "User-Agent", "X-Forwarded-For", "webhook-id", "webhook-timestamp",
	"webhook-signature", "Content-Encoding", "Cookie", "Range", "Origin",
}

type mutator struct{ *rand.Rand }

func pickOf[T any](r *rand.Rand, from []T) T { return from[r.IntN(len(from))] }

// value changes one value of JSON somewhere.
func (m mutator) value(v any) any {
	odd := func() any {
		return pickOf(
			m.Rand,
			[]any{
				nil, "", -1.0, 1e300, true,
				[]any{},
				map[string]any{},
				strings.Repeat("x", 5000), "\u0000",
				pickOf(m.Rand, oddValues),
				[]any{nil},
				map[string]any{"x": nil},
			},
		)
	}
	switch x := v.(type) {
	case map[string]any:
		if len(x) == 0 || m.IntN(6) == 0 {
			return odd()
		}
		names := slices.Sorted(func(yield func(string) bool) {
			for name := range x {
				if !yield(name) {
					return
				}
			}
		})
		name := pickOf(m.Rand, names)
		if m.IntN(8) == 0 {
			delete(x, name)
		} else {
			x[name] = m.value(x[name])
		}
		return x
	case []any:
		if len(x) == 0 || m.IntN(6) == 0 {
			return odd()
		}
		i := m.IntN(len(x))
		x[i] = m.value(x[i])
		return x
	}
	return odd()
}

func (m mutator) body(src []byte) []byte {
	if len(src) == 0 {
		return []byte(pickOf(m.Rand, oddValues))
	}
	if m.IntN(3) > 0 {
		var v any
		if json.Unmarshal(src, &v) == nil {
			out, _ := json.Marshal(m.value(v))
			return out
		}
	}
	out := bytes.Clone(src)
	for range 1 + m.IntN(4) {
		switch i := m.IntN(len(out)); m.IntN(3) {
		case 0:
			out[i] ^= 1 << m.IntN(8)
		case 1:
			out = out[:i+1]
		default:
			out = slices.Concat(out[:i], []byte(pickOf(m.Rand, oddValues)), out[i:])
		}
	}
	return out
}

// TestMutatedRequestsBreakNothing sends what nearly is a request to every route, as
// somebody who may do everything.
func TestMutatedRequestsBreakNothing(t *testing.T) {
	l := newLine(t, 1)
	m := l.matrix(t)
	handler := server.New(server.Options{Environment: m.n.Environment, Batch: 5})
	var routes []string
	if err := chi.Walk(handler.Routes(),
		func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
			routes = append(routes, method+" "+route)
			return nil
		}); err != nil {
		t.Fatal(err)
	}
	for route := range whoMay {
		if strings.Contains(route, " /content/") {
			routes = append(routes, route)
		}
	}
	for _, one := range []string{
		"published/at", "published/paths", "published/notices/fog",
		"published/entries/fog", "preview/notices",
	} {
		routes = append(routes, "GET /content/"+one)
	}
	slices.Sort(routes)
	for _, route := range slices.Compact(routes) {
		seed := uint64(len(route))
		r := mutator{rand.New(rand.NewPCG(seed, 12))}
		method, path, body := m.request(t, route)
		for i := range *mutations {
			at, sent := path, body
			for range 1 + r.IntN(2) {
				switch r.IntN(5) {
				case 0:
					parts := strings.Split(at, "/")
					n := 3 + r.IntN(max(1, len(parts)-3))
					if n < len(parts) {
						parts[n] = url.PathEscape(pickOf(r.Rand, oddValues))
					}
					at = strings.Join(parts, "/")
				case 1, 2:
					sep := "?"
					if strings.Contains(at, "?") {
						sep = "&"
					}
					value := pickOf(r.Rand, oddValues)
					if r.IntN(6) == 0 {
						value = base64.RawURLEncoding.EncodeToString(
							[]byte(`{"values":["` + value + `"],"id":"fog","list":"x"}`),
						)
					}
					if r.IntN(3) > 0 {
						value = url.QueryEscape(value)
					}
					at += sep + pickOf(
						r.Rand, oddNames,
					) + "=" + strings.NewReplacer(" ", "+", "\x00", "", "\xff", "%ff").
						Replace(value)
				default:
					sent = r.body(body)
				}
			}
			u, err := url.ParseRequestURI(at)
			if err != nil {
				continue // no request has such an address
			}
			ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
			if strings.HasSuffix(u.Path, "/changes") || strings.HasSuffix(u.Path, "/news") {
				cancel()
				ctx, cancel = context.WithTimeout(t.Context(), 20*time.Millisecond) // streams do not end
			}
			req := httptest.NewRequestWithContext(ctx, method, "/", bytes.NewReader(sent))
			req.URL, req.RequestURI = u, at
			req.RemoteAddr = fmt.Sprintf("10.1.%d.%d:99", i>>8&255, i&255)
			req.Header.Set("Content-Type", "application/json")
			if r.IntN(4) > 0 {
				req.Header.Set("Authorization", "Bearer "+m.secrets['a'])
			}
			for range r.IntN(3) {
				req.Header.Set(pickOf(r.Rand, oddHeaders), pickOf(r.Rand, oddValues))
			}
			w := httptest.NewRecorder()
			handler.ServeHTTP(w, req)
			cancel()
			if w.Code >= 500 && w.Code != http.StatusGatewayTimeout {
				t.Errorf("%s %s %v %.300q: %d %.300s", method, at, req.Header, sent, w.Code, w.Body)
			}
		}
	}
}
