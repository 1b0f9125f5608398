package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"time"

	"golang.org/x/sync/errgroup"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store/files"
	"ubiquon/internal/store/writing"
)

// Mirror keeps what is at an address of an outside system, and returns the id of its file, which
// is published. What was kept before is asked for conditionally, and where it has not changed
// nothing is written. The same bytes at several addresses are one file, until those of one change.
//
// alt describes a new one in the default locale.
func (s *Service) Mirror(ctx context.Context, address, alt, by string, cause content.Cause) (string, error) {
	was, known, err := s.store.Mirrored(ctx, address)
	if err != nil {
		return "", err
	}
	failed := func(err error) error { return fmt.Errorf("the file at %s is not mirrored: %w", address, err) }
	got, err := s.get(ctx, address, was)
	if err != nil {
		return "", failed(err)
	}
	defer got.Body.Close()
	if known && got.StatusCode == http.StatusNotModified {
		return was.Entry, s.store.NoteMirrored(ctx, address, was)
	}
	path, hash, bytes, err := s.spool(got.Body)
	if err != nil {
		return "", failed(err)
	}
	now := files.Mirror{ETag: got.Header.Get("ETag"), Modified: got.Header.Get("Last-Modified"), Hash: hash}
	same, is := was.Entry, known && was.Hash == hash
	if !is {
		same, is, err = s.store.MirroredAs(ctx, hash)
	}
	if err == nil && is {
		_ = os.Remove(path) // it is kept already
		now.Entry = same
		return same, s.store.NoteMirrored(ctx, address, now)
	}
	shared := false
	if err == nil && known {
		shared, err = s.store.IsAlsoAt(ctx, was.Entry, address)
	}
	if err != nil {
		_ = os.Remove(path) // it is fetched again
		return "", err
	}
	u := Upload{Name: nameOf(address, got.Header), Publish: true, By: by, Cause: cause}
	if known && !shared {
		u.Replace = was.Entry
	} else {
		u.ID = content.MakeID("mirrored", "file", address)
		if shared {
			u.ID = content.MakeID("mirrored", "file", address+" "+hash)
		}
		if alt != "" {
			u.Description = content.Fields{"alt": map[string]any{s.replica.Model().Default(): alt}}
		}
	}
	f, err := s.AddSpooled(ctx, path, hash, bytes, u)
	if err != nil {
		return "", failed(err)
	}
	now.Entry = f.ID
	return f.ID, s.store.NoteMirrored(ctx, address, now)
}

// MirrorOf returns the id of the file that Mirror would return, and keeps nothing.
func (s *Service) MirrorOf(ctx context.Context, address string) (string, error) {
	was, known, err := s.store.Mirrored(ctx, address)
	if err != nil || known {
		return was.Entry, err
	}
	got, err := s.get(ctx, address, files.Mirror{})
	if err != nil {
		return "", err
	}
	defer got.Body.Close()
	h := sha256.New()
	if _, err := io.Copy(h, io.LimitReader(got.Body, s.config.MaxBytes+1)); err != nil {
		return "", err
	}
	same, is, err := s.store.MirroredAs(ctx, hex.EncodeToString(h.Sum(nil)))
	if err == nil && !is {
		same = content.MakeID("mirrored", "file", address)
	}
	return same, err
}

// mirrorsAtOnce bounds the files that are fetched at the same time, and freshFor is for how long
// one is not asked for again when an origin is compared.
const (
	mirrorsAtOnce = 4
	freshFor      = 10 * time.Minute
)

// Resolve has the files mirrored that an origin's mapping has marked: their values refer to files
// of the library from then on. Its error is a content.Problems where an address is the reason.
func (s *Service) Resolve(ctx context.Context, edits []writing.Edit, by string, cause content.Cause) error {
	type place struct {
		entry, path string
		value       map[string]any
	}
	wanted := map[string][]place{}
	for i := range edits {
		t := s.replica.Model().Type(edits[i].Type)
		if t == nil {
			continue
		}
		for _, fields := range []content.Fields{edits[i].Save, edits[i].Published} {
			for _, leaf := range content.Leaves(t, fields, false) {
				value, _ := leaf.Value.(map[string]any)
				if address, _ := value[content.MirrorMark].(string); address != "" {
					wanted[address] = append(wanted[address], place{edits[i].ID, leaf.Path, value})
				}
			}
		}
	}
	var all errgroup.Group
	all.SetLimit(mirrorsAtOnce)
	for address, places := range wanted {
		all.Go(func() error {
			alt, _ := places[0].value["alt"].(string)
			id, err := s.mirrored(ctx, address, alt, by, cause)
			var problem *Problem
			if errors.As(err, &problem) {
				return content.Problems{
					{Entry: places[0].entry, Path: places[0].path, Rule: "mirror", Text: err.Error()},
				}
			} else if err != nil {
				return err
			}
			for _, p := range places {
				delete(p.value, content.MirrorMark)
				p.value["file"] = id
			}
			return nil
		})
	}
	return all.Wait()
}

// mirrored is Mirror, unless that was done a moment ago and nothing says that there is something new.
// Where the outside does not answer, what was mirrored before is good enough.
func (s *Service) mirrored(ctx context.Context, address, alt, by string, cause content.Cause) (string, error) {
	was, known, err := s.store.Mirrored(ctx, address)
	if err != nil {
		return "", err
	}
	if known && cause.Kind != "event" && time.Since(was.Checked) < freshFor {
		return was.Entry, nil
	}
	// Who compares an origin, and what it has just announced, may want the same.
	got, err, _ := s.mirroring.Do(address, func() (any, error) { return s.Mirror(ctx, address, alt, by, cause) })
	id, _ := got.(string)
	var problem *Problem
	if errors.As(err, &problem) && known {
		s.work.Failures.Failed(
			s.log,
			"a file cannot be mirrored again; the previous copy stays",
			"address",
			address,
			"error",
			err,
		)
		return was.Entry, nil
	}
	return id, err
}
