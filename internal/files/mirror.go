package files

import (
	"context"
	"fmt"
	"net/http"

	"ubiquon/internal/core/content"
	"ubiquon/internal/store/files"
	"ubiquon/internal/store/writing"
)

// Mirror keeps what is at an address of an outside system, and returns the id of its file, which
// is published. What was kept before is asked for conditionally, and where it has not changed
// nothing is written.
func (s *Service) Mirror(ctx context.Context, address, by string, cause content.Cause) (string, error) {
	was, known, err := s.store.Mirrored(ctx, address)
	if err != nil {
		return "", err
	}
	got, err := s.get(ctx, address, was)
	if err != nil {
		return "", fmt.Errorf("the file at %s is not mirrored: %w", address, err)
	}
	defer got.Body.Close()
	if known && got.StatusCode == http.StatusNotModified {
		return was.Entry, nil
	}
	u := Upload{Name: nameOf(address, got.Header), Publish: true, By: by, Cause: cause}
	now := files.Mirror{ETag: got.Header.Get("ETag"), Modified: got.Header.Get("Last-Modified")}
	if known {
		u.Replace = was.Entry
	} else {
		u.ID = content.MakeID("mirrored", "file", address)
	}
	f, err := s.Add(ctx, got.Body, u)
	if err != nil {
		return "", fmt.Errorf("the file at %s is not mirrored: %w", address, err)
	}
	now.Entry = f.ID
	return f.ID, s.store.NoteMirrored(ctx, address, now)
}

// Resolve has the outside files among the fields mirrored: their values refer to files of the
// library from then on.
func (s *Service) Resolve(ctx context.Context, edits []writing.Edit, by string, cause content.Cause) error {
	for i := range edits {
		t := s.replica.Model().Type(edits[i].Type)
		if t == nil {
			continue
		}
		for _, fields := range []content.Fields{edits[i].Save, edits[i].Published} {
			for _, leaf := range content.Leaves(t, fields, false) {
				value, _ := leaf.Value.(map[string]any)
				address, _ := value[content.MirrorMark].(string)
				if address == "" {
					continue
				}
				id, err := s.Mirror(ctx, address, by, cause)
				if err != nil {
					return err
				}
				alt := value["alt"]
				clear(value)
				value["file"] = id
				if alt != nil {
					value["alt"] = alt
				}
			}
		}
	}
	return nil
}
