package breakwater

import (
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Standard is a shared cache that keeps to RFC 9111 and knows nothing of the gateway. It is
// an http.Handler: PURGE lets go of what it holds for an address, or, for the address *, of
// everything; the rest are reads.
type Standard struct {
	gateway string
	web     http.Client

	mu     sync.Mutex
	held   map[string][]*variant // by address
	purged int                   // how often it was told to let go of something

	Hits, Misses, Revalidated int
}

// variant is one answer that is held for an address.
type variant struct {
	status int
	header http.Header
	body   []byte
	varies map[string]string // what the request had of the headers in Vary
	at     time.Time
	age    time.Duration // when it came
}

// NewStandard returns an empty cache before a gateway.
func NewStandard(gateway string) *Standard {
	return &Standard{
		gateway: gateway,
		web:     http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{DisableCompression: true}},
		held:    map[string][]*variant{},
	}
}

// ServeHTTP implements http.Handler.
func (c *Standard) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	address := r.URL.RequestURI()
	if r.Method == "PURGE" {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.purged++; r.URL.Path == "/*" {
			clear(c.held)
		}
		delete(c.held, address)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	c.mu.Lock()
	purged := c.purged
	held := c.fitting(address, r)
	if held != nil && held.fresh(time.Now()) && !has(r.Header, "Cache-Control", "no-cache") {
		c.Hits++
		c.mu.Unlock()
		held.answer(w)
		return
	}
	c.mu.Unlock()
	req, err := http.NewRequestWithContext(r.Context(), r.Method, c.gateway+address, r.Body)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	req.Header = r.Header.Clone()
	if held != nil && held.header.Get("ETag") != "" {
		req.Header.Set("If-None-Match", held.header.Get("ETag"))
	}
	resp, err := c.web.Do(req)
	if err != nil {
		http.Error(w, "the gateway does not answer", http.StatusBadGateway)
		return
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		http.Error(w, "the gateway does not answer", http.StatusBadGateway)
		return
	}
	one := &variant{
		status: resp.StatusCode,
		header: resp.Header,
		body:   body,
		varies: map[string]string{},
		at:     time.Now(),
	}
	c.mu.Lock()
	if resp.StatusCode == http.StatusNotModified && held != nil && r.Header.Get("If-None-Match") == "" {
		one.status, one.body, one.header = held.status, held.body, held.header.Clone()
		for name, values := range resp.Header {
			one.header[name] = values
		}
		c.Revalidated++
	} else {
		c.Misses++
	}
	if purged == c.purged && storable(r, one) {
		for _, name := range list(one.header, "Vary") {
			one.varies[http.CanonicalHeaderKey(name)] = strings.Join(r.Header.Values(name), ", ")
		}
		c.held[address] = append(slices.DeleteFunc(c.held[address], func(v *variant) bool { return v.fits(r) }), one)
	}
	c.mu.Unlock()
	one.answer(w)
}

func (c *Standard) fitting(address string, r *http.Request) *variant {
	for _, v := range c.held[address] {
		if v.fits(r) {
			return v
		}
	}
	return nil
}

// fits tells whether the request has what the held answer varies by (RFC 9111, 4.1).
func (v *variant) fits(r *http.Request) bool {
	for name, value := range v.varies {
		if strings.Join(r.Header.Values(name), ", ") != value {
			return false
		}
	}
	return true
}

// fresh tells whether it may be served without asking (4.2, 5.2.2).
func (v *variant) fresh(now time.Time) bool {
	if has(v.header, "Cache-Control", "no-cache") {
		return false
	}
	lifetime := 0
	if n, is := number(v.header, "s-maxage"); is {
		lifetime = n
	} else if n, is := number(v.header, "max-age"); is {
		lifetime = n
	}
	return now.Sub(v.at)+v.age < time.Duration(lifetime)*time.Second
}

// storable tells whether a shared cache may keep the answer (3, 3.5).
func storable(r *http.Request, v *variant) bool {
	says := func(directive string) bool { return has(v.header, "Cache-Control", directive) }
	_, shared := number(v.header, "s-maxage")
	_, aged := number(v.header, "max-age")
	switch {
	case r.Method != http.MethodGet, v.status == http.StatusNotModified, v.status == http.StatusPartialContent:
		return false
	case says("no-store"),
		has(r.Header, "Cache-Control", "no-store"),
		says("private"),
		slices.Contains(list(v.header, "Vary"), "*"):
		return false
	case r.Header.Get("Authorization") != "" && !says("public") && !says("must-revalidate") && !shared:
		return false
	}
	return shared || aged || says("public")
}

func (v *variant) answer(w http.ResponseWriter) {
	for name, values := range v.header {
		w.Header()[name] = values
	}
	w.Header().Set("Age", strconv.Itoa(int((time.Since(v.at)+v.age)/time.Second)))
	w.WriteHeader(v.status)
	_, _ = w.Write(v.body) // the reader may be gone
}

// list reads a header that is a list.
func list(h http.Header, name string) []string {
	var out []string
	for one := range strings.SplitSeq(strings.Join(h.Values(name), ","), ",") {
		if one = strings.TrimSpace(one); one != "" {
			out = append(out, one)
		}
	}
	return out
}

func has(h http.Header, name, directive string) bool {
	return slices.ContainsFunc(list(h, name), func(one string) bool { return strings.EqualFold(one, directive) })
}

// number reads a directive of Cache-Control that has one.
func number(h http.Header, directive string) (int, bool) {
	for _, one := range list(h, "Cache-Control") {
		if name, value, _ := strings.Cut(one, "="); strings.EqualFold(name, directive) {
			n, err := strconv.Atoi(strings.Trim(value, `"`))
			return n, err == nil
		}
	}
	return 0, false
}
