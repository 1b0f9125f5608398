package blob

import (
	"bytes"
	"context"
	"io"

	"github.com/maypok86/otter/v2"
)

const (
	// rememberedBytes bounds what is held in memory, and rememberedEach one of it: pictures as pages show them.
	rememberedBytes = 32 << 20
	rememberedEach  = 256 << 10
)

// Remembered is a store that holds in memory what is small and read often, 32 MiB of it. What is under a key
// never changes, so that it is right wherever it was read.
type Remembered struct {
	Store
	held *otter.Cache[string, remembered]
}

type remembered struct {
	item  Item
	bytes []byte
}

// Remember returns a store that holds what is read often.
func Remember(s Store) *Remembered {
	return &Remembered{s, otter.Must(&otter.Options[string, remembered]{
		MaximumWeight: rememberedBytes,
		Weigher:       func(_ string, r remembered) uint32 { return uint32(len(r.bytes)) + 256 },
	})}
}

type inMemory struct {
	*bytes.Reader
	all []byte
}

// Whole returns all bytes, which must not be changed.
func (r inMemory) Whole() []byte { return r.all }

// Close implements io.Closer.
func (inMemory) Close() error { return nil }

// Open implements Store.
func (s *Remembered) Open(ctx context.Context, key string) (Reader, Item, error) {
	if r, is := s.held.GetIfPresent(key); is {
		return inMemory{bytes.NewReader(r.bytes), r.bytes}, r.item, nil
	}
	in, item, err := s.Store.Open(ctx, key)
	if err != nil || item.Bytes > rememberedEach {
		return in, item, err
	}
	defer in.Close()
	src, err := io.ReadAll(in)
	if err != nil {
		return nil, item, err
	}
	s.held.Set(key, remembered{item, src})
	return inMemory{bytes.NewReader(src), src}, item, nil
}

// Delete implements Store.
func (s *Remembered) Delete(ctx context.Context, key string) error {
	s.held.Invalidate(key)
	return s.Store.Delete(ctx, key)
}
