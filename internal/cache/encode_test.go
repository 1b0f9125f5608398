package cache

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"ubiquon/internal/testkit"
)

func TestBodiesAreEncodedOnce(t *testing.T) {
	body := []byte(strings.Repeat(`{"title":"Fog on the sound"},`, 200))
	r := &Response{Content: NewContent(body)}
	for e, read := range map[Encoding]func(io.Reader) io.Reader{
		Brotli: func(r io.Reader) io.Reader { return brotli.NewReader(r) },
		Gzip:   func(r io.Reader) io.Reader { z, _ := gzip.NewReader(r); return z },
		Zstd:   func(r io.Reader) io.Reader { z, _ := zstd.NewReader(r); return z },
	} {
		var wg sync.WaitGroup
		for range 8 {
			wg.Go(func() { r.Encoded(e) })
		}
		wg.Wait()
		v := r.Encoded(e)
		if v == nil || v != r.Encoded(e) || v.ETag[0] != strings.TrimSuffix(r.ETag()[0], `"`)+"-"+e.String()+`"` ||
			len(v.Body) > len(body)/10 {
			t.Fatalf("%s: %+v", e, v)
		}
		if got, err := io.ReadAll(read(bytes.NewReader(v.Body))); err != nil || !bytes.Equal(got, body) {
			t.Errorf("%s does not come back: %v", e, err)
		}
	}
	if NewContent(body[:500]).Encoded(Gzip) != nil || r.Encoded(Identity) != nil {
		t.Error("what is short, or is to stay as it is, is encoded")
	}
}

// TestEncodingsCount asks for bodies in other encodings after they were stored: what
// these take is part of the bound, and is let go of with the bodies.
func TestEncodingsCount(t *testing.T) {
	const bound = 2 << 20
	c := New(Options{Bytes: bound}, 10)
	random := rand.New(rand.NewPCG(8, 4))
	ask := func(i int) *Response {
		r := of(fmt.Sprint(i), 10)
		words := make([]byte, 0, 4000)
		for len(words) < 4000 {
			words = fmt.Appendf(words, "%x ", random.Uint32())
		}
		r.Content = NewContent(words)
		if err := c.Renew(t.Context(), Request{Key: fmt.Sprint(i)}, computes(r)); err != nil {
			t.Fatal(err)
		}
		return r
	}
	one := ask(0)
	c.held.CleanUp()
	alone := c.Stats().Bytes
	v := one.Encoded(Gzip)
	if grown := c.Stats().Bytes - alone; grown < uint64(len(v.Body)) || grown > uint64(len(v.Body)+bytesOfVariant) {
		t.Errorf("a body of %d bytes more: %d bytes more", len(v.Body), grown)
	}
	if unheld := NewContent(one.Body); unheld.Encoded(Gzip) == nil || c.encoded.made.Load() != 1 {
		t.Error("what nobody holds counts")
	}
	for i := range 1_200 {
		r := ask(i + 1)
		for e := Brotli; e <= Gzip; e++ {
			r.Encoded(e)
		}
	}
	c.held.CleanUp()
	// What was evicted takes memory until it is collected.
	testkit.Eventually(t, "the bound is kept", func() bool {
		runtime.GC()
		c.keepBound()
		s := c.Stats()
		return s.Bytes < bound*105/100 && c.encoded.bytes.Load() < int64(s.Bytes)*3/4 && s.Responses > 80
	})
	runtime.KeepAlive(one)
	c.Purge(nil)
	one, v = nil, nil
	testkit.Eventually(
		t, "what is gone does not count", func() bool { runtime.GC(); return c.encoded.bytes.Load() == 0 },
	)
}

func TestChoosingAnEncoding(t *testing.T) {
	for header, want := range map[string]Encoding{
		"": Identity, "gzip": Gzip, "gzip, deflate, br, " +
			"zstd": Brotli, "gzip;q=1.0, br;q=0.5": Gzip, "br;q=0": Identity, "zstd, gzip": Zstd, "GZIP ; q=0.3": Gzip,
		"*": Identity, "identity, x": Identity, "br;q=x, gzip;q=0.1": Gzip,
	} {
		if got := ChooseEncoding(header); got != want {
			t.Errorf("%q: %s", header, got)
		}
	}
}

// TestReleasedBodiesAreForgotten stores far more bodies than there is room for: the
// table that lets equal ones be shared does not grow with those that have left.
func TestReleasedBodiesAreForgotten(t *testing.T) {
	c := New(Options{Bytes: 2 << 20}, 10)
	store := func(key string, body []byte) *Response {
		r := of(key, 10)
		r.Content = NewContent(body)
		if err := c.Renew(t.Context(), Request{Key: key}, computes(r)); err != nil {
			t.Fatal(err)
		}
		return r
	}
	for i := range 20_000 {
		store(fmt.Sprint(i), fmt.Appendf(nil, "%0600d", i))
		if i%2_000 == 0 {
			runtime.GC() // only then is anybody gone
		}
	}
	if held, known := c.Stats().Responses, len(c.bodies); known > 8_000 || held == 0 || known < held/2 {
		t.Errorf("%d are held, and %d bodies known", held, known)
	}
	// Equal bodies are one, whoever stored them first.
	body := bytes.Repeat([]byte("fog "), 400)
	a, b := store("a", body), store("b", bytes.Clone(body))
	if a.Content != b.Content || &a.Body[0] != &b.Body[0] {
		t.Error("equal bodies are held twice")
	}
	if short := store("c", []byte("fog")); short.Content == store("d", []byte("fog")).Content {
		t.Error("what is short is looked after as if it were long")
	}
}
