// Package testkit is what tests share: a PostgreSQL of their own, a small model, and helpers that
// wait for conditions.
package testkit

import (
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"testing"
	"time"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/rendering"
	"ubiquon/internal/store"
	"ubiquon/internal/store/cluster"
	"ubiquon/internal/store/db"
	"ubiquon/internal/store/writing"
)

var database *cluster.Cluster

// Main runs a package's tests with one PostgreSQL server for all of them.
func Main(m *testing.M) {
	rendering.RunIfChild()
	dir, err := os.MkdirTemp("/tmp", "ubiquon-test-")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		database, err = cluster.Start(context.Background(), cluster.Options{Dir: dir, Scratch: true})
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "no PostgreSQL for the tests:", err)
		os.Exit(1)
	}
	code := m.Run()
	database.Stop()
	os.RemoveAll(dir)
	os.Exit(code)
}

// URL is the database of the package's tests.
func URL() string { return database.URL }

// Store opens a store on an environment that nobody else has, with the model.
func Store(t testing.TB, m *model.Model) *store.Store {
	t.Helper()
	s, err := store.Open(
		t.Context(), "t"+strings.ToLower(rand.Text()[:10]), db.Options{URL: database.URL, Log: Log(t)},
	)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.DB.Close)
	if err := s.Writer.ApplyModel(t.Context(), m, content.Cause{Kind: "model"}, writing.ModelOptions{}); err != nil {
		t.Fatal(err)
	}
	return s
}

// Log writes warnings and worse to the test's own output.
func Log(t testing.TB) *slog.Logger {
	return slog.New(slog.NewTextHandler(writer{t}, &slog.HandlerOptions{Level: slog.LevelWarn}))
}

type writer struct{ t testing.TB }

// Write implements io.Writer.
func (w writer) Write(p []byte) (int, error) {
	if w.t.Context().Err() == nil { // after the test's end nobody listens
		w.t.Log(strings.TrimSpace(string(p)))
	}
	return len(p), nil
}

// Model reads a model from one YAML text.
func Model(t testing.TB, text string) *model.Model {
	t.Helper()
	m, err := model.Read(map[string][]byte{"model.yaml": []byte(text)})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// Ferries is a small model with links, translations and a singleton.
const Ferries = `
locales:
  en: {}
  nb: {fallback: [en]}
  ja: {}
types:
  pier:
    plural: piers
    title: name
    fields:
      name: {kind: text, required: true, max: 40}
      slug: {kind: slug, madeFrom: name, unique: true}
  route:
    plural: routes
    title: name
    path: /routes/{slug}
    fields:
      name:   {kind: text, translated: true, required: true}
      slug:   {kind: slug, madeFrom: name}
      number: {kind: integer, min: 1, max: 99}
      piers:  {kind: reference, types: [pier], several: true}
      start:  {kind: reference, types: [pier, route]}
      text:   {kind: prose, translated: true}
      season: {kind: choice, options: {summer: Summer time, winter: Winter time}}
      price:  {kind: money}
      since:  {kind: datetime}
      day:    {kind: date}
      open:   {kind: boolean}
      photo:  {kind: file}
      tags:   {kind: text, several: true, max: 3}
  settings:
    singleton: true
    fields:
      claim: {kind: text, translated: true}
`

// Hit tells whether a Cache-Status says that the answer came out of the cache, and was
// good.
func Hit(status string) bool {
	return status == "Ubiquon; hit" || strings.HasPrefix(status, "Ubiquon; hit; ttl=")
}

// Eventually waits until the condition holds, for a minute at most.
func Eventually(t testing.TB, what string, condition func() bool) {
	t.Helper()
	deadline := time.Now().Add(time.Minute)
	for !condition() {
		if time.Now().After(deadline) {
			t.Fatalf("not in time: %s", what)
		}
		time.Sleep(5 * time.Millisecond)
	}
}
