package guard

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/once"
)

const (
	// answerWithin is how long a client waits for a write before it is answered with 202,
	// and the write goes on in the background.
	answerWithin = 8 * time.Second
	// mostInBackground bounds those writes; the clients of more wait.
	mostInBackground = 64
	// writesPath is where it is seen what became of such a write.
	writesPath = "/control/v1/writes/"
)

// background are the writes that go on though their requests are answered.
type background struct {
	mu    sync.Mutex
	count int
	all   sync.WaitGroup
}

// enter counts one more, if there may be one more.
func (b *background) enter() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.count == mostInBackground {
		return false
	}
	b.count++
	b.all.Add(1)
	return true
}

func (b *background) leave() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.count--
	b.all.Done()
}

// FinishWrites waits until no write goes on in the background any more, or ctx ends.
func (g *Guard) FinishWrites(ctx context.Context) {
	done := make(chan struct{})
	go func() {
		g.background.all.Wait()
		close(done)
	}()
	select {
	case <-done:
	case <-ctx.Done():
	}
}

// Background answers a write that takes long with 202 and where its outcome will be, and
// has it go on; a client that prefers respond-async (RFC 7240) gets that at once. What is
// not kept of routes whose answers hold secrets is the answer.
func (g *Guard) Background(secret bool, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			next.ServeHTTP(w, r)
			return
		}
		// The body is gone when the request is answered.
		body, err := io.ReadAll(r.Body)
		if err != nil {
			r.Body = io.NopCloser(io.MultiReader(bytes.NewReader(body), failing{err}))
			next.ServeHTTP(w, r)
			return
		}
		ctx, cancel := context.WithCancel(context.WithoutCancel(r.Context()))
		gone := context.AfterFunc(r.Context(), cancel)
		var made *Recorded // once done is closed
		done := make(chan struct{})
		go func() {
			defer close(done)
			defer cancel()
			r := r.WithContext(ctx)
			r.Body = io.NopCloser(bytes.NewReader(body))
			made = g.record(next, r)
		}()
		wait, preferred := max(answerWithin, WaitTime(r)+time.Second), Prefers(r, "respond-async")
		if preferred {
			wait = 0
		}
		timer := time.NewTimer(wait)
		defer timer.Stop()
		select {
		case <-done:
			made.writeTo(w)
			return
		case <-timer.C:
		}
		id := rand.Text()
		key := g.writeKey(r, id)
		if !g.background.enter() {
			<-done
			made.writeTo(w)
			return
		}
		if err := g.env.Authoring.BeginWrite(r.Context(), key); err != nil || !gone() {
			g.background.leave()
			<-done
			made.writeTo(w)
			return
		}
		go func() {
			defer g.background.leave()
			<-done
			g.endWrite(r, key, made, secret)
		}()
		if preferred {
			w.Header().Set("Preference-Applied", "respond-async")
		}
		w.Header().Set("Location", writesPath+id)
		w.Header().Set("Retry-After", "1")
		WriteJSON(
			w, http.StatusAccepted,
			api.WriteState{Write: id, State: "running", Since: time.Now().UTC().Format(time.RFC3339)},
		)
	})
}

// record has a request answered, also if its handler panics.
func (g *Guard) record(next http.Handler, r *http.Request) (made *Recorded) {
	made = &Recorded{}
	defer func() {
		if p := recover(); p != nil {
			g.log.Error("a request panicked", "method", r.Method, "path", r.URL.Path, "panic", p)
			made = &Recorded{}
			WriteProblem(made, api.Problem{
				Kind: "internal", Status: http.StatusInternalServerError,
				Detail: "something went wrong here; the log has more",
			})
		}
	}()
	next.ServeHTTP(made, r)
	return made
}

// endWrite keeps what a write that went on in the background came to.
func (g *Guard) endWrite(r *http.Request, key string, made *Recorded, secret bool) {
	out := once.Outcome{Status: made.Status, Body: made.Body.Bytes()}
	if secret && out.Status < 300 || len(out.Body) > onceKept {
		out.Body = nil
	}
	if err := g.env.Authoring.EndWrite(context.WithoutCancel(r.Context()), key, out); err != nil {
		g.env.Replica.Work().Failures.Failed(
			g.log, "what a write in the background came to cannot be kept", "error", err,
		)
	}
}

// writeKey is what a write in the background is known by: only who has made it is told of it.
func (g *Guard) writeKey(r *http.Request, id string) string {
	return g.QueueName(PrincipalOf(r), r) + "\n\x02" + id
}

// WriteState tells what became of a write that goes on in the background.
func (g *Guard) WriteState(r *http.Request, id string) (out api.WriteState, err error) {
	known, err := g.env.Authoring.WriteOf(r.Context(), g.writeKey(r, id))
	if errors.Is(err, db.ErrNotFound) {
		return out, api.Problem{
			Kind:   "not-found",
			Status: http.StatusNotFound,
			Detail: "there is no write of yours with this id",
			Hint:   "outcomes are kept for a day",
		}
	}
	if err != nil {
		return out, err
	}
	out = api.WriteState{Write: id, State: "running", Since: known.Since.UTC().Format(time.RFC3339)}
	switch {
	case known.Made != nil:
		out.State, out.Status, out.Answer = "done", known.Made.Status, bytes.TrimSpace(known.Made.Body)
		if out.Status >= 400 {
			out.State = "failed"
		}
		if known.Made.Body == nil {
			out.Answer, out.Detail = nil, "the answer was not kept"
		}
	case known.Lost:
		out.State, out.Detail = "lost", "the node that made it has ended; whether it is stored is seen at the entries"
	}
	return out, nil
}

// Prefers tells whether a request has the preference, as in handling=lenient (RFC 7240).
func Prefers(r *http.Request, preference string) bool {
	for one := range strings.SplitSeq(strings.Join(r.Header["Prefer"], ","), ",") {
		if name, _, _ := strings.Cut(one, ";"); strings.ReplaceAll(name, " ", "") == preference {
			return true
		}
	}
	return false
}

// Recorded is an http.ResponseWriter that keeps an answer, which is written later. The zero
// value is ready; it is not safe for concurrent use.
type Recorded struct {
	header http.Header
	Status int
	Body   bytes.Buffer
}

// Header implements http.ResponseWriter.
func (o *Recorded) Header() http.Header {
	if o.header == nil {
		o.header = http.Header{}
	}
	return o.header
}

// WriteHeader implements http.ResponseWriter.
func (o *Recorded) WriteHeader(status int) { o.Status = cmp.Or(o.Status, status) }

// Write implements io.Writer.
func (o *Recorded) Write(p []byte) (int, error) { o.WriteHeader(http.StatusOK); return o.Body.Write(p) }

func (o *Recorded) writeTo(w http.ResponseWriter) {
	for name, values := range o.header {
		w.Header()[name] = values
	}
	if o.Status == 0 {
		return // whoever asked is gone
	}
	w.WriteHeader(o.Status)
	_, _ = w.Write(o.Body.Bytes()) // the client may be gone
}

// failing is a reader that fails.
type failing struct{ err error }

// Read implements io.Reader.
func (f failing) Read([]byte) (int, error) { return 0, f.err }

// GraphQL returns the body as a GraphQL answer, of which a problem is made an error.
func (o *Recorded) GraphQL() json.RawMessage {
	var p api.Problem
	if o.Header().Get("Content-Type") != "application/problem+json" || json.Unmarshal(o.Body.Bytes(), &p) != nil {
		return bytes.TrimSpace(o.Body.Bytes())
	}
	src, _ := json.Marshal(map[string]any{"errors": []any{map[string]any{"message": p.Detail}}}) // text
	return src
}
