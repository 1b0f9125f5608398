package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"ubiquon/internal/blob"
	"ubiquon/internal/core/seal"
)

// blobs is where the bytes of files are kept.
func (o *Options) blobs(ctx context.Context) (blob.Store, error) {
	dir := o.FilesDirectory
	if dir == "" {
		dir = filepath.Join(o.Data, "files")
	}
	if o.Objects.Address == "" {
		return blob.OpenDirectory(dir)
	}
	objects := o.Objects
	objects.Temporary = filepath.Join(dir, "coming")
	objects.Transport = o.Outbound.NewClient().Transport
	return blob.OpenObjectStore(ctx, objects)
}

// secretKeys are the keys that encrypt secrets; nil if there is none.
func (o *Options) secretKeys() (*seal.Ring, error) {
	text := o.SecretKey
	if text == "" && o.Database == "" {
		file := filepath.Join(o.Data, "secret.key")
		src, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			src = []byte(seal.NewKey() + "\n")
			err = os.WriteFile(file, src, 0o600)
		}
		if err != nil {
			return nil, err
		}
		text = string(src)
	}
	if text == "" {
		return nil, nil
	}
	ring, err := seal.ReadRing(text)
	if err != nil {
		return nil, fmt.Errorf("the keys for secrets (UBIQUON_SECRET_KEY): %w", err)
	}
	return ring, nil
}
