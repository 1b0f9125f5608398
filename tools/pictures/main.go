// Pictures takes the console's pictures for the documentation from a running
// demo: go run ./tools/pictures [-card .ubiquon/demo.json] [-to docs/screenshots].
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/demo"
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

// draft leaves a notice with a draft behind what readers get, if there is none
// yet, and returns its id.
func draft(ctx context.Context, c *client.Client) (string, error) {
	items, _, err := c.Entries().List(ctx, api.EntryFilter{Type: "notice", Search: "Ramp at Mella", Limit: 1})
	if err != nil || len(items) == 0 {
		return "", fmt.Errorf("no notice about the ramp at Mella: %w", err)
	}
	id := items[0].ID
	if items[0].Behind {
		return id, nil
	}
	e, err := c.Entries().Get(ctx, id)
	if err != nil {
		return "", err
	}
	fields := e.Newest
	fields["severity"] = "delay"
	fields["text"] = map[string]any{
		"en": "The ramp is being renewed until the end of March. Use the *stairs on the left*; the crew will help " +
			"with prams and bicycles.",
		"nb": "Rampen fornyes til slutten av mars. Bruk *trappa til venstre*; mannskapet hjelper med barnevogner " +
			"og sykler.",
	}
	_, err = c.Entries().Edit(ctx, api.Edit{ID: id, Type: "notice", Save: fields, Message: "It takes longer " +
		"than planned"})
	return id, err
}

func run(cardFile, to string, dark bool) error {
	src, err := os.ReadFile(cardFile)
	if err != nil {
		return err
	}
	var card demo.ConnectionInfo
	if err := json.Unmarshal(src, &card); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	c := &client.Client{Address: card.Gateway, Key: card.Keys.Admin}
	events, err := c.Origins().Events(ctx, api.EventFilter{Limit: 20})
	if err != nil {
		return err
	}
	ramp, err := draft(ctx, c)
	if err != nil {
		return err
	}
	board, err := opened(ctx, c)
	if err != nil {
		return err
	}
	if links, err := c.Keys().Previews(ctx, ramp); err != nil || len(links) == 0 {
		if _, err := c.Keys().Preview(ctx, ramp, api.PreviewOptions{Minutes: new(600)}); err != nil {
			return err
		}
	}
	pages := []struct{ name, path, ready string }{
		{"console-now", "/", "[data-chart]"},
		{"console-files", "/files", "[data-file]"},
		{"console-type", "/types/page", "[data-field]"},
		{"console-entries", "/entries?type=notice&sort=title", "[data-entry]"},
		{"console-entry", "/entries/" + ramp + "?beside=nb", "[data-field]"},
		{"console-preview", "/entries/" + ramp + "?preview=site", "iframe"},
		{"console-origin", "/origins/tide-tables", "main .cm-content"},
		{"console-keys", "/keys?key=" + board, "[data-key-detail]"},
		{"console-why", "/why?entry=light-run-rests-until-may&locale=ja&key=" + board, "[data-reason]"},
		{
			"console-explorer",
			"/explorer?run=yes&request=" + url.QueryEscape(
				"/notices?fields=title,routes(name,piers(name))&filter=severity = 'delay' AND validUntil > now()",
			),
			"[data-answer='200']",
		},
		{"console-cache", "/cache", "[data-chart]"},
		{"console-sites", "/sites", "[data-build]"},
		{"console-pages", "/sites/skerry-web/pages", "[data-page]"},
		{"console-rules", "/rules?outcome=", "[data-run]"},
		{"console-rule", "/rules/Show%20cancelled%20crossings%20at%20once", "[data-step=mail]"},
	}
	for _, e := range events {
		if e.Trace.Built != nil {
			pages = append(
				pages, struct{ name, path, ready string }{"console-event", "/events/" + e.ID, "[data-trace-full]"},
			)
			break
		}
	}
	b, stop, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer stop()
	if err := browser.SignIn(b, card.Gateway, card.Accounts[0].Email, card.Accounts[0].Password, dark); err != nil {
		return err
	}
	for _, p := range pages {
		var png []byte
		if err := chromedp.Do(b, chromedp.Navigate(card.Gateway+"/console"+p.path),
			chromedp.WaitVisible(chromedp.CSS(p.ready)), chromedp.Sleep(300*time.Millisecond),
			chromedp.Evaluate[chromedp.Void]("document.fonts.ready"),
			chromedp.Sleep(300*time.Millisecond)); err != nil {
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

// opened opens two types, makes a key that is limited, uses it, and returns its id.
func opened(ctx context.Context, c *client.Client) (string, error) {
	if _, err := c.Keys().ChangePublicGrants(ctx, []string{"read published pier", "read published " +
		"route"}, nil); err != nil {
		return "", err
	}
	if k, err := c.Keys().Get(ctx, "pier board"); err == nil {
		return k.ID, nil
	}
	k, secret, err := c.Keys().Create(
		ctx, api.NewKey{Name: "pier board", Grants: []string{"read published notice in nb"}, PerMinute: 600},
	)
	if err != nil {
		return "", err
	}
	for _, path := range []string{
		"notices?locale=nb&fields=title", "notices?locale=nb&fields=title",
		"notices?locale=nb&fields=title", "notices/light-run-rests-until-may?locale=ja",
	} {
		if _, err := (&client.Client{Address: c.Address, Key: secret}).Do(ctx, http.MethodGet,
			"/content/main/published/"+path, nil, nil); err != nil {
			return "", err
		}
	}
	return k.ID, nil
}
