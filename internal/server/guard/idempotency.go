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

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/store/once"
)

// onceHeader names the request header of draft-ietf-httpapi-idempotency-key-header: a
// write with a key that was used already is not made again, and is answered as it was.
const onceHeader = "Idempotency-Key"

const (
	// longestOnce bounds a key, onceKept what is kept of an answer.
	longestOnce = 200
	onceKept    = 32 << 10
)

// Idempotent has writes with an Idempotency-Key made once. What is not kept of routes whose
// answers hold secrets is the answer.
func (g *Guard) Idempotent(secret bool, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		given := r.Header.Get(onceHeader)
		if given == "" || r.Method == http.MethodGet {
			next.ServeHTTP(w, r)
			return
		}
		write, err := g.idempotencyOf(r, given)
		if err != nil {
			g.Fail(w, r, err)
			return
		}
		made, err := g.env.Authoring.Once(r.Context(), write)
		if err != nil {
			if errors.Is(err, once.ErrUnderWay) {
				w.Header().Set("Retry-After", "1")
			}
			g.Fail(w, r, idempotencyProblem(err))
			return
		}
		if made != nil {
			g.repeat(w, r, made)
			return
		}
		kept := &keptAnswer{Counted: Counted{ResponseWriter: w}}
		defer g.keepOutcome(r, write, kept, secret)
		next.ServeHTTP(kept, r.WithContext(once.WithIdempotency(r.Context(), write)))
	})
}

// idempotencyOf returns the key and the digest of a request. It reads the body, which can be
// read again.
func (g *Guard) idempotencyOf(r *http.Request, given string) (write once.Idempotency, err error) {
	// The draft has a string of RFC 8941; many clients send it without the quotes.
	key := strings.TrimSuffix(strings.TrimPrefix(given, `"`), `"`)
	if key == "" || len(key) > longestOnce || key != access.Printable(key) {
		return write, api.Problem{
			Kind:      "parameter",
			Status:    400,
			Parameter: onceHeader,
			Detail:    fmt.Sprintf("the key is 1 to %d printable characters, in quotes", longestOnce),
		}
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return write, err
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	digest := sha256.New()
	fmt.Fprintf(digest, "%s\n%s\n%s\n", r.Method, r.URL.RequestURI(), r.Header.Get("If-Match"))
	digest.Write(body)
	return once.Idempotency{Key: g.QueueName(PrincipalOf(r), r) + "\n" + key, Request: digest.Sum(nil)}, nil
}

// idempotencyProblem is the problem of a key that cannot be used now.
func idempotencyProblem(err error) error {
	switch {
	case errors.Is(err, once.ErrOtherRequest):
		return api.Problem{
			Kind: "idempotency", Status: 422, Parameter: onceHeader,
			Detail: "the key was used for another request; send a new key with every new write",
		}
	case errors.Is(err, once.ErrUnderWay):
		return api.Problem{
			Kind: "idempotency", Status: 409, Parameter: onceHeader,
			Detail: "the write with this key is still under way; ask again in a moment",
		}
	}
	return err
}

// repeat writes the answer of a write that was made before.
func (g *Guard) repeat(w http.ResponseWriter, r *http.Request, made *once.Outcome) {
	if made.Body == nil {
		g.Fail(w, r, api.Problem{
			Kind: "idempotency", Status: 409, Parameter: onceHeader,
			Detail: "this was done already; its answer was not kept",
		})
		return
	}
	w.Header().Set("Content-Type", "application/json")
	if made.Status >= 400 {
		w.Header().Set("Content-Type", "application/problem+json")
	}
	w.WriteHeader(made.Status)
	_, _ = w.Write(made.Body) // the client may be gone
}

// keepOutcome keeps what a write came to, when its handler has returned or panicked. It must
// be deferred itself, so that it recovers.
func (g *Guard) keepOutcome(r *http.Request, write once.Idempotency, kept *keptAnswer, secret bool) {
	// Whatever becomes of the client, the outcome is kept. Without an answer, since the
	// client had gone before, it is not known to be done.
	out := once.Outcome{
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
}

// keptAnswer keeps what is answered.
type keptAnswer struct {
	Counted
	body bytes.Buffer
}

// Write implements io.Writer.
func (k *keptAnswer) Write(p []byte) (int, error) {
	if k.body.Len() <= onceKept {
		k.body.Write(p)
	}
	return k.ResponseWriter.Write(p)
}
