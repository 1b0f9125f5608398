package service

import (
	"strings"
	"testing"

	"ubiquon/internal/blob"
)

// TestObjectStoreIsGuarded names an object store in a network that calls may not go to.
func TestObjectStoreIsGuarded(t *testing.T) {
	o := Options{Data: t.TempDir(), Objects: blob.ObjectStore{Address: "http://127.0.0.1:1", Bucket: "line"}}
	if _, err := o.blobs(t.Context()); err == nil || !strings.Contains(err.Error(), "outbound.allow") {
		t.Errorf("%v; want what allows it", err)
	}
	o.Outbound.Private = true
	if _, err := o.blobs(t.Context()); err == nil || strings.Contains(err.Error(), "outbound.allow") {
		t.Errorf("allowed: %v; want that nobody answers", err)
	}
}
