package blob_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"ubiquon/internal/blob"
)

// faults make an object store fail: each returns whether it has answered itself.
type faults struct {
	next   http.Handler
	answer atomic.Pointer[func(w http.ResponseWriter, r *http.Request) bool]
}

func (f *faults) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if answer := f.answer.Load(); answer != nil && (*answer)(w, r) {
		return
	}
	f.next.ServeHTTP(w, r)
}

func (f *faults) set(answer func(w http.ResponseWriter, r *http.Request) bool) {
	f.answer.Store(&answer)
}

// objects is a store over the S3 protocol, and what makes it fail.
func objects(t *testing.T) (blob.Store, *faults) {
	t.Helper()
	backend := s3mem.New()
	if err := backend.CreateBucket("skerry"); err != nil {
		t.Fatal(err)
	}
	f := &faults{next: gofakes3.New(backend).Server()}
	web := httptest.NewServer(f)
	t.Cleanup(web.Close)
	s, err := blob.OpenObjectStore(t.Context(), blob.ObjectStore{
		Address: web.URL, Bucket: "skerry", Prefix: "line/", AccessKey: "key", Secret: "secret", Temporary: t.TempDir(),
	})
	if err != nil {
		t.Fatal(err)
	}
	return s, f
}

func both(t *testing.T, each func(t *testing.T, s blob.Store)) {
	t.Run("directory", func(t *testing.T) {
		s, err := blob.OpenDirectory(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		each(t, s)
	})
	t.Run("objects", func(t *testing.T) {
		s, _ := objects(t)
		each(t, s)
	})
}

const key = "file/aabbccddeeff"

func TestWhatIsPutIsRead(t *testing.T) {
	src := make([]byte, 3<<20)
	_, _ = rand.Read(src)
	both(t, func(t *testing.T, s blob.Store) {
		if _, _, err := s.Open(t.Context(), key); !errors.Is(err, blob.ErrNotFound) {
			t.Errorf("before: %v", err)
		}
		if _, _, err := s.Local(t.Context(), key); !errors.Is(err, blob.ErrNotFound) {
			t.Errorf("before, as a file: %v", err)
		}
		for range 2 { // the same again is no error
			path, hash, n, err := blob.Spool(s, bytes.NewReader(src), 5<<20)
			if err != nil || n != int64(len(src)) || len(hash) != 64 {
				t.Fatal(hash, n, err)
			}
			if err := s.Put(t.Context(), key, path); err != nil {
				t.Fatal(err)
			}
			if _, err := os.Stat(path); !errors.Is(err, os.ErrNotExist) {
				t.Errorf("the temporary file is still there: %v", err)
			}
		}
		r, item, err := s.Open(t.Context(), key)
		if err != nil || item.Bytes != int64(len(src)) {
			t.Fatal(item, err)
		}
		if _, err := r.Seek(1<<20, io.SeekStart); err != nil {
			t.Fatal(err)
		}
		part := make([]byte, 1000)
		if _, err := io.ReadFull(r, part); err != nil || !bytes.Equal(part, src[1<<20:1<<20+1000]) {
			t.Errorf("from the middle: %v", err)
		}
		_ = r.Close()
		path, done, err := s.Local(t.Context(), key)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := os.ReadFile(path); err != nil || !bytes.Equal(got, src) {
			t.Errorf("as a file: %d bytes, %v", len(got), err)
		}
		done()
		var keys []string
		list := func(prefix string) {
			keys = nil
			if err := s.List(t.Context(), prefix, func(i blob.Item) error {
				keys = append(keys, i.Key)
				return nil
			}); err != nil {
				t.Fatal(err)
			}
		}
		if list("file/"); len(keys) != 1 || keys[0] != key {
			t.Errorf("listed: %v", keys)
		}
		for range 2 {
			if err := s.Delete(t.Context(), key); err != nil {
				t.Error(err)
			}
		}
		if list("file/"); len(keys) != 0 {
			t.Errorf("left: %v", keys)
		}
	})
}

func TestWhatIsTooLargeLeavesNothing(t *testing.T) {
	s, err := blob.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	var large *blob.ErrTooLarge
	if _, _, _, err := blob.Spool(s, strings.NewReader(strings.Repeat("x", 101)), 100); !errors.As(err, &large) {
		t.Error(err)
	}
	broken := io.MultiReader(strings.NewReader("half"), iotestErr{})
	if _, _, _, err := blob.Spool(s, broken, 100); err == nil {
		t.Error("a reader that breaks off is taken")
	}
	if left, _ := filepath.Glob(filepath.Join(s.Temporary(), "*")); len(left) != 0 {
		t.Errorf("left: %v", left)
	}
	for _, bad := range []string{"", "../x", "file/../../x", "File/A", "/x"} {
		if _, _, err := s.Open(t.Context(), bad); err == nil || errors.Is(err, blob.ErrNotFound) {
			t.Errorf("the key %q is taken: %v", bad, err)
		}
	}
}

type iotestErr struct{}

func (iotestErr) Read([]byte) (int, error) { return 0, errors.New("broken off") }

// TestObjectStoreFails has the object store answer with errors, hang and break off: what was not kept is
// not there, and what is there is whole.
func TestObjectStoreFails(t *testing.T) {
	s, f := objects(t)
	put := func(ctx context.Context) error {
		path, _, _, err := blob.Spool(s, strings.NewReader(strings.Repeat("harbour ", 1000)), 1<<20)
		if err != nil {
			t.Fatal(err)
		}
		defer os.Remove(path)
		return s.Put(ctx, key, path)
	}
	// Two answers of 503 are nothing that anybody notices.
	var n atomic.Int32
	f.set(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPut && n.Add(1) <= 2 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return true
		}
		return false
	})
	if err := put(t.Context()); err != nil {
		t.Errorf("after two errors: %v", err)
	}
	if err := s.Delete(t.Context(), key); err != nil {
		t.Fatal(err)
	}
	f.set(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPut {
			_, _ = io.CopyN(io.Discard, r.Body, 100)
			panic(http.ErrAbortHandler) // in the middle of it
		}
		return false
	})
	if err := put(t.Context()); err == nil {
		t.Error("a write that broke off is taken for one")
	}
	f.set(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPut {
			_, _ = io.Copy(io.Discard, r.Body) // then it is noticed that the other end has gone
			<-r.Context().Done()
			return true
		}
		return false
	})
	within, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	if err := put(within); err == nil {
		t.Error("a write that hangs is taken for one")
	}
	f.set(func(http.ResponseWriter, *http.Request) bool { return false })
	if _, _, err := s.Open(t.Context(), key); !errors.Is(err, blob.ErrNotFound) {
		t.Errorf("what was not kept is there: %v", err)
	}
	if err := put(t.Context()); err != nil {
		t.Fatal(err)
	}
	f.set(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet {
			w.WriteHeader(http.StatusForbidden)
			return true
		}
		return false
	})
	if _, _, err := s.Local(t.Context(), key); err == nil || errors.Is(err, blob.ErrNotFound) {
		t.Errorf("a read that is refused: %v", err)
	}
	bad := blob.ObjectStore{Address: "objects", Bucket: "b", Temporary: t.TempDir()}
	if _, err := blob.OpenObjectStore(t.Context(), bad); err == nil {
		t.Error("an address without a scheme is taken")
	}
}

// TestWhatIsReadOftenIsHeld reads something small again after it is gone beneath, and not once it was removed.
func TestWhatIsReadOftenIsHeld(t *testing.T) {
	below, err := blob.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	s := blob.Remember(below)
	for _, n := range []int{1000, 300 << 10} {
		src := bytes.Repeat([]byte{7}, n)
		path, _, _, err := blob.Spool(s, bytes.NewReader(src), 1<<20)
		if err == nil {
			err = s.Put(t.Context(), key, path)
		}
		if err != nil {
			t.Fatal(err)
		}
		for i, isThere := range []bool{true, n < 256<<10, false} {
			r, item, err := s.Open(t.Context(), key)
			if isThere != (err == nil) {
				t.Fatalf("%d bytes, look %d: %v", n, i, err)
			}
			if err == nil {
				got, err := io.ReadAll(r)
				if _, err2 := r.Seek(0, io.SeekStart); err != nil || err2 != nil || !bytes.Equal(got, src) ||
					item.Bytes != int64(n) {
					t.Errorf("%d of %d bytes, look %d: %v %v", len(got), n, i, err, err2)
				}
				_ = r.Close()
			}
			remove := below.Delete
			if i == 1 {
				remove = s.Delete
			}
			if err := remove(t.Context(), key); err != nil {
				t.Fatal(err)
			}
		}
	}
}
