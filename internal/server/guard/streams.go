package guard

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
)

const (
	// StreamBeat is how often a stream that has nothing to tell says that it is there.
	StreamBeat = 10 * time.Second
	// streamWrite bounds how long a reader may take what is written to it.
	streamWrite = 15 * time.Second
)

// streams counts the event streams that are open. It is safe for concurrent use.
type streams struct {
	Ending chan struct{} // closed when all are to end
	once   sync.Once
	mu     sync.Mutex
	all    int
	each   map[string]int // by principal
}

// Open counts a stream, and returns what ends it. Its error is a retryLater.
func (c *streams) Open(principal string, most, mostEach int) (end func(), err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all >= most || c.each[principal] >= mostEach {
		return nil, TooMany(
			10*time.Second, fmt.Sprintf("%d streams at once are open to one reader, %d to all", mostEach, most),
		)
	}
	if c.each == nil {
		c.each = map[string]int{}
	}
	c.all++
	c.each[principal]++
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.all--
		if c.each[principal]--; c.each[principal] == 0 {
			delete(c.each, principal)
		}
	}, nil
}

// EndStreams ends all event streams, and has their readers connect again, after a second:
// they find another node, if this one is not reached any more.
func (g *Guard) EndStreams() { g.Streams.once.Do(func() { close(g.Streams.Ending) }) }

// Bye tells a reader to connect again.
func (e eventStream) Bye() {
	e.Write("retry: 1000\n\n")
	_ = e.Out.Flush() // the reader may be gone
}

func (c *streams) count() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.all
}

// eventStream is a stream of server-sent events to somebody.
type eventStream struct {
	w   http.ResponseWriter
	Out *http.ResponseController
}

// BeginEvents begins a stream. It outlives the listener's limit for answers; what is
// written has one of its own.
func BeginEvents(w http.ResponseWriter) eventStream {
	e := eventStream{w, http.NewResponseController(w)}
	w.Header().Set("Content-Type", "text/event-stream")
	e.Write(": listening\n\n")
	return e
}

// Write implements io.Writer.
func (e eventStream) Write(format string, args ...any) {
	_ = e.Out.SetWriteDeadline(time.Now().Add(streamWrite)) // not every writer has one
	fmt.Fprintf(e.w, format, args...)
}

// PresentPrincipal is who asks, as they are now: rights may have been taken from them since the
// stream was opened. Its error is that of a new request.
func (g *Guard) PresentPrincipal(r *http.Request) (access.Principal, error) {
	if header := r.Header.Get("Authorization"); header != "" {
		_, secret, _ := strings.Cut(header, " ")
		return g.holderOf(r, strings.TrimSpace(secret), time.Now())
	}
	if cookie := g.CookieOf(r); cookie != "" && !strings.HasPrefix(r.URL.Path, "/content/") {
		reader, _, err := g.env.Accounts.SignedIn(r.Context(), cookie)
		return reader, err
	}
	return g.env.Keys.Everyone(), nil
}

// ChangesStill returns who follows the changes of an edition, or why they may not any
// more.
func (g *Guard) ChangesStill(r *http.Request, edition string) (access.Principal, error) {
	reader, err := g.PresentPrincipal(r)
	if err == nil && (reader.Only != "" && edition != content.Preview || !reader.Rights.AllowsAny(access.Read, edition)) {
		err = &access.DeniedError{Grant: access.Need{Verb: access.Read, Edition: edition, Type: access.Any}}
	}
	return reader, err
}
