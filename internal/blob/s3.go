package blob

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// ObjectStore says how an object store is reached that speaks the S3 protocol.
type ObjectStore struct {
	// Address as in https://objects.example; http only on loopback or where the operator says so.
	Address string
	Bucket  string
	// Prefix is put before every key.
	Prefix            string
	Region            string
	AccessKey, Secret string
	// Transport makes the calls; nil for the default one.
	Transport http.RoundTripper
	// Temporary is the directory for files that are to be put, and for those that are looked at.
	Temporary string
}

type objects struct {
	o      ObjectStore
	client *minio.Client
}

// timeouts of calls to an object store.
const (
	objectCall = 30 * time.Second
	objectPut  = 30 * time.Minute
)

// OpenObjectStore checks that the bucket is there.
func OpenObjectStore(ctx context.Context, o ObjectStore) (Store, error) {
	u, err := url.Parse(o.Address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf(
			"the object store's address %q is none; write it as in https://objects.example",
			o.Address,
		)
	}
	if err := os.MkdirAll(o.Temporary, 0o700); err != nil {
		return nil, err
	}
	client, err := minio.New(u.Host, &minio.Options{
		Creds: credentials.NewStaticV4(o.AccessKey, o.Secret, ""), Secure: u.Scheme == "https", Region: o.Region,
		Transport: o.Transport, MaxRetries: 3, BucketLookup: minio.BucketLookupPath,
	})
	if err != nil {
		return nil, fmt.Errorf("the object store: %w", err)
	}
	s := &objects{o, client}
	within, cancel := context.WithTimeout(ctx, objectCall)
	defer cancel()
	found, err := client.BucketExists(within, o.Bucket)
	if err != nil {
		return nil, fmt.Errorf("the object store at %s cannot be asked: %w", o.Address, err)
	}
	if !found {
		return nil, fmt.Errorf("the object store at %s has no bucket %q; make it", o.Address, o.Bucket)
	}
	return s, nil
}

func (s *objects) key(key string) string { return s.o.Prefix + key }

// Temporary implements Store.
func (s *objects) Temporary() string { return s.o.Temporary }

// Put implements Store.
func (s *objects) Put(ctx context.Context, key, path string) error {
	within, cancel := context.WithTimeout(ctx, objectPut)
	defer cancel()
	if _, err := s.client.FPutObject(within, s.o.Bucket, s.key(key), path, minio.PutObjectOptions{
		ContentType: "application/octet-stream", SendContentMd5: true,
	}); err != nil {
		return fmt.Errorf("the object store did not take %s: %w", key, err)
	}
	return os.Remove(path)
}

// Open implements Store.
func (s *objects) Open(ctx context.Context, key string) (Reader, Item, error) {
	object, err := s.client.GetObject(ctx, s.o.Bucket, s.key(key), minio.GetObjectOptions{})
	if err != nil {
		return nil, Item{}, notFound(err)
	}
	info, err := object.Stat()
	if err != nil {
		_ = object.Close()
		return nil, Item{}, notFound(err)
	}
	return object, Item{key, info.Size, info.LastModified}, nil
}

func notFound(err error) error {
	var answer minio.ErrorResponse
	if errors.As(err, &answer) && answer.StatusCode == http.StatusNotFound {
		return ErrNotFound
	}
	return err
}

// Local implements Store.
func (s *objects) Local(ctx context.Context, key string) (string, func(), error) {
	within, cancel := context.WithTimeout(ctx, objectPut)
	defer cancel()
	in, item, err := s.Open(within, key)
	if err != nil {
		return "", nil, err
	}
	defer func() { _ = in.Close() }()
	f, err := os.CreateTemp(s.o.Temporary, "looked-at-*")
	if err != nil {
		return "", nil, err
	}
	done := func() { _ = os.Remove(f.Name()) }
	n, err := io.Copy(f, in)
	if err == nil && n != item.Bytes {
		err = fmt.Errorf("the object store broke off after %d of %d bytes", n, item.Bytes)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		done()
		return "", nil, err
	}
	return f.Name(), done, nil
}

// Delete implements Store.
func (s *objects) Delete(ctx context.Context, key string) error {
	within, cancel := context.WithTimeout(ctx, objectCall)
	defer cancel()
	return s.client.RemoveObject(within, s.o.Bucket, s.key(key), minio.RemoveObjectOptions{})
}

// List implements Store.
func (s *objects) List(ctx context.Context, prefix string, each func(Item) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for o := range s.client.ListObjects(ctx, s.o.Bucket, minio.ListObjectsOptions{
		Prefix: s.key(prefix), Recursive: true,
	}) {
		if o.Err != nil {
			return o.Err
		}
		if err := each(Item{strings.TrimPrefix(o.Key, s.o.Prefix), o.Size, o.LastModified}); err != nil {
			return err
		}
	}
	return nil
}
