package cache

import (
	"bytes"
	"io"
	"strings"
	"sync"
	"testing"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
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
		if v == nil || v != r.Encoded(e) || v.ETag[0] != strings.TrimSuffix(r.ETag()[0], `"`)+"-"+e.String()+`"` || len(v.Body) > len(body)/10 {
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

func TestChoosingAnEncoding(t *testing.T) {
	for header, want := range map[string]Encoding{"": Identity, "gzip": Gzip, "gzip, deflate, br, zstd": Brotli, "gzip;q=1.0, br;q=0.5": Gzip, "br;q=0": Identity, "zstd, gzip": Zstd, "GZIP ; q=0.3": Gzip, "*": Identity, "identity, x": Identity, "br;q=x, gzip;q=0.1": Gzip} {
		if got := ChooseEncoding(header); got != want {
			t.Errorf("%q: %s", header, got)
		}
	}
}
