package guard

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"ubiquon/internal/core/access"
	"ubiquon/internal/store/writing"
)

// onceHeader names the request header of draft-ietf-httpapi-idempotency-key-header: a
// write with a key that was used already is not made again, and is answered as it was.
const onceHeader = "Idempotency-Key"

const (
	// longestOnce bounds a key, onceKept what is kept of an answer.
	longestOnce = 200
	onceKept    = 32 << 10
)

// once has writes with an Idempotency-Key made once. What is not kept of routes whose
// answers hold secrets is the answer.
func (g *Guard) Idempotent(secret bool, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		given := r.Header.Get(onceHeader)
		if given == "" || r.Method == http.MethodGet {
			next.ServeHTTP(w, r)
			return
		}
		// The draft has a string of RFC 8941; many clients send it without the quotes.
		key := strings.TrimSuffix(strings.TrimPrefix(given, `"`), `"`)
		if key == "" || len(key) > longestOnce || key != access.Printable(key) {
			g.Fail(
				w,
				r,
				Problem{
					Kind:      "parameter",
					Status:    400,
					Parameter: onceHeader,
					Detail:    fmt.Sprintf("the key is 1 to %d printable characters, in quotes", longestOnce),
				},
			)
			return
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			g.Fail(w, r, err)
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		digest := sha256.New()
		fmt.Fprintf(digest, "%s\n%s\n%s\n", r.Method, r.URL.RequestURI(), r.Header.Get("If-Match"))
		digest.Write(body)
		write := writing.Idempotency{Key: PrincipalOf(r).Principal(g.Network(r)) + "\n" + key, Request: digest.Sum(nil)}
		made, err := g.env.Authoring.Once(r.Context(), write)
		switch {
		case errors.Is(err, writing.ErrOtherRequest):
			err = Problem{
				Kind:      "idempotency",
				Status:    422,
				Parameter: onceHeader,
				Detail:    "the key was used for another request; send a new key with every new write",
			}
		case errors.Is(err, writing.ErrUnderWay):
			w.Header().Set("Retry-After", "1")
			err = Problem{
				Kind:      "idempotency",
				Status:    409,
				Parameter: onceHeader,
				Detail:    "the write with this key is still under way; ask again in a moment",
			}
		}
		if err != nil {
			g.Fail(w, r, err)
			return
		}
		if made != nil && made.Body == nil {
			g.Fail(
				w,
				r,
				Problem{
					Kind:      "idempotency",
					Status:    409,
					Parameter: onceHeader,
					Detail:    "this was done already; its answer was not kept",
				},
			)
			return
		}
		if made != nil {
			w.Header().Set("Content-Type", "application/json")
			if made.Status >= 400 {
				w.Header().Set("Content-Type", "application/problem+json")
			}
			w.WriteHeader(made.Status)
			_, _ = w.Write(made.Body) // the client may be gone
			return
		}
		kept := &keptAnswer{Counted: Counted{ResponseWriter: w}}
		defer func() {
			// Whatever becomes of the client, the outcome is kept. Without an answer, since the
			// client had gone before, it is not known to be done.
			out := writing.Outcome{
				Status: cmp.Or(kept.Status, http.StatusInternalServerError),
				Body:   kept.body.Bytes(),
			}
			if secret || kept.body.Len() > onceKept {
				out.Body = nil
			}
			if p := recover(); p != nil {
				out.Status = http.StatusInternalServerError
				defer panic(p)
			}
			if err := g.env.Authoring.KeepOnce(context.WithoutCancel(r.Context()), write, out); err != nil {
				g.env.Replica.Work().Failures.Failed(
					g.log, "what a write with an Idempotency-Key came to cannot be kept", "error", err,
				)
			}
		}()
		next.ServeHTTP(kept, r.WithContext(writing.WithIdempotency(r.Context(), write)))
	})
}

// keptAnswer keeps what is answered.
type keptAnswer struct {
	Counted
	body bytes.Buffer
}

func (k *keptAnswer) Write(p []byte) (int, error) {
	if k.body.Len() <= onceKept {
		k.body.Write(p)
	}
	return k.ResponseWriter.Write(p)
}
