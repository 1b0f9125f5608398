// Pictures takes the console's pictures for the documentation from a running
// demo: go run ./tools/pictures [-card .ubiquon/demo.json] [-to docs/screenshots].
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/client"
	"ubiquon/internal/demo"
	"ubiquon/internal/store"
	"ubiquon/internal/testkit/browser"
)

func main() {
	card := flag.String("card", ".ubiquon/demo.json", "the demo's card")
	to := flag.String("to", "docs/screenshots", "where the pictures go")
	dark := flag.Bool("dark", false, "dark colours")
	flag.Parse()
	if err := run(*card, *to, *dark); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(cardFile, to string, dark bool) error {
	src, err := os.ReadFile(cardFile)
	if err != nil {
		return err
	}
	var card demo.Card
	if err := json.Unmarshal(src, &card); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	c := &client.Client{Address: card.Gateway, Key: card.Keys.Admin}
	events, err := c.Events(ctx, store.EventFilter{Limit: 20})
	if err != nil {
		return err
	}
	entries, _, err := c.Entries(ctx, store.EntryFilter{Type: "dispatch", Search: "Fog week", Limit: 1})
	if err != nil {
		return err
	}
	pages := []struct{ name, path, ready string }{
		{"console-now", "/", "[data-figure]"},
		{"console-entries", "/entries", "[data-entry]"},
		{"console-events", "/events", "[data-event]"},
		{"console-sites", "/sites", "[data-build]"},
	}
	if len(entries) > 0 {
		pages = append(pages, struct{ name, path, ready string }{"console-entry", "/entries/" + entries[0].ID, "[data-field]"})
	}
	for _, e := range events {
		if e.Trace.Built != nil {
			pages = append(pages, struct{ name, path, ready string }{"console-event", "/events/" + e.ID, "[data-trace-full]"})
			break
		}
	}
	b, stop, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer stop()
	if err := browser.SignIn(b, card.Gateway, card.Keys.Admin, dark); err != nil {
		return err
	}
	for _, p := range pages {
		var png []byte
		if err := chromedp.Do(b, chromedp.Navigate(card.Gateway+"/console"+p.path), chromedp.WaitVisible(chromedp.CSS(p.ready)), chromedp.Sleep(300*time.Millisecond), chromedp.Evaluate[chromedp.Void]("document.fonts.ready"), chromedp.Sleep(300*time.Millisecond)); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		if png, err = chromedp.Run(b, chromedp.CaptureScreenshot()); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		if err := os.WriteFile(filepath.Join(to, p.name+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}
