package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/blob"
	"ubiquon/internal/store/files"
)

const (
	// collectEvery is how often what nobody uses is collected.
	collectEvery = time.Hour
	// collectAtOnce bounds what is collected in one go.
	collectAtOnce = 500
	// unusedFor is for how long a picture is kept that nobody asks for.
	unusedFor = 30 * 24 * time.Hour
	// noteUsedEvery is how often it is noted which pictures are asked for.
	noteUsedEvery = time.Minute
	// mostTold is how many hashes a check names.
	mostTold = 100
)

func (s *Service) noteUsedLoop(ctx context.Context) {
	for background.Sleep(ctx, noteUsedEvery, nil) {
		s.mu.Lock()
		used := s.used
		s.used = map[files.Key]bool{}
		s.mu.Unlock()
		var hashes, names []string
		for k := range used {
			hashes, names = append(hashes, k.Hash), append(names, k.Name)
		}
		if len(hashes) == 0 {
			continue
		}
		if err := s.store.NoteUsed(ctx, hashes, names); err != nil && ctx.Err() == nil {
			s.work.Failures.Failed(s.log, "which pictures are used cannot be noted", "error", err)
		}
	}
}

func (s *Service) collectLoop(ctx context.Context) {
	for background.Sleep(ctx, collectEvery, nil) {
		if _, err := s.Collect(ctx); err != nil && ctx.Err() == nil {
			s.work.Failures.Failed(s.log, "unused files cannot be collected", "error", err)
		}
	}
}

// Collect removes bytes that no file has had for the grace period, pictures that nobody asks for
// and those beyond their bound, and returns how many.
func (s *Service) Collect(ctx context.Context) (n int, err error) {
	for {
		gone, err := s.store.Forget(ctx, time.Now().Add(-s.config.Grace), collectAtOnce)
		if err != nil {
			return n, err
		}
		for _, hash := range gone {
			// Another environment may keep the same.
			if used, err := s.store.InUse(ctx, hash); err != nil {
				return n, err
			} else if !used {
				if err := s.held.Delete(ctx, originalKey(hash)); err != nil {
					return n, err
				}
			}
			n++
		}
		if len(gone) < collectAtOnce {
			break
		}
	}
	for {
		gone, err := s.store.Evict(ctx, time.Now().Add(-unusedFor), s.config.RenditionBytes, collectAtOnce)
		if err != nil {
			return n, err
		}
		for _, k := range gone {
			if err := s.held.Delete(ctx, blobKey(k)); err != nil {
				return n, err
			}
			n++
		}
		if len(gone) < collectAtOnce {
			break
		}
	}
	s.forget()
	return n, s.store.ForgetMirrored(ctx)
}

// progressEvery is after how many bytes noted a check tells how far it is.
const progressEvery = 200

// Check compares what is noted with what is kept, and tells how far it is.
func (s *Service) Check(ctx context.Context, o api.FileCheckOptions, tell func(api.FileCheck)) error {
	out := api.FileCheck{Missing: []string{}, Damaged: []string{}, Orphans: []string{}, Renderer: "libvips-tools"}
	if !s.renderer.HasTools() {
		out.Renderer = "the service itself (JPEG and PNG alone): install libvips-tools"
	}
	note := func(list *[]string, hash string) {
		if len(*list) < mostTold {
			*list = append(*list, hash)
		}
	}
	err := s.store.All(ctx, func(b files.Blob) error {
		out.Checked++
		out.Bytes += b.Bytes
		switch err := s.checkBlob(ctx, b, o.Hashes); {
		case errors.Is(err, blob.ErrNotFound):
			note(&out.Missing, b.Hash)
		case errors.Is(err, errDamaged):
			note(&out.Damaged, b.Hash)
		case err != nil:
			return err
		}
		if out.Checked%progressEvery == 0 {
			tell(out)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := s.orphans(ctx, o.Collect, &out); err != nil {
		return err
	}
	if o.Collect {
		n, err := s.Collect(ctx)
		if err != nil {
			return err
		}
		out.Collected += n
	}
	out.Done = true
	tell(out)
	return nil
}

var errDamaged = errors.New("the bytes are others than they were")

func (s *Service) checkBlob(ctx context.Context, b files.Blob, hashes bool) error {
	r, item, err := s.blobs.Open(ctx, originalKey(b.Hash))
	if err != nil {
		return err
	}
	defer r.Close()
	if item.Bytes != b.Bytes {
		return errDamaged
	}
	if !hashes {
		return nil
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, r); err != nil {
		return err
	}
	if hex.EncodeToString(sum.Sum(nil)) != b.Hash {
		return errDamaged
	}
	return nil
}

// orphans finds bytes that are kept and that nobody knows of, older than the grace period.
func (s *Service) orphans(ctx context.Context, remove bool, out *api.FileCheck) error {
	var some []string
	flush := func() error {
		known, err := s.store.Known(ctx, some)
		if err != nil {
			return err
		}
		for _, hash := range some {
			if known[hash] {
				continue
			}
			if len(out.Orphans) < mostTold {
				out.Orphans = append(out.Orphans, hash)
			}
			if remove {
				if err := s.held.Delete(ctx, originalKey(hash)); err != nil {
					return err
				}
				out.Collected++
			}
		}
		some = some[:0]
		return nil
	}
	before := time.Now().Add(-s.config.Grace)
	err := s.blobs.List(ctx, "file/", func(item blob.Item) error {
		if item.At.After(before) {
			return nil
		}
		if some = append(some, strings.TrimPrefix(item.Key, "file/")); len(some) == collectAtOnce {
			return flush()
		}
		return nil
	})
	if err != nil {
		return err
	}
	return flush()
}
