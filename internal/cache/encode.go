package cache

import (
	"bytes"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Encoding is a content coding (RFC 9110) in which bodies are served.
type Encoding int

// The encodings, those that make less of JSON first.
const (
	Identity Encoding = iota
	Brotli
	Zstd
	Gzip
)

// encodingNames are what the encodings are called in headers.
var encodingNames = [...]string{"identity", "br", "zstd", "gzip"}

// String implements fmt.Stringer.
func (e Encoding) String() string { return encodingNames[e] }

// MinEncoded is how long a body must be for another encoding to be worth it: it
// would take as many packets anyhow.
const MinEncoded = 1024

// Variant is a body in an encoding.
type Variant struct {
	Body []byte
	// ETag is the response's own with the encoding in it: the bytes are others.
	ETag   []string
	Length []string
	Name   []string
}

type variants struct {
	once  [len(encodingNames)]sync.Once
	made  [len(encodingNames)]*Variant
	count *encodedBytes // set before anybody may ask for one; nil if nobody holds the body
}

// bytesOfVariant is about what a Variant takes beside its body.
const bytesOfVariant = 240

// encodedBytes is what bodies that are held take in other encodings. They are made when
// somebody asks, and go with their body when nobody has it any more.
type encodedBytes struct {
	bytes, made atomic.Int64
	grown       func() // is called now and then
}

func (c *encodedBytes) add(v *variants, n int64) {
	c.bytes.Add(n)
	runtime.AddCleanup(v, func(n int64) { c.bytes.Add(-n) }, n)
	if c.made.Add(1)%boundEvery == 0 {
		c.grown()
	}
}

// Encoded returns the body in an encoding, which is made when it is first asked
// for and kept; nil if the body is better served as it is.
func (c *Content) Encoded(e Encoding) *Variant {
	if e == Identity || c.encoded == nil {
		return nil
	}
	c.encoded.once[e].Do(func() {
		body := bytes.Clone(encode(e, c.Body)) // without the room that is left in it
		if len(body) >= len(c.Body) {
			return
		}
		if c.encoded.count != nil {
			c.encoded.count.add(c.encoded, int64(len(body)+bytesOfVariant))
		}
		c.encoded.made[e] = &Variant{
			Body:   body,
			ETag:   []string{strings.TrimSuffix(c.tags[0], `"`) + "-" + e.String() + `"`},
			Length: []string{strconv.Itoa(len(body))},
			Name:   []string{e.String()},
		}
	})
	return c.encoded.made[e]
}

var (
	zstdEncoder, _ = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1)) // its options are good
	gzipWriters    = sync.Pool{New: func() any { return gzip.NewWriter(nil) }}
)

// brotliLevel is where more time makes little less.
const brotliLevel = 5

func encode(e Encoding, body []byte) []byte {
	var b bytes.Buffer
	switch e {
	case Zstd:
		return zstdEncoder.EncodeAll(body, nil)
	case Brotli:
		w := brotli.NewWriterLevel(&b, brotliLevel)
		_, _ = w.Write(body) // into memory
		_ = w.Close()
	case Gzip:
		w := gzipWriters.Get().(*gzip.Writer)
		defer gzipWriters.Put(w)
		w.Reset(&b)
		_, _ = w.Write(body)
		_ = w.Close()
	}
	return b.Bytes()
}

// ChooseEncoding picks the encoding for an Accept-Encoding header: of those with
// the highest weight the one that makes least.
func ChooseEncoding(header string) Encoding {
	best, weight := Identity, 0.0
	if header == "" {
		return best
	}
	for part := range strings.SplitSeq(header, ",") {
		name, params, _ := strings.Cut(strings.TrimSpace(part), ";")
		q := 1.0
		if value, ok := strings.CutPrefix(strings.ReplaceAll(params, " ", ""), "q="); ok {
			var err error
			if q, err = strconv.ParseFloat(value, 64); err != nil {
				continue
			}
		}
		for e := Brotli; e <= Gzip; e++ {
			if q > 0 && strings.EqualFold(strings.TrimSpace(name), e.String()) &&
				(q > weight || q == weight && e < best) {
				best, weight = e, q
			}
		}
	}
	return best
}
